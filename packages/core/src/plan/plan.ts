import { type Dataset, guaranteesKey } from "../dataset/dataset.ts";
import { comesDirect, type HistoryPlan, planHistory } from "../history/plan.ts";
import type { Declared, Periods } from "../http/periods.ts";
import { markColumns } from "../mark/mark.ts";
import type { Load, MarkForm, Mode, Pipeline, TimeUnit } from "../pipeline/pipeline.ts";
import { wholeTableRows } from "../pipeline/pipeline.ts";
import { type Figure, parseFigure } from "../proof/figure.ts";
import type { Scope } from "../run/run.ts";
import type { DayInterval } from "../schedule/intervals.ts";
import type { AnalysedPart, AnalysedRule, Analysis } from "../shape/analyse.ts";
import { keeps } from "../sql/convert.ts";
import type { Hashing } from "../sql/hash.ts";
import { identifier, parseSourceName, parseTableName, type TableName } from "../sql/identifier.ts";
import { literal } from "../sql/literal.ts";
import type { Slicing } from "../sql/slice.ts";
import { baseType, canBeWatermark, holds, limits, shortType, typeFamily } from "../sql/type.ts";
import { PlanError } from "./error.ts";
import { plannedPeriods } from "./periods.ts";
import { spanned, spansOf } from "./span.ts";

export { PlanError };

/** One warehouse column of a load and where it comes from. */
export interface PlannedColumn {
  name: string;
  /** the source column it takes, or null where it is computed */
  source: string | null;
  /** as its author wrote it */
  text: string;
  /** SQL over the source's row `s` */
  expression: string;
  /** the source columns it reads */
  reads: string[];
  /** the type of what it takes or computes */
  given: string;
  /** the type that the load asks for, as format_type prints it */
  stated: string;
  /** the type in which the values stand in the warehouse: the stated one, or the target's own form of it */
  type: string;
  /** true where the source's own type differs from the type given, so that the read casts */
  cast: boolean;
  /** true where the source promises a value */
  notNull: boolean;
  /** true where a null is a rejection: the target's column takes none */
  required: boolean;
  /** true where the source no longer gives it: null is filled in, and no proof looks at it */
  missing: boolean;
}

/** A source column as it is staged before it is shaped. */
export interface RawColumn {
  name: string;
  type: string;
  cast: boolean;
}

/** What is done to the staged rows before they are the warehouse's: conversions, expressions, rules. */
export interface PlannedShape {
  raw: RawColumn[];
  /** true where some of what is staged may be lines that are no rows */
  lines: boolean;
  rules: AnalysedRule[];
}

export interface RejectPolicy {
  /** most rejected rows; null where there is no limit */
  rows: number | null;
  /** most rejected rows in percent of those read, exact text; null where there is no limit */
  share: string | null;
  breach: "stop" | "reject";
  duplicates: "stop" | "reject";
  keep: number;
}

export interface DeletionPolicy {
  how: "mark" | "remove" | "close";
  column: string;
}

/** How many rows of a target may go in one run. */
export interface Guard {
  /** percent of the table */
  most: number;
  /** so many may go whatever the percentage says */
  few: number;
}

/** The rows that may go of those that a target holds. */
export function mayGo({ most, few }: Guard, held: bigint): bigint {
  const share = (held * BigInt(Math.round(most * 1_000_000))) / 100_000_000n;
  return share > BigInt(few) ? share : BigInt(few);
}

/** Rejected rows that a proof leaves out on both sides. */
export interface Without {
  /** 64-bit hashes of exactly those source rows; see contentHash */
  contents: string[];
  /** true where earlier rows of the same key were rejected, so that the source's latest counts */
  duplicates: boolean;
  /** rejected rows in all */
  rows: string;
}

