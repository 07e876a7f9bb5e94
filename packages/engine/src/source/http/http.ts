import { kindOf } from "@undercoat/core/connection/kinds";
import type {
  Dataset,
  DatasetSummary,
  Glance,
  Proposal,
  Scan,
  ScanProgress,
  TimeColumn,
} from "@undercoat/core/dataset/dataset";
import { type ApiDescription, type ApiResource, type ApiSignIn, readOpenApi } from "@undercoat/core/http/openapi";
import { cutPeriods, declaredDays, forPeriod, lookedFor, periodsOf } from "@undercoat/core/http/periods";
import { askedSince } from "@undercoat/core/http/since";
import type { From, GoneForm } from "@undercoat/core/pipeline/pipeline";
import type { TableName } from "@undercoat/core/sql/identifier";
import { shortType } from "@undercoat/core/sql/type";
import { type CheckStep, networkSteps, runSteps, type Step } from "../../connection/check.ts";
import type { CredentialsOf, Row } from "../../connection/credentials.ts";
import { Cancelled, LoadFailure } from "../../failure.ts";
import { HttpClient, shownAddress } from "../../http/client.ts";
import { destination } from "../../http/reach.ts";
import { bearerOf } from "../../http/token.ts";
import { httpTeller } from "../../mark/http.ts";
import type { Teller } from "../../mark/teller.ts";
import { Fitting } from "../files/shaped.ts";
import { jsonRecord, MemberNames, rowOf } from "../members.ts";
import type { Snapshot, SnapshotOptions, Source } from "../source.ts";
import { pagesOf, unheard } from "./pages.ts";
import { lastDayCounts, propose } from "./propose.ts";
import { HttpSnapshot, readingOf, rowsOf } from "./snapshot.ts";
import { Spool } from "./spool.ts";
import { timesOf } from "./times.ts";

/** How a description asks to be signed in to, in words. */
const wayWords = {
  basic: "a user and a password",
  bearer: "a bearer token",
  key: "a key in a header",
  oauth: "OAuth 2",
};

/** A description as it was answered. @throws LoadFailure where it is none */
async function readDescription(address: string, body: Buffer): Promise<ApiDescription> {
  try {
    return readOpenApi(body.toString("utf8"));
  } catch (error) {
    if (!(error instanceof RangeError)) throw error;
    throw new LoadFailure({
      message: `${address}: ${error.message}`,
      hint: "Leave the description out, or name another.",
    });
  }
}

/** How long an application's description is taken to stand, in milliseconds. */
const lasting = 60_000;
const descriptions = new Map<string, { at: number; read: Promise<ApiDescription> }>();

/** A list of the deleted, as its own description tells of it. */
const listOf = ({ path, records, page, since }: ApiResource): GoneForm => ({
  path,
  ...(records ? { records } : {}),
  ...(page ? { page } : {}),
  ...(since ? { since } : {}),
});

/** How a report of the last month is asked for day by day, by what its ends are called. */
const askedByDay = ({ parameters, period }: From, { from, to }: { from: string; to: string }): Partial<From> => ({
  parameters: { ...parameters, [from]: "today-P30D", [to]: "today", split: "day" },
  ...(from === "from" && to === "to" ? {} : { period: { ...period, from, to } }),
});

/** What is asked for all that a load reads: of a report one address a period, the latest last. */
function reportsOf(from: From): From[] {
  const periods = periodsOf(from);
  if (!periods) return [askedSince(from, null)];
  const days = lookedFor(declaredDays(periods, Date.now(), "UTC"), periods.unit);
  return cutPeriods(days, periods.unit).map((period) => forPeriod(from, period));
}

/** An application that is asked by HTTP, as a source. It answers nothing of its records: these are received and asked there. */
export class HttpSource implements Source {
  private readonly client: HttpClient;

  constructor(private readonly credentials: CredentialsOf<"http">) {
    this.client = new HttpClient(credentials);
  }

