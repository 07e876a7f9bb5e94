import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { TextRecord } from "@undercoat/core/file/records";
import { childrenOf } from "@undercoat/core/http/body";
import { nextLink } from "@undercoat/core/http/odata";
import type { ApiResource } from "@undercoat/core/http/openapi";
import { cutPeriods, declaredDays, forPeriod, lateDays, periodsOf } from "@undercoat/core/http/periods";
import { askedSince, sinceValue } from "@undercoat/core/http/since";
import type { BulkForm, From } from "@undercoat/core/pipeline/pipeline";
import { partsOf } from "@undercoat/core/plan/periods";
import type { LoadPlan, PlannedColumn } from "@undercoat/core/plan/plan";
import { trackedKey, type Window } from "@undercoat/core/plan/window";
import type { Asked } from "@undercoat/core/run/run";
import type { DayInterval } from "@undercoat/core/schedule/intervals";
import { typeFamily } from "@undercoat/core/sql/type";
import { LoadFailure } from "../../failure.ts";
import { type Answer, shownAddress } from "../../http/client.ts";
import { type JsonRecord, jsonRecord, recordReader, rowOf } from "../members.ts";
import { recordLines, recordStream, valueColumns } from "../records.ts";
import type { OwnCounts, RowStream, Snapshot } from "../source.ts";
import { Whole } from "../whole.ts";
import { Asking, type AskingOptions, type Asks } from "./asking.ts";
import { bulkOf } from "./bulk.ts";
import { type Counting, countsOf } from "./counts.ts";
import { Changes, readTracked } from "./delta.ts";
import { bare, describeRecords } from "./description.ts";
import { goneOf } from "./gone.ts";
import { type Page, pagesOf, type Reading, unheard } from "./pages.ts";
import { Spool } from "./spool.ts";

/** Fewer records than these are read by pages, though there is an export. */
const usualLeast = 10_000;
/** So much of the first page is kept to be shown, in characters. */
const firstShown = 20_000;
/** So many records are kept to know them again, and a page more. */
const mostTaken = 10_000;
/** Records changed within so many milliseconds are looked at for fields that earlier ones lack. */
const lately = 24 * 3_600_000;

/** Rows as they come, of which part they are, and where they stand. */
interface Piece {
  part: string | null;
  where: string;
  records: TextRecord[];
}

export interface HttpOptions extends AskingOptions {
  name: string;
  /** what the application's own description says of what a load reads */
  resource(from: From): Promise<ApiResource | null>;
  /** what a load reads as paths, pages and parameters, where it does not say so itself */
  asked?(from: From): Promise<From>;
  /** the parameters that ask for what changed since a watermark, where that is no parameter's mere value */
  changed?(column: string, value: string): Record<string, string>;
  /** the parameters that ask for some members alone, where an application lets one ask */
  picked?(members: readonly string[]): Record<string, string>;
  /** how counts are asked for, where an application counts what it filters */
  counting?: Counting;
  /** of an application that tells what changed since it was read, by a link at the end: what else goes along where that is asked for, and where the link stands */
  tracking?: { asks: Asks; link: string };
  /** told what people should know of how the pages came */
  note?: (words: string) => void;
}

/** An application as it is asked for records. It has no one moment: keys decide between what came twice. */
export class HttpSnapshot extends Whole implements Snapshot {
  private members: ReadonlyMap<string, string> = new Map();
  private flatten = false;
  private from: From | null = null;
  private readonly spools: Spool[] = [];
  /** the last period of a report that was asked for */
  private last: string | null = null;
  /** the records past a watermark that were read, the first of them; null where all is read */
  private taken: Set<string> | null = null;
  private resumed = { pages: 0, since: null as string | null };
  /** the members that identify a record by the application's own word */
  private keys: readonly string[] = [];
  private start: string | null = null;
  private readonly asking: Asking;
  private readonly changes: Changes;

  constructor(private readonly options: HttpOptions) {
    super();
    const { name, client, note, tracking } = options;
    this.asking = new Asking(options);
    this.changes = new Changes({ name, base: client.base, ask: (at) => this.ask(at, tracking?.asks), note });
  }

  private get names(): string[] {
    return [...this.members.keys()];
  }

  private get told(): Asked {
    return this.asking.told;
  }

  /** What is asked of an application's records is asked of those that were received. */
  answers(): null {
    return null;
  }

  private ask(address: string, asks?: Asks): Promise<Answer> {
    return this.asking.ask(address, asks);
  }

  /** The address of what a load reads, with its parameters. */
  private address(from: From, parameters: Record<string, string> = {}): string {
    return this.options.client.addressOf({ ...from, parameters: { ...from.parameters, ...parameters } });
  }