/** What is read at the source; each source kind turns it into its own statements. */
export interface ReadRequest {
  table: TableName | null;
  query: string | null;
  /** several tables of one shape, each under its mark, and the columns they share */
  union: { tables: { mark: string; table: TableName }[]; origin: string; columns: string[] } | null;
  where: string | null;
  /** files, by their name or pattern */
  files: string | null;
  /** the column that holds what each row came from, where there are several files */
  origin: string | null;
  /** query and condition as their author wrote them, where they ask for the interval that is read */
  spans: { query: string | null; where: string | null } | null;
  /** how a report is asked for period by period, and for which days; null for what is no such report */
  periods: (Pick<Periods, "column" | "unit" | "again"> & Declared) | null;
  columns: PlannedColumn[];
  /** true where the source lists what it has deleted */
  listsGone: boolean;
  /** `given`: the type in which it comes, where texts state its values */
  watermark: {
    column: string;
    type: string;
    given: string;
    nullable: boolean;
    lookBack: string | null;
    /** the moment (ISO 8601) at which a reading began that is of no one moment: what changed since may have been missed */
    notAfter?: string;
    /** true where the text of each row is known to state one */
    fits?: true;
  } | null;
}

/** Which of the request's rows are read this time. */
export type Window =
  | { kind: "all" }
  | { kind: "since"; value: string }
  /** what changed since a position, what is gone too, as the source tells it by itself */
  | { kind: "delta"; since: string }
  /** the parts of a source, such as files, that are not as they were at a position */
  | { kind: "changed"; since: string }
  /** bounds written without a zone are local to `zone` */
  | {
      kind: "interval";
      column: string;
      on: "source" | "warehouse";
      type: string;
      zone: string;
      from: string;
      to: string;
    }
  | { kind: "slice"; slice: string | null }
  | { kind: "keys"; keys: string[][] }
  | { kind: "identities"; identities: string[] };

/** The rows of some periods: those whose first day stands in the column, from (included) to (excluded). */
export interface Span extends Omit<DayInterval, "from"> {
  column: string;
  /** null where it is known only by what stands in the target */
  from: string | null;
}

/** How rows are written. */
export interface WritePlan {
  target: TableName;
  /** which of the target's rows are the load's own; null for all of them */
  part: AnalysedPart | null;
  /** the periods that a load is about, of a report that is asked for by period: no other rows are touched or compared */
  span: Span | null;
  mode: Mode;
  key: string[];
  /** true where the source promises that the key is unique and never null, so that no check is needed */
  keyGuaranteed: boolean;
  deletions: DeletionPolicy | null;
  guard: Guard;
  rejects: RejectPolicy;
  /** how versions are kept; null in every mode but history */
  history: HistoryPlan | null;
  /** versions that the target keeps from before go, where this mode keeps none */
  dropVersions: boolean;
}

/** What is proved. */
export interface ProvePlan {
  slicing: Slicing | null;
  figures: Figure[];
  /** the versions that each row looks up; null where none does */
  within: { dimension: TableName; key: string[]; at: string } | null;
}

/** A load, planned: what is read, how it is shaped, how it is written, what is proved. */
export interface LoadPlan {
  pipeline: string;
  load: string;
  connection: string;
  warehouse: string;
  read: ReadRequest;
  /** null where the rows are the warehouse's as they are read */
  shape: PlannedShape | null;
  write: WritePlan;
  prove: ProvePlan;
  /** what the source is told of rows that were turned away; null where nothing */
  report: MarkForm | null;
  /** how rows are hashed, so that whoever answers for the source and the warehouse do so alike */
  hashing: Hashing;
  /** changes whenever what the load reads or where it writes does; a watermark taken under another one does not count */
  fingerprint: string;
}

/** What a plan is made from besides the pipeline: the source as it is now, the shape admitted, and the target as it stands. */
export interface PlanFacts {
  dataset: Dataset;
  analysis: Analysis;
  /** the type of each computed column, by the warehouse column's name */
  types: Record<string, string>;
  /** the target's columns; null where it is not there yet or was not looked at */
  target: Dataset | null;
  /** types that warehouse columns keep though the source's have changed, by the source column's name */
  held?: ReadonlyMap<string, string>;
  /** which database the source is; a watermark taken from another one does not count */
  origin?: string | null;
  /** the moment of the read, by the source's clock; only a history asks for it */
  moment?: string | null;
  /** milliseconds since the epoch, from which the days of a report are reckoned */
  now?: number;
}

