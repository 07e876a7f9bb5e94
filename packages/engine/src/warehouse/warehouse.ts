import type { Readable, Writable } from "node:stream";
import type { RejectedList } from "@undercoat/core/api/api";
import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { LoadPlan, Window } from "@undercoat/core/plan/plan";
import type { Example } from "@undercoat/core/run/rehearsal";
import type { Findings, LoadProof, Tally } from "@undercoat/core/run/run";
import type { KnownColumn } from "@undercoat/core/shape/drift";
import type { RejectedFilter } from "@undercoat/core/sql/reject";
import type { TableName } from "@undercoat/core/sql/identifier";
import type { TargetChange } from "@undercoat/core/sql/warehouse";
import type { ProofSide } from "../proof/side.ts";
import type { Snapshot, Source } from "../source/source.ts";

/** Takes rows as a binary COPY stream; `rowCount` is exact once it has finished. */
export type RowSink = Writable & { rowCount: number };

/** Told of every statement before it runs, and of what it did after. */
export type Told = (message: string, sql?: string) => void;

/** What the check of a stage found. */
export interface Checked extends Pick<Findings, "reasons" | "counted"> {
  rejected: string;
}

/** What the apply did, before reading and rejecting are counted in. */
export type Applied = Pick<Tally, "new" | "changed" | "same" | "deleted">;

/** Where a load's own records stand. */
export interface LoadPlace {
  pipeline: string;
  load: string;
  target: TableName;
}

/** What a load knew when it last ran. */
export interface Known {
  /** the source's columns; null where it has not run yet */
  columns: KnownColumn[] | null;
  /** true where it is time to look for rows gone from the source */
  sweep: boolean;
}

/** What an apply would do, with examples. */
export interface Weighed extends Applied {
  added: Example[];
  altered: Example[];
}

/** One load's session with a warehouse: a lock on the target, then one transaction that holds everything or nothing. */
export interface WarehouseSession extends WarehouseSnapshot {
  /** Holds the target against every other run until the session closes. `waiting` is told who holds it now. */
  lock(target: TableName, waiting: (holder: string) => void): Promise<void>;
  /** This very session as the source of a load into `target`. */
  inside(target: TableName): Snapshot;
  /** `inside`: the transaction reads one moment, as the source is this database. */
  begin(inside?: boolean): Promise<void>;
  /** Reads and stages without a row leaving the database; how many. */
  take(plan: LoadPlan, window: Window, table: TableName): Promise<string>;
  /** What must be changed at the target before rows are written; throws LoadFailure for a target that can't take them. */
  changes(plan: LoadPlan, existing: Dataset | null, widened: readonly string[]): TargetChange[];
  /** Makes a schema where it is missing, before the load's transaction begins; an empty one stays if the load fails. */
  makeSchema(schema: string): Promise<void>;
  change(changes: readonly TargetChange[], told: Told): Promise<void>;
  /** Makes the stage. */
  stage(plan: LoadPlan, run: number): Promise<TableName>;
  sink(plan: LoadPlan, table: TableName): RowSink;
  /** rows and bytes taken so far by the running COPY, asked from beside it; null when it can't be told */
  progress(): Promise<{ rows: string; bytes: string } | null>;
  /**
   * Turns away the staged rows that don't fit a type, a rule or the key, and leaves the others as the warehouse would hold
   * them: in `into` where it is given and the load has a shape, else in a table of their own or in the stage itself.
   * @throws LoadFailure when more are turned away than the load allows.
   */
  sift(plan: LoadPlan, stage: TableName, run: number, read: string, into: TableName | null, told: Told): Promise<Checked & { rows: TableName }>;
  /**
   * Takes rows that were read again off the list of rejected rows (all where the whole dataset was read, those of `ids`, and
   * those in the stage), writes this run's own onto it, and clears the stage of them.
   */
  keepRejected(plan: LoadPlan, stage: TableName | null, run: { id: number; uid: string }, read: { whole: boolean; ids: string[] | null }, rejected: string): Promise<void>;
  /** What to read for rejected rows that are to be loaded again, and which they are; all open ones where `ids` is null. */
  chosenRejected(plan: LoadPlan, ids: string[] | null): Promise<{ window: Window; ids: string[] }>;
  touched(plan: LoadPlan, stage: TableName): Promise<(string | null)[]>;
  /** Removes or marks the rows of some keys, as the load's policy says; how many, and the slices they were in. */
  sweep(plan: LoadPlan, keys: string[][]): Promise<{ rows: string; slices: (string | null)[] }>;
  /** the target's rows, those marked as gone left out */
  targetRows(plan: LoadPlan): Promise<bigint>;
  /** Rows that came after the watermark had passed them, and by how much at most; null where there were none. */
  late(plan: LoadPlan, rows: TableName, stored: string): Promise<{ rows: string; most: string } | null>;
  /** The statements by which an apply writes, in their order. */
  steps(plan: LoadPlan): TargetChange[];
  /** What an apply would do, without doing it. */
  weigh(plan: LoadPlan, rows: TableName, accepted: string, existing: Dataset | null, told: Told): Promise<Weighed>;
  /** Some of the rows that were turned away, with their staged values. */
  rejectedExamples(plan: LoadPlan, stage: TableName): Promise<{ reason: string; values: Record<string, string | null> }[]>;
  apply(plan: LoadPlan, stage: TableName, read: string, told: Told): Promise<Applied>;
  /** Adds the key to a new target, once its rows are there. */
  finishTarget(plan: LoadPlan, told: Told): Promise<void>;
  /** Takes the rows that were turned away out of a stage that holds the warehouse's columns. */
  discard(stage: TableName): Promise<void>;
  /** the first rows under the load's columns, as text */
  firstRows(plan: LoadPlan, rows: TableName, limit: number): Promise<(string | null)[][]>;
  dropStage(stage: TableName): Promise<void>;
  /** Undoes everything since begin(). */
  rollback(): Promise<void>;
  /** true where comparing the whole target at every run costs little */
  isSmall(target: TableName): Promise<boolean>;
  record(plan: LoadPlan, run: string, tally: Tally, watermark: { value: string; keep: boolean } | null, proof: LoadProof, known: { columns: KnownColumn[]; swept: boolean }): Promise<void>;
  commit(): Promise<void>;
}

/** One moment of a warehouse. */
export interface WarehouseSnapshot extends ProofSide {
  /** the plan with the rejected rows that a proof leaves out */
  lessRejected(plan: LoadPlan): Promise<LoadPlan>;
  /** `every`: how long after the last look rows gone from the source are looked for again; null for at every run */
  known(place: LoadPlace, every: string | null): Promise<Known>;
  describe(target: TableName): Promise<Dataset | null>;
  /** the stored watermark, or null where none was kept or the load read something else then */
  watermark(plan: LoadPlan): Promise<string | null>;
  close(): Promise<void>;
}

/** An outside system that loads write into. */
export interface Warehouse {
  session(application: string, signal?: AbortSignal): Promise<WarehouseSession>;
  snapshot(application: string, signal?: AbortSignal): Promise<WarehouseSnapshot>;
  /** true where a source is this very database, so that rows need not leave it */
  isInside(source: Source): boolean;
  /** Rejected rows, the latest first, and how many each load has for each reason. */
  rejected(filter: RejectedFilter, limit: number, offset: number): Promise<RejectedList>;
  /** the rejected rows of one load as CSV, their original values as columns of their own */
  rejectedCsv(filter: RejectedFilter): Promise<Readable>;
  /** what a run left behind, by load */
  tallies(run: string): Promise<Map<string, { tally: Tally; watermark: string | null; proof: LoadProof }>>;
}

