import type { Writable } from "node:stream";
import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import type { LoadProof, Tally } from "@undercoat/core/run/run";
import type { TableName } from "@undercoat/core/sql/identifier";
import type { ProofSide } from "../proof/side.ts";

/** Takes rows as a binary COPY stream; `rowCount` is exact once it has finished. */
export type RowSink = Writable & { rowCount: number };

/** Told of every statement before it runs, and of what it did after. */
export type Told = (message: string, sql?: string) => void;

/** What the apply did, before reading and rejecting are counted in. */
export type Applied = Pick<Tally, "new" | "changed" | "same" | "deleted">;

/** One load's session with a warehouse: a lock on the target, then one transaction that holds everything or nothing. */
export interface WarehouseSession extends ProofSide {
  /** Holds the target against every other run until the session closes. `waiting` is told who holds it now. */
  lock(target: TableName, waiting: (holder: string) => void): Promise<void>;
  describe(target: TableName): Promise<Dataset | null>;
  /** the stored watermark, or null where none was kept or the load read something else then */
  watermark(plan: LoadPlan): Promise<string | null>;
  begin(): Promise<void>;
  /** Makes the target where it is missing, adds columns it lacks, refuses a target that can't take the rows. True where it was made. */
  prepare(plan: LoadPlan, existing: Dataset | null, told: Told): Promise<boolean>;
  /** Makes the stage. */
  stage(plan: LoadPlan, run: number): Promise<TableName>;
  sink(plan: LoadPlan, table: TableName): RowSink;
  /** rows and bytes taken so far by the running COPY, asked from beside it; null when it can't be told */
  progress(): Promise<{ rows: string; bytes: string } | null>;
  /** Refuses null and repeated keys in the stage where the source does not rule them out. */
  checkKeys(plan: LoadPlan, stage: TableName): Promise<void>;
  touched(plan: LoadPlan, stage: TableName): Promise<(string | null)[]>;
  apply(plan: LoadPlan, stage: TableName, read: string, told: Told): Promise<Applied>;
  /** Adds the key to a target filled directly. */
  finishTarget(plan: LoadPlan, told: Told): Promise<void>;
  dropStage(stage: TableName): Promise<void>;
  /** true where comparing the whole target at every run costs little */
  isSmall(target: TableName): Promise<boolean>;
  record(plan: LoadPlan, run: string, tally: Tally, watermark: { value: string; keep: boolean } | null, proof: LoadProof): Promise<void>;
  commit(): Promise<void>;
  close(): Promise<void>;
}

/** Two sides of a comparison read at one moment each. */
export interface WarehouseSnapshot extends ProofSide {
  describe(target: TableName): Promise<Dataset | null>;
  watermark(plan: LoadPlan): Promise<string | null>;
  close(): Promise<void>;
}

/** An outside system that loads write into. */
export interface Warehouse {
  session(application: string, signal?: AbortSignal): Promise<WarehouseSession>;
  snapshot(application: string, signal?: AbortSignal): Promise<WarehouseSnapshot>;
  /** what a run left behind, by load */
  tallies(run: string): Promise<Map<string, { tally: Tally; watermark: string | null; proof: LoadProof }>>;
}