/**
 * The type in which a column's values stand in the target. A target that holds every value of the type, but prints it in
 * another form (more decimals, more padding), decides the form, so that both sides of a proof are in it.
 */
function standingType(type: string, declared: string | undefined): string {
  if (declared === undefined || declared === type) return type;
  return ["numeric", "character"].includes(baseType(type)) && limits(declared).length > 0 && holds(declared, type)
    ? declared
    : type;
}

/** The columns a load writes, in order. */
function plannedColumns(load: Load, { dataset, analysis, types, target, held: kept }: PlanFacts): PlannedColumn[] {
  const bySource = new Map(dataset.columns.map((column) => [column.name, column]));
  const held = new Map((target?.columns ?? []).map((column) => [column.name, column]));
  return analysis.columns.map((column) => {
    const source = column.source === null ? undefined : bySource.get(column.source);
    const given = source?.warehouseType ?? types[column.name];
    if (given === undefined) throw new PlanError(`The type of ${column.name} is not known`, ["columns", column.name]);
    const notNull = source?.notNull ?? false;
    const required = !notNull && (load.into.key?.includes(column.name) || (held.get(column.name)?.notNull ?? false));
    const stated = column.stated ?? (column.source === null ? undefined : kept?.get(column.source)) ?? given;
    return {
      ...column,
      given,
      stated,
      type: standingType(stated, held.get(column.name)?.declared),
      cast: source !== undefined && source.warehouseType !== source.declared,
      notNull,
      required,
    };
  });
}

/**
 * What is staged of each line beside its values: the file it is of; and of one that is no row what is wrong with it, where it
 * stands, and its text. Under names that no source gives a column.
 */
export const lineText = "undercoat line";
export const lineColumns: RawColumn[] = ["undercoat file", "undercoat fault", "undercoat place", lineText].map(
  (name) => ({ name, type: "text", cast: false }),
);

/** A shape is needed where a row could be turned away, or where a value is computed. */
function plannedShape(
  load: Load,
  columns: PlannedColumn[],
  history: HistoryPlan | null,
  { dataset, analysis }: PlanFacts,
  { look }: PlanUse,
): PlannedShape | null {
  const watermark = load.watermark?.column;
  // Among rows of one key the watermark tells the latest, so it must be staged.
  const ranks = watermark !== undefined && columns.every((column) => column.source !== watermark);
  const dated = history?.since && history.since.written === null;
  const keyed = columns.some((column) => column.required && load.into.key?.includes(column.name));
  const plain = columns.every(
    (column) =>
      column.source !== null &&
      keeps(column.type, column.given) &&
      (!column.required || load.into.key?.includes(column.name)),
  );
  if (plain && analysis.rules.length === 0 && !(ranks && keyed) && !dated && !dataset.lines) return null;
  const read = new Set([
    ...columns.flatMap((column) => column.reads),
    ...(watermark ? [watermark] : []),
    ...(history?.since ? [history.since.source] : []),
  ]);
  const raw = dataset.columns
    .filter((column) => read.has(column.name))
    .map((column) => ({
      name: column.name,
      type: column.warehouseType,
      cast: column.warehouseType !== column.declared,
    }));
  return {
    raw: dataset.lines ? [...raw, ...lineColumns] : raw,
    lines: dataset.lines ?? false,
    rules: look
      ? analysis.rules.map((rule) => (rule.breach === "stop" ? { ...rule, breach: "reject" as const } : rule))
      : analysis.rules,
  };
}

/** What a plan is used for, where it is not the load's next ordinary run. */
export interface PlanUse {
  /** rows are mended by their key, whatever the mode adds them by */
  repair?: boolean;
  /** rows that were rejected are tried again; they have been within the load's limit before */
  again?: boolean;
  /** somebody looks at a few rows and is to see all of them, also those that would stop the load */
  look?: boolean;
}