  async check(asWarehouse: boolean, tell: (step: CheckStep) => void): Promise<boolean> {
    const { settings, name } = this.credentials;
    const { auth, describe } = settings;
    const at = destination(new URL(settings.url));
    const steps: Step[] = [
      ...networkSteps(at),
      [
        "sign in",
        async () => {
          if (!auth) return { fact: "nothing to sign in with", skipped: true };
          if (!auth.oauth)
            return { fact: `${kindOf(settings).manner(settings)}: tried with the first page`, skipped: true };
          await bearerOf(this.credentials);
          const { scopes } = auth.oauth;
          return { fact: `a token was given${scopes?.length ? ` for ${scopes.join(", ")}` : ""}` };
        },
      ],
      [
        "description",
        async () => {
          if (!describe) return { fact: "none is named: paths are looked at one by one", skipped: true };
          const { title, resources, signIn } = await this.description(true);
          const ways = [...new Set(signIn.map(({ way }) => wayWords[way]))].join(" or ");
          return { fact: `${title}: ${resources.length} paths give records${ways ? `; it asks for ${ways}` : ""}` };
        },
      ],
      [
        "read",
        async () => {
          const [first] = describe ? (await this.description()).resources : [];
          if (!first) {
            const { status } = await this.client
              .ask({ address: this.client.address("/"), accept: "*/*" })
              .catch((error: unknown) => {
                // That nothing stands at the root says nothing of what stands below.
                if (error instanceof LoadFailure && / answered 40[45] /.test(error.failure.message))
                  return { status: 404 };
                throw error;
              });
            return status === 404
              ? { fact: "nothing stands at the address itself", skipped: true }
              : { fact: `it answers ${status}` };
          }
          const rows = await this.firstRows({ schema: ".", table: first.path }, 10);
          return { fact: `${first.path} gives ${rows.length === 0 ? "no records now" : "records"}` };
        },
      ],
      [
        "write",
        async () => {
          if (!asWarehouse) return { fact: "not asked for: used as a source only", skipped: true };
          throw new LoadFailure({ message: "An application is a source only; a warehouse is PostgreSQL" });
        },
      ],
    ];
    return runSteps({ name, ...at }, steps, tell);
  }

  /** What the application says of itself. @throws LoadFailure where that can't be read */
  private description(anew = false): Promise<ApiDescription> {
    const { describe = "" } = this.credentials.settings;
    const address = /^https?:/.test(describe) ? describe : this.client.address(describe);
    const key = `${this.credentials.name} ${address}`;
    const known = descriptions.get(key);
    if (known && !anew && Date.now() - known.at < lasting) return known.read;
    const read = this.client
      .ask({ address, accept: "application/json, application/yaml;q=0.9, */*;q=0.1" })
      .then(({ body }) => readDescription(address, body))
      .catch((error: unknown) => {
        descriptions.delete(key);
        throw error;
      });
    descriptions.set(key, { at: Date.now(), read });
    return read;
  }

  /** How its description says that it is signed in to; where tokens are given is told from where the description is. */
  async signIn(): Promise<{ title: string; ways: ApiSignIn[] }> {
    const { auth: _, ...bare } = this.credentials.settings;
    const { describe } = bare;
    if (!describe)
      throw new LoadFailure({ message: "No description is named", hint: "Name one: its address, or a path below." });
    const bareClient = new HttpClient({ ...this.credentials, settings: bare });
    const address = /^https?:/.test(describe) ? describe : bareClient.address(describe);
    const { body } = await bareClient.ask({ address, accept: "application/json, application/yaml;q=0.9, */*;q=0.1" });
    const { title, signIn } = await readDescription(address, body);
    const at = (text: string) => new URL(text, address).href;
    const ways = signIn.map(
      (way): ApiSignIn =>
        way.way === "oauth"
          ? {
              ...way,
              oauth: {
                ...way.oauth,
                token: at(way.oauth.token),
                ...(way.oauth.authorize ? { authorize: at(way.oauth.authorize) } : {}),
              },
            }
          : way,
    );
    return { title, ways };
  }

  private async resource(path: string): Promise<ApiResource | null> {
    if (!this.credentials.settings.describe) return null;
    return (await this.description()).resources.find((one) => one.path === path) ?? null;
  }

  async datasets(): Promise<DatasetSummary[]> {
    if (!this.credentials.settings.describe) return [];
    return (await this.description()).resources.map(({ path, summary }) => ({
      schema: ".",
      name: path,
      kind: "resource",
      rows: null,
      bytes: null,
      comment: summary,
    }));
  }

  /** The list of what has been deleted of a path's records, where the description has one right below it. */
  private async listed({ gone }: From, { path, key }: ApiResource): Promise<Pick<From, "gone">> {
    const list = gone ? null : await this.resource(`${path}/deleted`);
    return list && list.key === key ? { gone: listOf(list) } : {};
  }

  /** What the description says of a path that is named alone. */
  private async described(from: From): Promise<From | null> {
    const found = from.path === undefined || from.page || from.records ? null : await this.resource(from.path);
    if (!found) return null;
    const { records, page, since, days } = found;
    return {
      ...from,
      ...(records ? { records } : {}),
      ...(page ? { page } : {}),
      ...(since ? { since } : {}),
      ...(await this.listed(from, found)),
      ...(days && !periodsOf(from) ? askedByDay(from, days) : {}),
    };
  }

  async completed(from: From): Promise<From> {
    const bare = from.page === undefined && from.records === undefined && from.since === undefined;
    if (!bare) return from;
    const { signal } = new AbortController();
    const described = await this.described(from);
    if (!described) return (await propose(this.client, from, null, signal)).from;
    return (await lastDayCounts(this.client, described, signal))?.from ?? described;
  }

