import { readFile, realpath, stat } from "node:fs/promises";
import { join, sep } from "node:path";
import type { Dataset, DatasetSummary, TimeColumn } from "@undercoat/core/dataset/dataset";
import { sinceValue } from "@undercoat/core/http/since";
import type { From } from "@undercoat/core/pipeline/pipeline";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import type { Window } from "@undercoat/core/plan/window";
import type { TableName } from "@undercoat/core/sql/identifier";
import { canonicalType } from "@undercoat/core/sql/type";
import { type CheckStep, runSteps } from "../../connection/check.ts";
import type { CredentialsOf, Row } from "../../connection/credentials.ts";
import { LoadFailure, NoTable } from "../../failure.ts";
import { HttpClient } from "../../http/client.ts";
import { timesOf } from "../http/times.ts";
import { jsonRecord, memberColumns, rowOf } from "../members.ts";
import { recordLines, recordStream } from "../records.ts";
import type { RowStream, Snapshot, SnapshotOptions, Source } from "../source.ts";
import { Whole } from "../whole.ts";
import { asked, javascript, type ModuleHost } from "./process.ts";

/** What a module says of a set of records that it reads. */
interface Described {
  name: string;
  fields: Record<string, string>;
  key: string[];
  changes: string | null;
}

/** So many records are looked at for what they are made of. */
const sampled = 500;
const usual = { seconds: 600, megabytes: 256 };

let folder: string | null = null;

/** Says where users' modules lie from now on. */
export function modulesIn(path: string): void {
  folder = path;
}

/** A module's text. @throws LoadFailure where there is none of that name */
export async function moduleText(file: string): Promise<string> {
  const none = () =>
    new LoadFailure({
      message: `There is no module ${file}`,
      hint: "Modules lie in the folder that the administrator names (UNDERCOAT_MODULES).",
    });
  if (folder === null) throw none();
  const path = await realpath(join(folder, file)).catch(() => null);
  // A link must not lead to a file elsewhere.
  if (path === null || !path.startsWith(`${await realpath(folder)}${sep}`) || !(await stat(path)).isFile())
    throw none();
  return readFile(path, "utf8");
}

/** A user's own module as a source. */
export class ModuleSource implements Source {
  constructor(private readonly credentials: CredentialsOf<"module">) {}

  private async host(log: (text: string) => void, signal?: AbortSignal): Promise<ModuleHost> {
    const { name, settings } = this.credentials;
    const { file, hosts = [], seconds = usual.seconds, megabytes = usual.megabytes } = settings;
    const code = await javascript(await moduleText(file));
    // It signs in by itself, where it must; nothing is added to what it asks.
    const client = new HttpClient({ name, settings: { kind: "http", url: "http://module.invalid" }, password: "" });
    const allows = (url: URL) => hosts.includes(url.host) || hosts.includes(url.hostname);
    return { name, code, seconds, megabytes, client, allows, log, signal };
  }

  private async described(log: (text: string) => void = () => undefined): Promise<Described[]> {
    const { name, settings } = this.credentials;
    const host = { ...(await this.host(log)), seconds: 30 };
    for await (const answer of asked(host, { call: "describe", settings: settings.settings ?? {} }))
      if ("described" in answer) return readDescription(name, JSON.parse(answer.described));
    throw new LoadFailure({ message: `${name} describes nothing` });
  }

  private async set({ table }: From): Promise<Described> {
    const { name } = this.credentials;
    const all = await this.described();
    const found = all.find((one) => one.name === table);
    if (!found)
      throw new NoTable({
        message: `${name} has no table ${table ?? ""}; it reads ${all.map((one) => one.name).join(", ") || "nothing"}`,
      });
    return found;
  }

  check(asWarehouse: boolean, tell: (step: CheckStep) => void): Promise<boolean> {
    const lines: string[] = [];
    const { name, settings } = this.credentials;
    return runSteps(
      { name },
      [
        [
          "description",
          async () => {
            const sets = await this.described((text) => void lines.push(text));
            return { fact: `${settings.file} reads ${sets.map((one) => one.name).join(", ") || "nothing"}` };
          },
        ],
        [
          "read",
          async () => {
            const [first] = await this.described();
            if (!first) throw new LoadFailure({ message: `${settings.file} reads nothing` });
            const snapshot = await this.open({ note: (text) => void lines.push(text) });
            const records = await snapshot.first({ connection: name, table: first.name }, 5);
            return {
              fact: `${first.name} gives ${records.length ? "records" : "no records now"}${lines.length ? `; it said: ${lines.slice(-5).join(" / ")}` : ""}`,
            };
          },
        ],
        [
          "write",
          async () => {
            if (!asWarehouse) return { fact: "not asked for: used as a source only", skipped: true };
            throw new LoadFailure({ message: "A module is a source only; a warehouse is PostgreSQL" });
          },
        ],
      ],
      tell,
    );
  }

  async datasets(): Promise<DatasetSummary[]> {
    return (await this.described()).map(({ name }) => ({
      schema: ".",
      name,
      kind: "resource",
      rows: null,
      bytes: null,
      comment: null,
    }));
  }

  async dataset({ table }: TableName): Promise<Dataset> {
    return (await this.open()).describe({ connection: this.credentials.name, table });
  }