function rejectPolicy(load: Load, { again, look }: PlanUse): RejectPolicy {
  const { limit, breach = "reject", duplicates = "reject", keep = 10_000 } = load.rejects ?? {};
  const share = typeof limit === "string" ? limit.replace("%", "") : null;
  const bounds =
    again || look ? { rows: null, share: null } : { rows: typeof limit === "number" ? limit : null, share };
  return { ...bounds, breach: look ? "reject" : breach, duplicates: look ? "reject" : duplicates, keep };
}

function deletionPolicy({ into }: Load, columns: PlannedColumn[]): DeletionPolicy | null {
  if (into.deleted === undefined || into.deleted === "keep") return null;
  const column = into.deletions?.column ?? "deleted_at";
  if (into.deleted === "mark" && columns.some((planned) => planned.name === column))
    throw new PlanError(`${column} is a column of the load; name another one to hold the time a row was found gone`, [
      "into",
      "deletions",
      "column",
    ]);
  return { how: into.deleted, column };
}

/** A share of a few rows is no guard but a nuisance: where none was stated, ten may always go. */
function guardOf({ into }: Load): Guard {
  const most = into.deletions?.most;
  return most === undefined ? { most: 50, few: 10 } : { most, few: 0 };
}

/**
 * Plans one load: resolves its columns and types against the dataset as it is now, and checks that key, watermark and
 * proof name columns that exist and can serve.
 * @throws PlanError with the path within the load.
 */
export function planLoad(
  pipelineName: string,
  pipeline: Pipeline,
  loadName: string,
  facts: PlanFacts,
  use: PlanUse = {},
): LoadPlan {
  const load = pipeline.loads[loadName];
  if (!load) throw new PlanError(`The pipeline has no load ${loadName}`);
  const { dataset } = facts;
  const columns = plannedColumns(load, facts);
  if (columns.length === 0) throw new PlanError("The source has no columns", ["from"]);
  const byName = new Map(columns.map((column) => [column.name, column]));
  const key = load.into.key ?? [];
  for (const name of key)
    if (!byName.has(name))
      throw new PlanError(`The key names ${name}, which is not a column of the load`, ["into", "key"]);
  if (
    load.into.mode === "append" &&
    key.length === 0 &&
    !columns.some((column) => column.source === load.watermark?.column)
  )
    throw new PlanError(
      `Without a key, an append tells rows apart by all their columns, so ${load.watermark?.column} must be one of them`,
      ["columns"],
    );
  if (load.from.parameters?.split !== undefined && load.watermark)
    throw new PlanError("A report has no watermark: which of its periods are asked for is said by from and to", [
      "watermark",
    ]);
  if (load.from.files !== undefined && load.watermark)
    throw new PlanError("Files have no watermark: which of them are new or changed is known by what they hold", [
      "watermark",
    ]);
  const periods = plannedPeriods(load, columns, facts.now ?? Date.now(), pipeline.zone ?? "UTC");
  const { moment = null } = facts;
  const history = planHistory(load, columns, { dataset, target: facts.target, moment });
  const { table, query, tables, origin, where } = spanned(load.from);
  const keySources = key
    .map((name) => byName.get(name))
    .map((column) => (column && column.source !== null && keeps(column.type, column.given) ? column.source : null));
  const keyGuaranteed =
    key.length > 0 && keySources.every((name) => name !== null) && guaranteesKey(dataset, keySources as string[]);
  const shape = plannedShape(load, columns, history, facts, use);
  return {
    pipeline: pipelineName,
    load: loadName,
    connection: load.from.connection,
    warehouse: pipeline.warehouse,
    read: {
      table: table ? parseSourceName(table) : null,
      query: query ?? null,
      union:
        tables && origin
          ? {
              tables: Object.entries(tables).map(([mark, name]) => ({ mark, table: parseTableName(name) })),
              origin,
              columns: dataset.columns.map((column) => column.name).filter((name) => name !== origin),
            }
          : null,
      where: where ?? null,
      files: load.from.files ?? null,
      origin: origin ?? null,
      spans: spansOf(load.from),
      periods: periods?.read ?? null,
      columns,
      listsGone: load.from.gone !== undefined,
      watermark: plannedWatermark(load, dataset),
    },
    shape,
    write: {
      target: parseTableName(load.into.table),
      part: facts.analysis.part,
      span: periods?.span ?? null,
      mode: use.repair && key.length && !history ? "upsert" : load.into.mode,
      key,
      keyGuaranteed,
      deletions: deletionPolicy(load, columns),
      guard: guardOf(load),
      rejects: rejectPolicy(load, use),
      history: history && { ...history, direct: comesDirect(history, dataset, keyGuaranteed, shape !== null) },
      dropVersions: load.into.versions === "drop",
    },
    prove: {
      slicing: periods?.slicing ?? plannedSlices(load, byName),
      figures: plannedFigures(load, byName),
      within: plannedWithin(load, byName),
    },
    report: plannedReport(
      load,
      shape?.raw.map(({ name }) => name) ?? columns.map(({ source, name }) => source ?? name),
      dataset,
    ),
    hashing: "stored",
    fingerprint: fingerprint(load, columns, facts.origin ?? null),
  };
}