  /** The first page of what a load reads; of a report that of its latest period that has records, of the last few. */
  async first(given: From, parameters: Record<string, string> = {}): Promise<Page> {
    const from = given.path === undefined ? await this.asPath(given) : given;
    const periods = periodsOf(from);
    if (!periods) return this.firstOf(from, parameters);
    const { from: first, to } = lateDays(declaredDays(periods, Date.now(), "UTC"), periods.unit);
    let page: Page | null = null;
    for (const period of cutPeriods({ from: first, to }, periods.unit).toReversed()) {
      page = await this.firstOf(forPeriod(from, period), parameters);
      if (page.records.length > 0) break;
    }
    return page ?? { number: 1, address: this.address(from), records: [] };
  }

  private async firstOf(
    from: From,
    parameters: Record<string, string>,
    counted = unheard.counted as Reading["counted"],
  ): Promise<Page> {
    const address = this.address(askedSince(from, null), parameters);
    for await (const page of pagesOf({ ...this.looking(from), counted }, address))
      return { ...page, records: rowsOf(from, page.records) };
    return { number: 1, address, records: [] };
  }

  /** How pages are read of which only the first is wanted. */
  private looking(from: Reading["from"]): Reading {
    return {
      name: this.options.name,
      from,
      ask: (at: string) => this.ask(at),
      spool: null,
      all: false,
      ...unheard,
    };
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
    const found = describeRecords(name, given, from, described, await this.sample(from));
    this.members = found.members;
    this.keys = found.keys;
    this.from = from;
    this.flatten = given.flatten ?? false;
    const { proposal } = found.dataset;
    return this.options.changed && proposal
      ? { ...found.dataset, proposal: { ...proposal, asksChanges: true } }
      : found.dataset;
  }

  async identity(): Promise<string | null> {
    return this.options.client.base;
  }

  async moment(): Promise<string | null> {
    return this.asking.moment;
  }

  async gone(plan: LoadPlan, window: Window): Promise<string[][]> {
    const { name, client } = this.options;
    if (window.kind === "delta") return this.changes.delta?.gone ?? [];
    const form = this.from?.gone;
    return form ? goneOf({ name, client, ask: (at) => this.ask(at) }, form, plan, window) : [];
  }

  async counts(plan: LoadPlan, slices: readonly (string | null)[]): Promise<OwnCounts | null> {
    const { from, members } = this;
    if (!from || from.count === undefined || from.each !== undefined || periodsOf(from)) return null;
    // No load is to wait because this one has counted.
    const most = Math.floor(this.asking.spare / 2);
    if (most < 1) return null;
    // Of the records themselves none is wanted.
    const few = { ...from, ...(from.page?.sizeAs ? { page: { ...from.page, size: 1 } } : {}) };
    const count = (parameters: Record<string, string>) => this.counted(few, parameters);
    const counts = await countsOf(count, this.options.counting, plan, members, slices.slice(0, most));
    return counts && { ...counts, moved: () => this.moved(plan) };
  }

  /** How many records the application says it has of what it is asked for, exact text; null where it does not say. */
  private async counted(from: From, parameters: Record<string, string> = {}): Promise<string | null> {
    let told: string | null = null;
    await this.firstOf(from, parameters, (records) => {
      told = String(records);
    });
    return told;
  }

  /** True where something has changed since the records were read, as far as the application tells. */
  private async moved(plan: LoadPlan): Promise<boolean> {
    const key = this.trackedKey(plan);
    if (key) return this.changes.moved(key, this.read(plan));
    const { watermark } = plan.read;
    if (!watermark || this.start === null || !this.from || typeFamily(watermark.type) !== "moment") return false;
    const since = { ...plan, read: { ...plan.read, watermark: { ...watermark, lookBack: null } } };
    const address = this.windowAddress(since, { kind: "since", value: this.start });
    // What changed in the second in which reading began is among what was read, or has changed since.
    for await (const { records } of pagesOf(this.looking(this.from), address))
      if (records.some((record) => !this.taken?.has(record))) return true;
    return false;
  }

  /** What asks for the members that a load reads, and no others. */
  private picked(plan: LoadPlan): Record<string, string> {
    const { picked } = this.options;
    // Which of what a record holds as a list are asked for stands with it.
    if (!picked || this.from?.each !== undefined) return {};
    return picked(this.read(plan));
  }

  /** The members that a load asks for. */
  private read(plan: LoadPlan): string[] {
    const read = new Set(valueColumns(plan).map(({ source }) => source));
    return this.names.filter((name) => read.has(name));
  }

  /** The columns of the load's key, where it is the records' own, so that changes can be told by it; else null. */
  private trackedKey(plan: LoadPlan): PlannedColumn[] | null {
    return this.options.tracking && this.from?.each === undefined ? trackedKey(plan, this.keys) : null;
  }

