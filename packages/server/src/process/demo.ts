import { randomBytes } from "node:crypto";
import { existsSync, readFileSync } from "node:fs";
import { join } from "node:path";
import type { Message } from "@undercoat/core/message/message";
import type { ConnectionSettings, Pipeline } from "@undercoat/core/pipeline/pipeline";
import { readProject } from "@undercoat/core/pipeline/project";
import { demoNames, isSeeded, plantTrouble, seedDemo } from "@undercoat/demo/demo";
import { makeFares, makeTariff, passTariffHour } from "@undercoat/demo/files";
import { demoProject } from "@undercoat/demo/project";
import { makeTills, passTillHour } from "@undercoat/demo/tills";
import { makeWorkshop, passWorkshopHour, workshopNames } from "@undercoat/demo/workshop";
import { openCrew } from "@undercoat/standins/crew";
import { openDrop } from "@undercoat/standins/drop";
import { openGate } from "@undercoat/standins/gate";
import { openInbox } from "@undercoat/standins/inbox";
import { hasMariaDb, startMariaDb } from "@undercoat/standins/mariadb";
import { openReceiver } from "@undercoat/standins/receiver";
import { openTill } from "@undercoat/standins/till";
import { writeModule } from "../cli/module.ts";
import { requestRuns } from "../jobs/runs.ts";
import { mailServer, setMailServer } from "../messages/mailserver.ts";
import { savePipeline } from "../pipelines/save.ts";
import { seal } from "../secret.ts";
import { type Settings, writePrivate } from "../settings.ts";
import { ConnectionRow, MessageRow, RunRow, UserRow } from "../store/models.ts";
import type { Serving } from "./serve.ts";

type Tell = (text: string) => void;

interface Secrets {
  reader: string;
  loader: string;
  office: string;
  workshop: string;
  drop: string;
  gate: string;
  crew: string;
  northTills: string;
  southTills: string;
}

function secretsOf(settings: Settings): Secrets {
  const file = join(settings.data, "demo.json");
  const kept: Partial<Secrets> = existsSync(file) ? JSON.parse(readFileSync(file, "utf8")) : {};
  const fresh = () => randomBytes(18).toString("base64url");
  const secrets = {
    reader: fresh(),
    loader: fresh(),
    office: fresh(),
    workshop: fresh(),
    drop: fresh(),
    gate: fresh(),
    crew: fresh(),
    northTills: fresh(),
    southTills: fresh(),
    ...kept,
  };
  writePrivate(settings.data, "demo.json", JSON.stringify(secrets));
  return secrets;
}

/** Opens on the port that is meant for it, or on any where that is taken. */
const opened = <T>(open: (port: number) => Promise<T>, port: number): Promise<T> => open(port).catch(() => open(0));

/** Opens the harbour office's receiver and the night desk's mailbox, and tells who they are. */
async function openStandins(serving: Serving, settings: Settings, secret: string, isNew: boolean): Promise<void> {
  const apart = settings.port === 0;
  const receiver = await opened((port) => openReceiver(secret, port), apart ? 0 : 4470);
  const inbox = await opened(openInbox, apart ? 0 : 4471);
  serving.closes(receiver.close);
  serving.closes(inbox.close);
  serving.house.standins = () => ({ mails: inbox.mails(), requests: receiver.requests() });
  // Where the ports are others than at the last start, what was made for them follows.
  const messages: Record<string, Message> = {
    "harbour-office": {
      to: "webhook",
      url: receiver.url,
      headers: { "X-Site": "north" },
      on: ["failed", "disagrees", "finished"],
      pipelines: ["port-gates", "harbour-day"],
    },
    "night-desk": {
      to: "mail",
      address: "night@kestrel.example",
      on: ["failed", "disagrees", "rejected", "late", "drift"],
    },
  };
  for (const [name, definition] of Object.entries(messages)) {
    const row = await MessageRow.findByPk(name);
    if (isNew) await MessageRow.upsert({ name, definition, secret: null });
    else if (row?.definition.to === "webhook")
      await row.update({ definition: { ...row.definition, url: receiver.url } });
  }
  if (isNew)
    await MessageRow.update(
      { secret: seal(settings.key, secret, "message harbour-office") },
      { where: { name: "harbour-office" } },
    );
  const { settings: before } = await mailServer();
  if (isNew || before?.host === "127.0.0.1")
    await setMailServer(
      settings.key,
      { from: "undercoat@kestrel.example", ...before, host: "127.0.0.1", port: inbox.port },
      undefined,
    );
}