/** What the source is told names columns that are read, so that they are known of a row that was turned away. */
function plannedReport({ report }: Load, read: readonly string[], dataset: Dataset): MarkForm | null {
  if (!report) return null;
  const path = ["report", report.sql === undefined ? "path" : "sql"];
  for (const name of markColumns(report)) {
    if (read.includes(name)) continue;
    throw new PlanError(
      dataset.columns.some((column) => column.name === name)
        ? `${name} is told to the source, but the load does not read it; take it as a column or into a rule`
        : `The source has no column ${name} to be told of; there are also reason and message`,
      path,
    );
  }
  return report;
}

/** The order of columns counts for nothing, and neither does one that the source has lost for a while. */
function fingerprint(load: Load, columns: readonly PlannedColumn[], origin: string | null): string {
  const read = columns.map(
    ({ name, source, text, stated, missing }) => [name, source ?? (missing ? text : { as: text }), stated] as const,
  );
  const sorted = read.toSorted(([a], [b]) => (a < b ? -1 : 1));
  return JSON.stringify([
    origin,
    load.from,
    load.watermark?.column ?? null,
    sorted,
    load.into.table,
    load.into.mode,
    load.into.key ?? [],
    ...(load.into.history?.since ? [load.into.history.since] : []),
    ...(load.into.part ? [{ part: load.into.part }] : []),
  ]);
}

function plannedWatermark(load: Load, dataset: Dataset): ReadRequest["watermark"] {
  if (!load.watermark) return null;
  const { column: name, lookBack } = load.watermark;
  const column = dataset.columns.find((candidate) => candidate.name === name);
  if (!column)
    throw new PlanError(`The source has no column ${name} to take a watermark from`, ["watermark", "column"]);
  const type = column.fits ?? column.warehouseType;
  if (!canBeWatermark(type))
    throw new PlanError(`${name} is ${shortType(type)}; a watermark needs a date, a time or a whole number`, [
      "watermark",
      "column",
    ]);
  const isMoment = typeFamily(type) === "moment";
  if (lookBack && isMoment !== lookBack.startsWith("P"))
    throw new PlanError(
      isMoment
        ? `The look-back for ${name} is a duration such as PT10M`
        : `The look-back for ${name} is a whole number`,
      ["watermark", "lookBack"],
    );
  return { column: name, type, given: column.warehouseType, nullable: !column.notNull, lookBack: lookBack ?? null };
}

function plannedSlices(load: Load, byName: Map<string, PlannedColumn>): Slicing | null {
  const by = load.proof?.by;
  if (!by) return null;
  const column = byName.get(by.column);
  if (!column)
    throw new PlanError(`The proof slices by ${by.column}, which is not a column of the load`, [
      "proof",
      "by",
      "column",
    ]);
  if (by.slice === "origin") {
    if (column.source === null || column.source !== load.from.origin)
      throw new PlanError(
        `${by.column} does not say where a row came from; slices of an origin need the column that does`,
        ["proof", "by", "column"],
      );
    return { column: by.column, type: column.type, unit: by.slice, zone: "UTC" };
  }
  if (typeFamily(column.type) !== "moment")
    throw new PlanError(`${by.column} is ${shortType(column.type)}; slices need a date or a time`, [
      "proof",
      "by",
      "column",
    ]);
  if (by.slice === "hour" && column.type === "date")
    throw new PlanError(`${by.column} is a date and has no hours`, ["proof", "by", "slice"]);
  return { column: by.column, type: column.type, unit: by.slice, zone: by.zone ?? "UTC" };
}