  async tracks(plan: LoadPlan, since: string): Promise<boolean> {
    const key = this.trackedKey(plan);
    if (!key) return false;
    return this.changes.take(since, plan.write.deletions !== null, key, this.read(plan));
  }

  private windowAddress(plan: LoadPlan, window: Window): string {
    if (!this.from) throw new Error("An application is described before it is read");
    const link = window.kind === "delta" ? readTracked(window.since)?.link : undefined;
    if (link !== undefined) return link;
    const { since } = this.from;
    const { watermark } = plan.read;
    const picked = this.picked(plan);
    if (!watermark || window.kind !== "since") return this.address(askedSince(this.from, null), picked);
    const from = { ...watermark, value: window.value };
    const { changed } = this.options;
    if (changed) return this.address(this.from, { ...picked, ...changed(watermark.column, sinceValue({}, from)) });
    return this.address(
      askedSince(this.from, sinceValue(since ?? {}, from)),
      since ? { [since.parameter]: sinceValue(since, from) } : {},
    );
  }

  async rows(plan: LoadPlan, window: Window, limit: number | null): Promise<RowStream> {
    if (window.kind === "delta") return recordStream((tell) => this.lines(plan, this.changed(), limit, tell));
    const whole = window.kind === "all" && limit === null;
    this.taken = window.kind === "since" ? new Set() : null;
    const parts = partsOf(plan);
    this.last = parts.at(-1)?.from ?? null;
    const pieces = parts.length
      ? this.reported(limit === null ? parts : parts.toReversed(), limit)
      : whole && this.from?.bulk && (await this.isLarge(this.from, this.from.bulk))
        ? this.exported(this.from.bulk)
        : this.paged(this.windowAddress(plan, window), limit, null, whole && this.trackedKey(plan) !== null);
    return recordStream((tell) => this.lines(plan, pieces, limit, tell));
  }

  /** True where an export is worth its waits: the application says that there are many records, or does not say. */
  private async isLarge(from: From, { least = usualLeast }: BulkForm): Promise<boolean> {
    const told = from.count === undefined ? null : await this.counted(from);
    return told === null || BigInt(told) >= BigInt(least);
  }

  /** The records of a report, one period after another. */
  private async *reported(parts: readonly DayInterval[], limit: number | null): AsyncGenerator<Piece> {
    for (const part of parts) {
      if (!this.from) return;
      yield* this.paged(this.address(forPeriod(this.from, part)), limit, part);
    }
  }

  /** @throws LoadFailure where other records were read than the application says there are, whenever it said so */
  private compareCounts(counts: NonNullable<Asked["counts"]>, rows: number): void {
    counts.read = String(rows);
    const { least, most } = counts;
    if (BigInt(rows) >= BigInt(least) && BigInt(rows) <= BigInt(most)) return;
    throw new LoadFailure({
      message: `${this.options.name} says that there are ${least === most ? least : `${least} to ${most}`} records, and ${rows} came`,
      hint: "Nothing was written. Check how its pages follow each other, and that this is what it counts (count).",
    });
  }

  /** What of a reading had been read before, as a note; of a report all of it together. */
  private tellResumed(): void {
    const { pages, since } = this.resumed;
    if (pages)
      this.options.note?.(
        `${pages} page${pages === 1 ? "" : "s"} had been read before, since ${since}; reading went on from there`,
      );
  }

  private get reader() {
    return recordReader(this.names, this.flatten, "no record that was looked at", bare);
  }

  /** The records that changed, as the application told it. */
  private async *changed(): AsyncGenerator<Piece> {
    const read = this.reader;
    const { records = [] } = this.changes.delta ?? {};
    this.told.first ??= records.join("\n").slice(0, firstShown);
    yield { part: null, where: "what changed", records: records.map((text, at) => read(text, at + 1)) };
  }