/** What happens in an hour of business beside what happens anyway. */
function onHour({ house }: Serving, happens: () => Promise<void> | void): void {
  const { passHour } = house;
  house.passHour =
    passHour &&
    (async () => {
      await passHour();
      await happens();
    });
}

/** Keeps a connection at a stand-in's port, which may differ from start to start; one that was taken away stays away. */
async function follow(
  settings: Settings,
  isNew: boolean,
  name: string,
  of: ConnectionSettings,
  password: string,
): Promise<void> {
  if (isNew || (await ConnectionRow.findByPk(name)))
    await ConnectionRow.upsert({ name, settings: of, secret: seal(settings.key, password, name) });
}

/** The ports' tills leave their files in a drop. */
async function openTills(serving: Serving, settings: Settings, password: string, isNew: boolean): Promise<void> {
  const folder = join(settings.data, "drop");
  makeTills(folder);
  const keyFile = join(settings.data, "drop.key");
  const drop = await opened(
    (port) => openDrop({ folder, user: "tills", password, keyFile }, port),
    settings.port === 0 ? 0 : 4472,
  );
  serving.closes(drop.close);
  onHour(serving, () => passTillHour(folder));
  const host = { host: "127.0.0.1", port: drop.port, user: "tills", hostKey: drop.fingerprint };
  await follow(settings, isNew, "drop", { kind: "sftp", ...host, path: "/" }, password);
}

/** The Workshop's database, where its server is installed. */
async function openWorkshop(
  serving: Serving,
  settings: Settings,
  password: string,
  isNew: boolean,
  tell: Tell,
): Promise<void> {
  if (!hasMariaDb())
    return tell("The Workshop stays closed: MariaDB is not installed (Debian's package mariadb-server)");
  const server = await startMariaDb(join(settings.data, "workshop"), ["--innodb-buffer-pool-size=64M"]);
  serving.closes(server.stop);
  await makeWorkshop(server, password);
  onHour(serving, () => passWorkshopHour(server));
  const { database, reader: user } = workshopNames;
  const at = { host: "127.0.0.1", port: server.port, database, user };
  await follow(settings, isNew, "workshop", { kind: "mariadb", ...at, tls: "off" }, password);
}

/** The Gate service, an application of the ports. */
async function openGates(serving: Serving, settings: Settings, secret: string, isNew: boolean): Promise<void> {
  const gate = await opened(
    (port) => openGate({ port, secret, file: join(settings.data, "gate.json") }),
    settings.port === 0 ? 0 : 4460,
  );
  serving.closes(gate.close);
  onHour(serving, () => void gate.passHour());
  const token = new URL("/oauth/token", gate.url).href;
  const oauth = {
    grant: "client_credentials" as const,
    token,
    client: gate.client,
    scopes: ["scans.read", "incidents.read", "incidents.write"],
  };
  await follow(
    settings,
    isNew,
    "gate",
    { kind: "http", url: gate.url, describe: "/openapi.json", auth: { oauth } },
    secret,
  );
}

/** The Crew office, a service of OData. */
async function openOffice(serving: Serving, settings: Settings, password: string, isNew: boolean): Promise<void> {
  const crew = await opened((port) => openCrew({ port, password }), settings.port === 0 ? 0 : 4461);
  serving.closes(crew.close);
  onHour(serving, () => void crew.passHour());
  await follow(
    settings,
    isNew,
    "crew",
    { kind: "odata", url: crew.url, auth: { basic: { user: crew.user } } },
    password,
  );
}

/** The Till reports, which two accounts are read from. */
async function openReports(
  serving: Serving,
  settings: Settings,
  keys: { north: string; south: string },
  isNew: boolean,
): Promise<void> {
  const till = await opened((port) => openTill({ port, keys }), settings.port === 0 ? 0 : 4462);
  serving.closes(till.close);
  onHour(serving, () => void till.passHour());
  for (const { name, key } of till.accounts)
    await follow(
      settings,
      isNew,
      `till-${name}`,
      { kind: "http", url: till.url, describe: "/openapi.json", auth: { key: { header: "X-Api-Key" } } },
      key,
    );
}