  async firstRows({ table }: TableName, limit: number): Promise<Row[]> {
    const records = await (await this.open()).first({ connection: this.credentials.name, table }, limit);
    return records.flatMap((text, at) => {
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

  private async open({ note = () => undefined, signal }: SnapshotOptions = {}): Promise<ModuleSnapshot> {
    return new ModuleSnapshot(
      this.credentials,
      (log) => this.host(log, signal),
      (from) => this.set(from),
      note,
    );
  }

  async snapshot(_application: string, options: SnapshotOptions = {}): Promise<Snapshot> {
    await options.after;
    return this.open(options);
  }
}

/** A module as it is asked for records. It has no one moment. */
class ModuleSnapshot extends Whole implements Snapshot {
  private names: string[] = [];
  private table = "";
  private start: string | null = null;

  constructor(
    private readonly credentials: CredentialsOf<"module">,
    private readonly host: (log: (text: string) => void) => Promise<ModuleHost>,
    private readonly set: (from: From) => Promise<Described>,
    private readonly note: (words: string) => void,
  ) {
    super();
  }

  answers(): null {
    return null;
  }

  private async *records(
    dataset: string,
    span: { since?: string | null; from?: string | null; to?: string | null },
  ): AsyncGenerator<string[]> {
    const host = await this.host((text) => this.note(`it says: ${text}`));
    const { settings = {} } = this.credentials.settings;
    const order = { call: "read" as const, settings, dataset, since: null, from: null, to: null, ...span };
    for await (const answer of asked(host, order)) if ("records" in answer) yield answer.records;
  }

  /** Its first records, so many at most. */
  async first({ table = "" }: From, limit: number): Promise<string[]> {
    const found: string[] = [];
    for await (const records of this.records(table, {})) {
      found.push(...records);
      if (found.length >= limit) break;
    }
    return found.slice(0, limit);
  }

  async describe(from: From): Promise<Dataset> {
    const { name } = this.credentials;
    if (from.table === undefined)
      throw new LoadFailure({
        message: `${name} is a module: it is read by the sets of records that it describes`,
        hint: "Name one: from: { table: readings }",
      });
    const { fields, key, changes } = await this.set(from);
    const records = (await this.first(from, sampled)).map((text, at) => jsonRecord(text, at + 1, false));
    const columns = memberColumns(records, fields, false);
    this.table = from.table;
    this.names = columns.map((column) => column.name);
    if (columns.length === 0)
      throw new LoadFailure({
        message: `${name} gives no record of ${from.table} now, and does not say what one is made of`,
        hint: "Let describe name its fields and their types.",
      });
    return { columns, indexes: [], lines: true, proposal: { key, changes, asksChanges: true } };
  }

  async identity(): Promise<string | null> {
    const { file, settings } = this.credentials.settings;
    return JSON.stringify([file, settings ?? {}]);
  }

  async moment(): Promise<string | null> {
    return new Date().toISOString().replace("Z", "+00");
  }

  /** What is asked for of a window. */
  private spanOf(plan: LoadPlan, window: Window) {
    const { watermark } = plan.read;
    if (window.kind === "since" && watermark) return { since: sinceValue({}, { ...watermark, value: window.value }) };
    return {};
  }

  began(): string | null {
    return this.start;
  }

  async rows(plan: LoadPlan, window: Window, limit: number | null): Promise<RowStream> {
    this.start = new Date().toISOString();
    return recordStream((tell) => this.lines(plan, window, limit, tell));
  }

  private async *lines(
    plan: LoadPlan,
    window: Window,
    limit: number | null,
    tell: (rows: number) => void,
  ): AsyncGenerator<Buffer> {
    const line = recordLines(plan, {
      part: this.credentials.name,
      names: this.names,
      place: (record) => `record ${record.line}`,
    });
    const row = rowOf(this.names, false, "no record that was looked at");
    let rows = 0;
    for await (const records of this.records(this.table, this.spanOf(plan, window))) {
      const taken = limit === null ? records : records.slice(0, limit - rows);
      const piece = taken.map((text, at) => line(row(jsonRecord(text, rows + at + 1, false)))).join("");
      rows += taken.length;
      if (piece) yield Buffer.from(piece);
      if (limit !== null && rows >= limit) break;
    }
    tell(rows);
  }

  statement(plan: LoadPlan, window: Window): string {
    const { file } = this.credentials.settings;
    return `-- ${file}: read(${JSON.stringify({ dataset: this.table, ...this.spanOf(plan, window) })})`;
  }

  async close(): Promise<void> {}
}

/** What a module's `describe` gives, looked at. @throws LoadFailure where it is not as it must be */
function readDescription(name: string, value: unknown): Described[] {
  const wrong = (what: string) =>
    new LoadFailure({
      message: `${name}: describe gives ${what}`,
      hint: 'It gives { datasets: [{ name: "readings", key: "id", changes: "at", fields: { id: "bigint" } }] }.',
    });
  const sets = (value as { datasets?: unknown } | null)?.datasets;
  if (!Array.isArray(sets)) throw wrong("no list of datasets");
  return sets.map((set: { name?: unknown; fields?: unknown; key?: unknown; changes?: unknown }) => {
    if (typeof set?.name !== "string" || !/^[^".]{1,63}$/.test(set.name))
      throw wrong("a dataset without a name that can be used");
    const fields = Object.entries((set.fields ?? {}) as object).map(([field, type]): [string, string] => {
      try {
        return [field, canonicalType(String(type))];
      } catch (error) {
        throw wrong(`${field} a type that is none: ${(error as Error).message}`);
      }
    });
    return {
      name: set.name,
      fields: Object.fromEntries(fields),
      key: [set.key ?? []].flat().map(String),
      changes: typeof set.changes === "string" ? set.changes : null,
    };
  });
}