  /**
   * The records of pages, laid out as rows.
   * @param part the period that they are of, in a report
   * @param tracked asks where what changes from now on will be told
   */
  private async *paged(
    address: string,
    limit: number | null,
    period: DayInterval | null,
    tracked = false,
  ): AsyncGenerator<Piece> {
    const { name, goesOn, tracking } = this.options;
    const { records, page, count } = this.from ?? {};
    const part = period?.from ?? null;
    // What is not over yet says something else the next time.
    const over = period === null || period.to <= new Date().toISOString().slice(0, 10);
    const spool = goesOn && over && limit === null ? await Spool.open(readingOf(name, address, this.from)) : null;
    if (spool) this.spools.push(spool);
    const reading = {
      name,
      from: { records, page, count, ...(tracked && tracking ? { ends: tracking.link } : {}) },
      ask: (at: string) => (tracked && tracking ? this.ask(at, tracking.asks) : this.ask(at)),
      spool,
      all: limit === null,
      began: (at: string) => {
        this.start ??= at;
      },
      note: (words: string) => this.options.note?.(part === null ? words : `${part}: ${words}`),
      counted: (count: bigint) => {
        told.least = told.least === null || count < told.least ? count : told.least;
        told.most = told.most === null || count > told.most ? count : told.most;
      },
      ended: (link: string | null) => this.changes.keep(link),
      resumed: (pages: number, since: string | null) => {
        this.resumed.pages += pages;
        this.resumed.since ??= since;
      },
    };
    const read = this.reader;
    const told: { least: bigint | null; most: bigint | null } = { least: null, most: null };
    const laid = (text: string, at: number) => {
      const record = read(text, at + 1);
      return part === null ? record : { ...record, fields: [...record.fields, part] };
    };
    for await (const { number, records: found } of pagesOf(reading, address)) {
      if (this.taken && this.taken.size < mostTaken) for (const record of found) this.taken.add(record);
      const texts = rowsOf(this.from, found);
      this.told.first ??= texts.join("\n").slice(0, firstShown);
      yield { part, where: `${part === null ? "" : `${part}, `}page ${number}`, records: texts.map(laid) };
    }
    // What is counted are the records, not what they hold.
    if (told.least === null || told.most === null || this.from?.each !== undefined) return;
    const { least = "0", most = "0" } = this.told.counts ?? {};
    this.told.counts = {
      least: String(BigInt(least) + told.least),
      most: String(BigInt(most) + told.most),
      read: "0",
    };
  }

  /** The records of an export, laid out as rows. */
  private async *exported(form: BulkForm): AsyncGenerator<Piece> {
    const { name, client, note = () => undefined } = this.options;
    const row = rowOf(this.names, this.flatten, "no record that was looked at");
    const reading = {
      name,
      client,
      form,
      asks: this.asking.hears,
      names: this.names,
      note,
      row: (record: JsonRecord) => row(bare(record)),
      began: (at: string) => {
        this.start = at;
      },
    };
    for await (const { part, records } of bulkOf(reading)) yield { part: null, where: `part ${part}`, records };
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
    const { periods } = plan.read;
    const names = periods ? [...this.names, periods.column] : this.names;
    const origin = this.from?.connection ?? name;
    const lineOf = (part: string | null) => recordLines(plan, { part: part ?? origin, origin, names, place });
    let line = lineOf(null);
    let rows = 0;
    let of: string | null = null;
    for await (const { part, where, records } of pieces) {
      at.where = where;
      if (part !== of) line = lineOf(part);
      of = part;
      const taken = limit === null ? records : records.slice(0, limit - rows);
      rows += taken.length;
      const piece = taken.map(line).join("");
      if (piece) yield Buffer.from(piece);
      if (signal?.aborted || (limit !== null && rows >= limit)) break;
    }
    this.tellResumed();
    if (this.told.counts && limit === null) this.compareCounts(this.told.counts, rows);
    tell(rows);
  }

  /** Of a report the last period that was asked for; of a set whose changes are told, where they are. */
  override async position(_before: string | null, plan: LoadPlan): Promise<string | null> {
    return this.trackedKey(plan) ? this.changes.position(plan.write.deletions !== null) : this.last;
  }

  asked(): Asked {
    return this.told;
  }

  began(): string | null {
    return this.start;
  }

  async finish(): Promise<[]> {
    await Promise.all(this.spools.map((spool) => spool.drop()));
    return [];
  }

  statement(plan: LoadPlan, window: Window): string {
    const parts = partsOf(plan);
    const [first] = parts;
    if (this.from && first) {
      const asked = `GET ${shownAddress(this.address(forPeriod(this.from, first)))}`;
      return parts.length === 1
        ? asked
        : `${asked}\n… and so on, ${parts.length} requests at least, one for each ${plan.read.periods?.unit}`;
    }
    return `GET ${shownAddress(this.windowAddress(plan, window))}`;
  }

  async close(): Promise<void> {}
}

/** The texts of a page's rows: its records, or those that each of them holds. @throws LoadFailure where one holds a part of its list alone */
export function rowsOf(from: From | null, records: string[]): string[] {
  const { each, keep = [] } = from ?? {};
  if (each === undefined) return records;
  const leads = `"${each}${nextLink}"`;
  return records.flatMap((record) => {
    if (record.includes(leads))
      throw new LoadFailure({
        message: `Of ${each} only a part is given at once, and where the rest is`,
        hint: "Read it as a set of its own.",
      });
    return childrenOf(record, each, keep);
  });
}

/** What tells one reading from every other: whom it asks, for what, and how it is taken. */
export const readingOf = (name: string, address: string, from: From | null) =>
  JSON.stringify([name, address, from?.records, from?.page]);