/** Sets the demo up where that is still to do: rows, account, connections, pipelines, first loads and the planted trouble. */
export async function furnishDemo(serving: Serving, settings: Settings, tell: Tell): Promise<void> {
  const url = serving.databaseUrl;
  if (!url || serving.clusterPort === null)
    throw new Error("The demo needs the private cluster; unset UNDERCOAT_DATABASE_URL.");
  const secrets = secretsOf(settings);
  if (!(await isSeeded(url("postgres"), url(demoNames.bookings)))) {
    tell("Kestrel Sound Ferries opens its books");
    await seedDemo(
      { admin: url("postgres"), bookings: url(demoNames.bookings), warehouse: url(demoNames.warehouse) },
      secrets,
      (makes) => tell(`  ${makes}`),
    );
  }
  await UserRow.findOrCreate({
    where: { login: "ada" },
    defaults: { login: "ada", name: "Ada Vik", role: "administrator", password: null, active: true },
  });
  const connection = (database: string, user: string): ConnectionSettings => ({
    kind: "postgres",
    host: "127.0.0.1",
    port: serving.clusterPort ?? 0,
    database,
    user,
    tls: "off",
  });
  const known = await ConnectionRow.count();
  // The private cluster's port may differ from start to start, so the demo's two connections follow it.
  for (const [name, settingsOf, password] of [
    ["bookings", connection("bookings", demoNames.reader), secrets.reader],
    ["warehouse", connection("warehouse", demoNames.loader), secrets.loader],
  ] as const)
    if (known === 0 || (await ConnectionRow.findByPk(name)))
      await ConnectionRow.upsert({ name, settings: settingsOf, secret: seal(settings.key, password, name) });
  const [folder] = settings.files;
  if (folder !== undefined) {
    makeFares(folder);
    await makeTariff(folder);
    onHour(serving, () => passTariffHour(folder));
    if (known === 0)
      await ConnectionRow.upsert({ name: "fares", settings: { kind: "files", path: "fares" }, secret: null });
  }
  await openGates(serving, settings, secrets.gate, known === 0);
  if (!existsSync(join(settings.modules, "tides.mjs"))) writeModule(settings.modules, "tides");
  if (known === 0)
    await ConnectionRow.upsert({
      name: "tides",
      settings: { kind: "module", file: "tides.mjs", settings: { station: "KIL" } },
      secret: null,
    });
  await openOffice(serving, settings, secrets.crew, known === 0);
  await openReports(serving, settings, { north: secrets.northTills, south: secrets.southTills }, known === 0);
  await openTills(serving, settings, secrets.drop, known === 0);
  await openWorkshop(serving, settings, secrets.workshop, known === 0, tell);
  await openStandins(serving, settings, secrets.office, known === 0);
  if (known === 0) await firstLoads(serving, url(demoNames.bookings), tell);
}

async function firstLoads({ house: { store, queue } }: Serving, bookings: string, tell: Tell): Promise<void> {
  const { project, problems } = readProject(demoProject);
  if (!project) throw new Error(problems[0]?.message);
  // What has no source here is left out.
  const there = new Set((await ConnectionRow.findAll()).map(({ name }) => name));
  const pipelines = Object.entries(project.pipelines ?? {}).filter(([, { loads }]) =>
    Object.values(loads).every(({ from }) => there.has(from.connection) || from.connection.includes("{")),
  );
  for (const [name, definition] of pipelines) await savePipeline(store, name, definition as Pipeline, { by: null });
  tell("Undercoat loads them for the first time");
  const run = async (pipeline: string, kind: "load" | "prove") => {
    const sets = Object.keys(project.pipelines?.[pipeline]?.values ?? {});
    const runs = await requestRuns(
      store,
      queue,
      { pipeline, kind, scope: { kind: "due" }, reason: "by the demo", requestedBy: null },
      sets.length ? sets.map((set) => ({ set })) : [{}],
    );
    for (const { id } of runs)
      for (;;) {
        const row = await RunRow.findByPk(id, { rejectOnEmpty: true });
        if (row.status === "finished") break;
        if (row.status === "failed" || row.status === "cancelled")
          throw new Error(row.failure?.message ?? `Run ${id} was ${row.status}`);
        await new Promise((resolve) => setTimeout(resolve, 100));
      }
  };
  for (const [name] of pipelines) {
    await run(name, "load");
    tell(`  ${name}`);
  }
  await plantTrouble(bookings);
  await run("payments", "prove");
}
