import type { HistoryPlan } from "../history/plan.ts";
import type { Declared, Periods } from "../http/periods.ts";
import type { MarkForm, Mode } from "../pipeline/pipeline.ts";
import type { Figure } from "../proof/figure.ts";
import type { DayInterval } from "../schedule/intervals.ts";
import type { AnalysedPart, AnalysedRule } from "../shape/analyse.ts";
import type { Hashing } from "../sql/hash.ts";
import type { TableName } from "../sql/identifier.ts";
import type { Slicing } from "../sql/slice.ts";

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

/**
 * What is staged of each line beside its values: the file it is of; and of one that is no row what is wrong with it, where it
 * stands, and its text. Under names that no source gives a column.
 */
export const lineText = "undercoat line";
export const lineColumns: RawColumn[] = ["undercoat file", "undercoat fault", "undercoat place", lineText].map(
  (name) => ({ name, type: "text", cast: false }),
);

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