  private async named(table: TableName): Promise<From> {
    const from = { connection: this.credentials.name, path: table.table };
    return (await this.described(from)) ?? from;
  }

  async dataset(table: TableName): Promise<Dataset> {
    return (await this.snapshot("")).describe(await this.named(table));
  }

  async firstRows(table: TableName, limit: number): Promise<Row[]> {
    const from = await this.named(table);
    const { records } = await (await this.open()).first(from);
    return records.slice(0, limit).flatMap((text, at) => {
      const record = jsonRecord(text, at + 1, false);
      return "fault" in record ? [] : [Object.fromEntries(record.values)];
    });
  }

  async timeColumns(table: TableName): Promise<TimeColumn[]> {
    return timesOf(await this.dataset(table));
  }

  async arrivals(): Promise<null> {
    return null;
  }

  async glance(from: From): Promise<Glance> {
    const snapshot = await this.open();
    const { records, address } = await snapshot.first(from);
    const { columns } = await snapshot.describe(from);
    const { choices = [] } = (await this.resource(from.path ?? "")) ?? {};
    const shown = records.slice(0, 12);
    const own = [from.origin, periodsOf(from)?.column];
    const told = columns.filter(({ name }) => !own.includes(name));
    const names = told.map(({ name }) => name);
    const row = rowOf(names, from.flatten ?? false, "no record that was looked at");
    return {
      file: shownAddress(address),
      files: 1,
      sheet: null,
      form: null,
      ...(choices.length ? { choices } : {}),
      raw: shown.map((text) => text.replace(/\s+/g, " ")),
      columns: told.map(({ name, fits = "text" }) => ({ name, type: shortType(fits) })),
      rows: shown.map((text, at) => {
        const { fields, fault } = row(jsonRecord(text, at + 1, from.flatten ?? false));
        return { fields: fault === null ? fields : [text], fault };
      }),
    };
  }

  async propose(from: From, signal: AbortSignal): Promise<Proposal> {
    const described = await this.resource(from.path ?? "");
    const asked = described?.days && !periodsOf(from) ? { ...from, ...askedByDay(from, described.days) } : from;
    const { parameters } = asked;
    const found = await propose(this.client, reportsOf(asked).at(-1) ?? asked, described, signal);
    const proposal = {
      ...found,
      from: {
        ...found.from,
        ...(parameters ? { parameters } : {}),
        ...(described ? await this.listed(from, described) : {}),
      },
    };
    const told = await lastDayCounts(this.client, proposal.from, signal);
    return told ? { ...proposal, from: told.from, tried: [...proposal.tried, told] } : proposal;
  }

  /** Reads every page; what was read is kept for the load that follows. */
  async scan(from: From, tell: (progress: ScanProgress) => void, signal: AbortSignal): Promise<Scan> {
    const { name } = this.credentials;
    let bytes = 0;
    const ask = (address: string) =>
      this.client.ask({ address, patient: true, signal, told: (asked) => (bytes += asked.bytes) });
    const flatten = from.flatten ?? false;
    const fitting = new Fitting();
    const found = new MemberNames(flatten);
    for (const asked of reportsOf(from)) {
      const address = this.client.addressOf(asked);
      const spool = await Spool.open(readingOf(name, address, from));
      await spool?.clear();
      for await (const { records: given } of pagesOf({ name, from, ask, spool, all: true, ...unheard }, address)) {
        if (signal.aborted) throw new Cancelled("Cancelled");
        const records = rowsOf(from, given);
        const taken = records.map((text, at) => jsonRecord(text, at + 1, flatten));
        for (const record of taken) found.add(record);
        const { names } = found;
        fitting.take(names, taken.map(rowOf(names, flatten, "no record")));
        tell({ rows: fitting.rows, bytes, of: 0 });
      }
    }
    const kept = new Set(found.names);
    const types = fitting.columns(".").filter((column) => kept.has(column.name));
    return {
      rows: fitting.rows,
      faults: fitting.faults,
      types: Object.fromEntries(types.map(({ name: column, fits }) => [column, fits])),
    };
  }

  private async open({ after, waiting, note, signal, goesOn = false }: SnapshotOptions = {}): Promise<HttpSnapshot> {
    await after;
    return new HttpSnapshot({
      name: this.credentials.name,
      client: this.client,
      // Of what a record holds as a list its description says nothing.
      resource: async ({ path = "", each }) => (each === undefined ? this.resource(path) : null),
      goesOn,
      waiting,
      note,
      signal,
    });
  }

  async teller(signal: AbortSignal): Promise<Teller> {
    return httpTeller(this.credentials, signal);
  }

  snapshot(_application: string, options: SnapshotOptions = {}): Promise<Snapshot> {
    return this.open(options);
  }
}
