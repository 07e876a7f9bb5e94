import { kindOf, partedOf, sameAddress } from "@undercoat/core/connection/kinds";
import { type MailServer, type Message, sameReceiver } from "@undercoat/core/message/message";
import { connectionsOf } from "@undercoat/core/parameter/resolve";
import { changesBetween, changeWords } from "@undercoat/core/pipeline/changes";
import { orderedPipeline } from "@undercoat/core/pipeline/ordered";
import type { ConnectionSettings, Pipeline } from "@undercoat/core/pipeline/pipeline";
import {
  type GivenSecret,
  locateAmong,
  type Project,
  type ProjectFile,
  readProjects,
  writeProject,
} from "@undercoat/core/pipeline/project";
import type { Problem } from "@undercoat/core/pipeline/schema";
import Joi from "joi";
import type { Transaction } from "sequelize";
import { asks, requires, routes, signedIn, takes } from "../context.ts";
import { keepsPassword, mailAccess, mailServer, setMailServer } from "../messages/mailserver.ts";
import { secretOf } from "../messages/postman.ts";
import { savePipeline } from "../pipelines/save.ts";
import { HttpProblem, notFound } from "../problem.ts";
import { seal } from "../secret.ts";
import { ConnectionRow, MessageRow, PipelineRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { type ConnectionBook, definitionProblems } from "./definition.ts";

interface Change {
  what: "connection" | "message" | "mail" | "pipeline";
  name: string;
  change: "created" | "updated" | "unchanged";
  /** of a pipeline that is updated, what about it */
  says?: string;
}

interface GivenConnection {
  name: string;
  settings: ConnectionSettings;
  /** undefined where the file gives none, so that the stored one stays */
  password: string | undefined;
}

interface GivenMessage {
  name: string;
  definition: Message;
  /** undefined where the file gives none, so that the stored one stays */
  secret: string | undefined;
}

interface Givens {
  connections: GivenConnection[];
  messages: GivenMessage[];
  mail: { settings: MailServer; password: string | undefined } | null;
}

/** What the file gives, with secrets taken from the caller's environment where the file says so. */
function givensOf(project: Project, environment: Record<string, string>): { given: Givens; problems: Problem[] } {
  const problems: Problem[] = [];
  const opened = (secret: GivenSecret | undefined, path: string[]): string | undefined => {
    if (secret === undefined || typeof secret === "string") return secret;
    if (environment[secret.env] === undefined)
      problems.push({ path, message: `The environment variable ${secret.env} is not set` });
    return environment[secret.env];
  };
  const connections = Object.entries(project.connections ?? {}).map(([name, given]) => {
    const { settings, password } = partedOf(given);
    return {
      name,
      settings: { ...kindOf(settings).defaults, ...settings } as ConnectionSettings,
      password: opened(password, ["connections", name, "password"]),
    };
  });
  const messages = Object.entries(project.messages ?? {}).map(([name, { secret, ...definition }]) => {
    const given = opened(secret, ["messages", name, "secret"]);
    if (given !== undefined && given.length < 16)
      problems.push({ path: ["messages", name, "secret"], message: "The secret has fewer than 16 characters" });
    return { name, definition, secret: given };
  });
  const { password, ...settings } = project.mail ?? { host: "", port: 0, from: "" };
  const mail = project.mail ? { settings, password: opened(password, ["mail", "password"]) } : null;
  return { given: { connections, messages, mail }, problems };
}

/** What the file changes about messages and mail. */
async function messageChanges(
  key: Buffer,
  { messages, mail }: Givens,
): Promise<{ problems: Problem[]; changes: Change[] }> {
  const problems: Problem[] = [];
  const changes: Change[] = [];
  for (const { name, definition, secret } of messages) {
    const row = await MessageRow.findByPk(name);
    if (row?.secret && secret === undefined && !sameReceiver(row.definition, definition))
      problems.push({ path: ["messages", name], message: "The address changes, so the secret must be given again" });
    const same =
      row !== null &&
      canonical(row.definition) === canonical(definition) &&
      (secret === undefined || secret === secretOf(key, row));
    changes.push({ what: "message", name, change: !row ? "created" : same ? "unchanged" : "updated" });
  }
  if (mail) {
    const before = await mailAccess(key);
    if (before?.password && mail.password === undefined && !(await keepsPassword(mail.settings)))
      problems.push({
        path: ["mail"],
        message: "Host, port, user or TLS changes, so the password must be given again",
      });
    const same =
      before !== null &&
      canonical(before.settings) === canonical(mail.settings) &&
      (mail.password === undefined || mail.password === before.password);
    changes.push({
      what: "mail",
      name: mail.settings.host,
      change: !before ? "created" : same ? "unchanged" : "updated",
    });
  }
  return { problems, changes };
}

/** Writes a file's connections, messages and mail. */
async function writeGiven(
  key: Buffer,
  { connections, messages, mail }: Givens,
  transaction: Transaction,
): Promise<void> {
  for (const { name, settings, password } of connections)
    await ConnectionRow.upsert(
      { name, settings, ...(password === undefined ? {} : { secret: seal(key, password, name) }) } as ConnectionRow,
      { transaction, ...(password === undefined ? { fields: ["name", "settings"] } : {}) },
    );
  for (const { name, definition, secret } of messages)
    await MessageRow.upsert(
      { name, definition, ...(secret === undefined ? {} : { secret: seal(key, secret, `message ${name}`) }) },
      { transaction, ...(secret === undefined ? { fields: ["name", "definition"] } : {}) },
    );
  if (mail) await setMailServer(key, mail.settings, mail.password, transaction);
}

/** The stored connections with the file's laid over them. */
async function laidOver(
  store: Store,
  given: GivenConnection[],
  definitions: readonly [string, Pipeline][],
): Promise<{ book: ConnectionBook; problems: Problem[]; changes: Change[] }> {
  const problems: Problem[] = [];
  const changes: Change[] = [];
  const known = new Map<string, { name: string; settings: ConnectionSettings; password: string }>();
  for (const { name, settings, password } of given) {
    const row = await ConnectionRow.findByPk(name);
    const stored = row ? await store.credentials(name) : null;
    known.set(name, { name, settings, password: password ?? stored?.password ?? "" });
    if (!row || !stored) {
      changes.push({ what: "connection", name, change: "created" });
      continue;
    }
    if (!sameAddress(row.settings, settings) && password === undefined && row.secret !== null)
      problems.push({
        path: ["connections", name],
        message: "The address, database, user or TLS changes, so the password must be given again",
      });
    const same =
      canonical(row.settings) === canonical(settings) && (password === undefined || password === stored.password);
    changes.push({ what: "connection", name, change: same ? "unchanged" : "updated" });
  }
  const book: ConnectionBook = {
    connectionNames: async () => [...(await store.connectionNames()), ...known.keys()],
    credentials: async (name) => known.get(name) ?? store.credentials(name),
    pipelines: async () => new Map([...(await store.pipelines()), ...definitions]),
  };
  return { book, problems, changes };
}

/** The project file: applied whole or not at all, and exported. */
export const project = routes()
  .use(requires("viewer"))
  .post(
    "/",
    requires("editor"),
    takes<{ text?: string; files?: ProjectFile[]; environment?: Record<string, string>; check?: boolean }>(
      Joi.object({
        check: Joi.boolean(),
        text: Joi.string().max(5_000_000),
        files: Joi.array()
          .items(
            Joi.object({
              file: Joi.string().max(1000).required(),
              text: Joi.string().allow("").max(5_000_000).required(),
            }),
          )
          .min(1)
          .max(1000),
        environment: Joi.object().pattern(Joi.string(), Joi.string().allow("")),
      }).xor("text", "files"),
    ),
    async (c) => {
      const { store, settings } = c.get("house");
      const asked = c.req.valid("json");
      const files = asked.files ?? [{ file: "", text: asked.text ?? "" }];
      const { project: read, problems } = readProjects(files);
      const refuse = (wrong: Problem[]) => {
        if (wrong.length)
          throw new HttpProblem(422, files.length > 1 ? "The files are wrong" : "The file is wrong", {
            problems: locateAmong(files, wrong),
          });
      };
      if (!read)
        throw new HttpProblem(422, files.length > 1 ? "The files are wrong" : "The file is wrong", { problems });
      const { given: givens, problems: unset } = givensOf(read, asked.environment ?? {});
      refuse(unset);
      const given = givens.connections;
      const definitions = Object.entries(read.pipelines ?? {}).map(([name, entry]): [string, Pipeline] => [
        name,
        { ...entry, title: entry.title ?? name },
      ]);
      const { book, problems: misplaced, changes } = await laidOver(store, given, definitions);
      const told = await messageChanges(settings.key, givens);
      refuse([...misplaced, ...told.problems]);
      changes.push(...told.changes);
      if (signedIn(c).role !== "administrator") {
        const rows = new Map(
          (await ConnectionRow.findAll()).map(({ name, settings: held }) => [name, kindOf(held).reserved(held)]),
        );
        const listing = given.find(
          ({ name, settings: asked }) =>
            JSON.stringify(kindOf(asked).reserved(asked)) !== JSON.stringify(rows.get(name) ?? []),
        );
        if (listing)
          throw new HttpProblem(
            403,
            `Only an administrator lists the functions that queries may call, and lets loads write marks (${listing.name})`,
          );
      }
      for (const [name, definition] of definitions)
        refuse(
          (await definitionProblems(book, name, definition)).map((problem) => ({
            ...problem,
            path: ["pipelines", name, ...problem.path],
          })),
        );
      await store.sequelize.transaction(async (transaction) => {
        if (!asked.check) await writeGiven(settings.key, givens, transaction);
        for (const [name, definition] of definitions) {
          const row = await PipelineRow.findByPk(name, { transaction });
          const same =
            row !== null &&
            JSON.stringify(orderedPipeline(row.definition)) === JSON.stringify(orderedPipeline(definition));
          if (!same && !asked.check)
            await savePipeline(store, name, definition, {
              by: signedIn(c).name,
              transaction,
              before: row?.updatedAt ?? null,
            });
          changes.push({
            what: "pipeline",
            name,
            change: !row ? "created" : same ? "unchanged" : "updated",
            ...(row && !same ? { says: changeWords(changesBetween(row.definition, definition)) } : {}),
          });
        }
      });
      if (!asked.check)
        for (const what of ["connections", "messages"] as const) await store.tell({ kind: "changed", what });
      return c.json({ changes });
    },
  )
  .get("/", asks("pipeline"), async (c) => {
    const { pipeline: only } = c.req.valid("query");
    const rows = await PipelineRow.findAll({ where: only ? { name: only } : {}, order: ["name"] });
    if (only && rows.length === 0) throw notFound(`pipeline ${only}`);
    const used = new Set(
      rows.flatMap((row) => {
        const { sources, warehouses } = connectionsOf(row.definition, Date.now());
        return [...sources, ...warehouses];
      }),
    );
    const told = await MessageRow.findAll({ order: ["name"] });
    const kept = (await ConnectionRow.findAll({ order: ["name"] })).filter((row) => !only || used.has(row.name));
    return c.json({
      text: writeProject({
        connections: Object.fromEntries(kept.map((row) => [row.name, row.settings])),
        pipelines: Object.fromEntries(rows.map((row) => [row.name, row.definition])),
        // Those of one pipeline are everybody's.
        messages: only ? {} : Object.fromEntries(told.map((row) => [row.name, row.definition])),
        mail: only ? null : (await mailServer()).settings,
      }),
    });
  });

/** JSON with its names in order, so that two of one content are one text. */
function canonical(value: object): string {
  return JSON.stringify(Object.entries(value).sort(([a], [b]) => (a < b ? -1 : 1)));
}