function plannedWithin(load: Load, byName: Map<string, PlannedColumn>): ProvePlan["within"] {
  const within = load.proof?.within;
  if (!within) return null;
  const key = [within.key].flat();
  const path = ["proof", "within"];
  for (const name of key)
    if (!byName.has(name)) throw new PlanError(`${name} is not a column of the load`, [...path, "key"]);
  const at = byName.get(within.at);
  if (!at) throw new PlanError(`${within.at} is not a column of the load`, [...path, "at"]);
  if (typeFamily(at.type) !== "moment")
    throw new PlanError(`${within.at} is ${shortType(at.type)}; a version is looked up at a date or a time`, [
      ...path,
      "at",
    ]);
  return { dimension: parseTableName(within.dimension), key, at: within.at };
}

function plannedFigures(load: Load, byName: Map<string, PlannedColumn>): Figure[] {
  const stated = (load.proof ?? wholeTableRows).figures.map((text) => ({ text, figure: parseFigure(text) }));
  return stated
    .filter(({ figure }) => !byName.get(figure.column ?? "")?.missing)
    .map(({ text, figure }, at) => {
      if (figure.column === null) return figure;
      const path = ["proof", "figures", String(at)];
      const column = byName.get(figure.column);
      if (!column) throw new PlanError(`${text} names ${figure.column}, which is not a column of the load`, path);
      const family = typeFamily(column.type);
      if (figure.measure === "sum" && !["integer", "numeric", "float"].includes(family))
        throw new PlanError(`${figure.column} is ${shortType(column.type)} and can't be added up`, path);
      if ((figure.measure === "min" || figure.measure === "max") && family === "other")
        throw new PlanError(`${figure.column} is ${shortType(column.type)} and has no order both sides share`, path);
      return figure;
    });
}

/** A column as it is staged: its name at the source and in the stage. */
export interface StagedColumn {
  source: string;
  name: string;
  type: string;
  cast: boolean;
}

/** What is staged: the source's columns where they are shaped afterwards, else the warehouse's. */
export function stagedColumns(plan: LoadPlan): StagedColumn[] {
  if (plan.shape) return plan.shape.raw.map((column) => ({ ...column, source: column.name }));
  return plan.read.columns.map((column) => ({
    source: column.source ?? column.name,
    name: column.name,
    type: column.type,
    cast: column.cast || column.type !== column.given,
  }));
}

/** The staged columns by which a rejected row is known again: those its key is made from, else all. */
export function identityColumns(plan: LoadPlan): StagedColumn[] {
  const staged = stagedColumns(plan);
  const { key } = plan.write;
  if (key.length === 0) return staged;
  const read = new Set(
    plan.read.columns.filter((column) => key.includes(column.name)).flatMap((column) => column.reads),
  );
  return staged.filter((column) => read.has(column.source));
}

/** The fewest hours of a slice, less one where clocks change. */
const hoursOf: Record<TimeUnit, number> = { hour: 1, day: 23, week: 167, month: 671, year: 8759 };

/** True where a window fills slices: files that are read whole where each is one, or an interval as long as a slice at least, so that comparing the slices costs no more than comparing its rows. */
export function fillsSlices(plan: LoadPlan, window: Window): boolean {
  const { slicing } = plan.prove;
  if (slicing?.unit === "origin") return window.kind === "changed";
  if (!slicing || window.kind !== "interval" || window.column !== slicing.column) return false;
  // How long it is, roughly; bounds that no clock knows count as short.
  const hours = (Date.parse(window.to) - Date.parse(window.from)) / 3_600_000;
  return hours >= hoursOf[slicing.unit];
}

