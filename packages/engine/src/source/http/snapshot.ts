import type { Dataset, DatasetColumn } from "@undercoat/core/dataset/dataset";
import type { TextRecord } from "@undercoat/core/file/records";
import { guessFields } from "@undercoat/core/http/guess";
import type { ApiResource } from "@undercoat/core/http/openapi";
import { sinceValue } from "@undercoat/core/http/since";
import type { BulkForm, From } from "@undercoat/core/pipeline/pipeline";
import type { LoadPlan, Window } from "@undercoat/core/plan/plan";
import type { Asked, AskedRequest } from "@undercoat/core/run/run";
import { canonicalType } from "@undercoat/core/sql/type";
import { LoadFailure } from "../../failure.ts";
import { type Answer, type HttpClient, shownAddress } from "../../http/client.ts";
import { type JsonRecord, jsonRecord, memberColumns, rowOf } from "../members.ts";
import { recordLines, recordStream, textColumn } from "../records.ts";
import type { RowStream, Snapshot } from "../source.ts";
import { Whole } from "../whole.ts";
import { bulkOf } from "./bulk.ts";
import { type Page, pagesOf, unheard } from "./pages.ts";
import { Spool } from "./spool.ts";

/** So many requests are told one by one. */
const mostTold = 500;
/** So much of the first page is kept to be shown, in characters. */
const firstShown = 20_000;
/** Records changed within so many milliseconds are looked at for fields that earlier ones lack. */
const lately = 24 * 3_600_000;

/** Rows as they come, and where they stand. */
interface Piece {
  where: string;
  records: TextRecord[];
}

export interface HttpOptions {
  name: string;
  client: HttpClient;
  /** what the application's own description says of what a load reads */
  resource(from: From): Promise<ApiResource | null>;
  /** what a load reads as paths, pages and parameters, where it does not say so itself */
  asked?(from: From): Promise<From>;
  /** the parameters that ask for what changed since a watermark, where that is no parameter's mere value */
  changed?(column: string, value: string): Record<string, string>;
  /** what goes along with every request */
  asks?: { accept?: string; headers?: Record<string, string> };
  goesOn: boolean;
  waiting?: (why: string | null) => void;
  /** told what people should know of how the pages came */
  note?: (words: string) => void;
  signal?: AbortSignal;
}

/** An application as it is asked for records. It has no one moment: keys decide between what came twice. */
export class HttpSnapshot extends Whole implements Snapshot {
  private names: string[] = [];
  private flatten = false;
  private from: From | null = null;
  private spool: Spool | null = null;
  private date: string | null = null;
  private start: string | null = null;
  private readonly told: Asked = { requests: [], count: 0, bytes: 0, first: null };

  constructor(private readonly options: HttpOptions) {
    super();
  }

  /** What is asked of an application's records is asked of those that were received. */
  answers(): null {
    return null;
  }

  private async ask(address: string): Promise<Answer> {
    const { client, signal, waiting, asks, goesOn: patient } = this.options;
    const answer = await client.ask({ address, ...asks, patient, signal, waiting, told: (asked) => this.tell(asked) });
    this.date ??= answer.headers.date ?? null;
    return answer;
  }

  private tell(asked: AskedRequest): void {
    this.told.count++;
    this.told.bytes += asked.bytes;
    if (this.told.requests.length < mostTold) this.told.requests.push(asked);
  }

  /** The address of what a load reads, with its parameters. */
  private address(from: From, parameters: Record<string, string> = {}): string {
    const { path = "/" } = from;
    const url = new URL(this.options.client.address(path));
    for (const [name, value] of Object.entries({ ...from.parameters, ...parameters }))
      url.searchParams.set(name, value);
    return url.href;
  }

  /** The first page of what a load reads. */
  async first(given: From, parameters: Record<string, string> = {}): Promise<Page> {
    const { name } = this.options;
    const from = given.path === undefined ? await this.asPath(given) : given;
    const reading = { name, from, ask: (at: string) => this.ask(at), spool: null, all: false, ...unheard };
    for await (const page of pagesOf(reading, this.address(from, parameters))) return page;
    return { number: 1, address: this.address(from), records: [] };
  }

  /** Some records: the first page, and what has changed of late, whose fields may be newer. */
  private async sample(from: From): Promise<JsonRecord[]> {
    const since =
      from.since && !from.since.as ? { [from.since.parameter]: new Date(Date.now() - lately).toISOString() } : null;
    const pages = [await this.first(from), ...(since ? [await this.first(from, since)] : [])];
    return pages.flatMap(({ records }) =>
      records.map((text, at) => bare(jsonRecord(text, at + 1, from.flatten ?? false))),
    );
  }

  /** What a load reads, as paths, pages and parameters. */
  private async asPath(from: From): Promise<From> {
    return this.options.asked ? this.options.asked(from) : from;
  }