/** The warehouse column that holds the file of each row; null where none does. */
export function fileColumn({ read }: LoadPlan): string | null {
  return read.columns.find(({ source }) => source !== null && source === read.origin)?.name ?? null;
}

/**
 * The column by which it is told whether a key stands in several files; null where none is kept, or where the file is part
 * of the key, so that it can't.
 */
export function sharingColumn(plan: LoadPlan): string | null {
  const column = fileColumn(plan);
  return column === null || plan.write.key.includes(column) || plan.write.key.length === 0 ? null : column;
}

/** True where the files that changed can be loaded without the others: what is gone from one is known by its column, or stays. */
export function takesChanges(plan: LoadPlan): boolean {
  return plan.write.mode !== "replace" && (plan.write.deletions === null || fileColumn(plan) !== null);
}

/** A plan whose watermark passes no moment: a reading that is of no one moment has missed what changed behind it. */
export function notPast(plan: LoadPlan, moment: string | null): LoadPlan {
  const { watermark } = plan.read;
  if (moment === null || !watermark) return plan;
  return { ...plan, read: { ...plan.read, watermark: { ...watermark, notAfter: moment } } };
}

/** A plan whose rows have all been found to fit: where the watermark's column is loaded, each of its texts states one. */
export function fitting(plan: LoadPlan): LoadPlan {
  const { watermark, columns } = plan.read;
  const loaded = columns.some((column) => column.source === watermark?.column && column.type === watermark?.type);
  return watermark && loaded ? { ...plan, read: { ...plan.read, watermark: { ...watermark, fits: true } } } : plan;
}

/** A plan for the rows of some files alone. */
export function ofFiles(plan: LoadPlan, files: readonly string[]): LoadPlan {
  const column = fileColumn(plan);
  if (column === null) throw new PlanError("No column holds the file of a row");
  const own = `(t.${identifier(column)} = ANY (${literal(`{${files.map((name) => `"${name.replace(/["\\]/g, "\\$&")}"`).join(",")}}`)}::text[]))`;
  const { part } = plan.write;
  return {
    ...plan,
    write: {
      ...plan.write,
      part: {
        text: part?.text ?? "",
        sql: part ? `(${part.sql} AND ${own})` : own,
        reads: [...(part?.reads ?? []), column],
      },
    },
  };
}

/**
 * The window a scope asks for.
 * @param stored the watermark kept from the last load, or null where there is none that counts
 * @throws PlanError when the load can't be cut that way.
 */
export function windowFor(plan: LoadPlan, scope: Scope, stored: string | null): Window {
  // Which of a report's periods are read is said by the plan.
  if (plan.read.periods && scope.kind !== "keys" && scope.kind !== "gone") return { kind: "all" };
  switch (scope.kind) {
    case "due":
      if (stored === null || plan.write.mode === "replace") return { kind: "all" };
      if (plan.read.files !== null) return takesChanges(plan) ? { kind: "changed", since: stored } : { kind: "all" };
      return plan.read.watermark ? { kind: "since", value: stored } : { kind: "delta", since: stored };
    case "whole":
      return { kind: "all" };
    case "gone":
      return { kind: "keys", keys: [] };
    case "rejected":
      throw new PlanError("Which rows were rejected is known to the warehouse");
    case "keys":
      return { kind: "keys", keys: scope.keys };
    case "slices":
      throw new PlanError("Several slices are proved together, but loaded one by one");
    case "slice":
      if (!plan.prove.slicing) throw new PlanError("The proof of this load has no slices");
      return scope;
    case "interval": {
      const { slicing } = plan.prove;
      if (slicing && slicing.unit !== "origin")
        return { ...scope, column: slicing.column, on: "warehouse", type: slicing.type, zone: slicing.zone };
      const watermark = plan.read.watermark;
      if (!watermark)
        throw new PlanError("The load has neither slices nor a watermark, so it has no interval to load again");
      return { ...scope, column: watermark.column, on: "source", type: watermark.type, zone: "UTC" };
    }
  }
}