  async describe(given: From): Promise<Dataset> {
    const { name, resource } = this.options;
    const from = await this.asPath(given);
    if (from.path === undefined)
      throw new LoadFailure({
        message: `${name} is an application: it has no tables or files and takes no query`,
        hint: "Name a path below its address: from: { path: /scans }",
      });
    const described = await resource(given);
    const records = await this.sample(from);
    const { types = {}, flatten = false } = given;
    const fields = described?.fields ?? [];
    // Of what is taken apart the description says nothing.
    const said = {
      ...(flatten ? {} : Object.fromEntries(fields.map((field) => [field.name, field.type]))),
      ...Object.fromEntries(Object.entries(types).map(([column, type]) => [column, canonicalType(type)])),
    };
    const comments = new Map(fields.map((field) => [field.name, field.comment]));
    const columns = memberColumns(records, said, flatten).map(
      (column): DatasetColumn => ({ ...column, comment: comments.get(column.name) ?? null }),
    );
    this.names = columns.map((column) => column.name);
    this.flatten = flatten;
    this.from = from;
    if (columns.length === 0)
      throw new LoadFailure({
        message: `${name} gives no record at ${from.path} now, and no description says what one is made of`,
        hint: "Look again once it has one, or say the columns' types: types: { id: bigint }",
      });
    const { origin } = from;
    if (origin !== undefined && this.names.includes(origin))
      throw new LoadFailure({
        message: `The records have a member ${origin} of their own`,
        hint: "Name another column for the origin.",
      });
    const guessed = guessFields(records.filter((record) => !("fault" in record)).map((record) => record.text));
    const key = described?.keys ?? [described?.key ?? guessed.key].filter((one) => one !== null);
    const changes = described?.changes ?? guessed.changes;
    return {
      columns: [...(origin === undefined ? [] : [textColumn(origin)]), ...columns],
      indexes: [],
      lines: true,
      proposal: { key, changes, ...(this.options.changed ? { asksChanges: true as const } : {}) },
    };
  }

  async identity(): Promise<string | null> {
    return this.options.client.base;
  }

  async moment(): Promise<string | null> {
    const at = this.date === null ? Number.NaN : Date.parse(this.date);
    return new Date(Number.isNaN(at) ? Date.now() : at).toISOString().replace("Z", "+00");
  }

  private windowAddress(plan: LoadPlan, window: Window): string {
    if (!this.from) throw new Error("An application is described before it is read");
    const { since } = this.from;
    const { watermark } = plan.read;
    if (!watermark || window.kind !== "since") return this.address(this.from);
    const from = { ...watermark, value: window.value };
    const { changed } = this.options;
    if (changed) return this.address(this.from, changed(watermark.column, sinceValue({}, from)));
    return this.address(this.from, since ? { [since.parameter]: sinceValue(since, from) } : {});
  }

  async rows(plan: LoadPlan, window: Window, limit: number | null): Promise<RowStream> {
    const whole = window.kind === "all" && limit === null;
    const pieces = whole && this.from?.bulk ? this.exported(this.from.bulk) : await this.paged(plan, window, limit);
    return recordStream((tell) => this.lines(plan, pieces, limit, tell));
  }

  /** The records of pages, laid out as rows. */
  private async paged(plan: LoadPlan, window: Window, limit: number | null): Promise<AsyncGenerator<Piece>> {
    const address = this.windowAddress(plan, window);
    const { name, goesOn } = this.options;
    const { records, page } = this.from ?? {};
    if (goesOn && limit === null) this.spool = await Spool.open(readingOf(name, address, this.from));
    const reading = {
      name,
      from: { records, page },
      ask: (at: string) => this.ask(at),
      spool: this.spool,
      all: limit === null,
      began: (at: string) => {
        this.start = at;
      },
      note: (words: string) => this.options.note?.(words),
    };
    const row = rowOf(this.names, this.flatten, "no record that was looked at");
    const laid = (text: string, at: number) => row(bare(jsonRecord(text, at + 1, this.flatten)));
    const pieces = async function* (this: HttpSnapshot): AsyncGenerator<Piece> {
      for await (const { number, records: texts } of pagesOf(reading, address)) {
        this.told.first ??= texts.join("\n").slice(0, firstShown);
        yield { where: `page ${number}`, records: texts.map(laid) };
      }
    };
    return pieces.call(this);
  }

  /** The records of an export, laid out as rows. */
  private async *exported(form: BulkForm): AsyncGenerator<Piece> {
    const { name, client, signal, waiting, note = () => undefined } = this.options;
    const asks = { signal, waiting, told: (asked: AskedRequest) => this.tell(asked) };
    const row = rowOf(this.names, this.flatten, "no record that was looked at");
    const reading = {
      name,
      client,
      form,
      asks,
      names: this.names,
      note,
      row: (record: JsonRecord) => row(bare(record)),
      began: (at: string) => {
        this.start = at;
      },
    };
    for await (const { part, records } of bulkOf(reading)) yield { where: `part ${part}`, records };
  }

  private async *lines(
    plan: LoadPlan,
    pieces: AsyncIterable<Piece>,
    limit: number | null,
    tell: (rows: number) => void,
  ): AsyncGenerator<Buffer> {
    const at = { where: "" };
    const { name, signal } = this.options;
    const place = (record: TextRecord) => `${at.where}, record ${record.line}`;
    const line = recordLines(plan, { part: this.from?.connection ?? name, names: this.names, place });
    let rows = 0;
    for await (const { where, records } of pieces) {
      at.where = where;
      const taken = limit === null ? records : records.slice(0, limit - rows);
      rows += taken.length;
      const piece = taken.map(line).join("");
      if (piece) yield Buffer.from(piece);
      if (signal?.aborted || (limit !== null && rows >= limit)) break;
    }
    tell(rows);
  }

  asked(): Asked {
    return this.told;
  }

  began(): string | null {
    return this.start;
  }

  async finish(): Promise<[]> {
    await this.spool?.drop();
    return [];
  }

  statement(plan: LoadPlan, window: Window): string {
    return `GET ${shownAddress(this.windowAddress(plan, window))}`;
  }

  async close(): Promise<void> {}
}

/** A record without what a service says about it rather than in it: members such as `@odata.etag` (OData JSON Format, section 4.6). */
function bare(record: JsonRecord): JsonRecord {
  if ("fault" in record) return record;
  for (const name of record.values.keys()) if (name.includes("@odata.")) record.values.delete(name);
  return record;
}

/** What tells one reading from every other: whom it asks, for what, and how it is taken. */
export const readingOf = (name: string, address: string, from: From | null) =>
  JSON.stringify([name, address, from?.records, from?.page]);
