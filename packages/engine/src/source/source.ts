import type { Readable } from "node:stream";
import type { Dataset, DatasetSummary, TimeColumn } from "@undercoat/core/dataset/dataset";
import type { From } from "@undercoat/core/pipeline/pipeline";
import type { LoadPlan, Window } from "@undercoat/core/plan/plan";
import type { TableName } from "@undercoat/core/sql/identifier";
import type { CheckStep } from "../connection/check.ts";
import type { ProofSide } from "../proof/side.ts";
import type { Row } from "../session.ts";

/** Rows as a byte stream in PostgreSQL's binary COPY format; `rowCount` is exact once the stream has ended. */
export type RowStream = Readable & { rowCount: number };

/** One unchanging moment of a source, that of the first question put to it: rows, watermark and figures read through it belong together. */
export interface Snapshot extends ProofSide {
  describe(from: From): Promise<Dataset>;
  rows(plan: LoadPlan, window: Window): RowStream;
  /** the highest watermark of a window's rows as text; null where there is none */
  highWater(plan: LoadPlan, window: Window): Promise<string | null>;
  /** the first rows under the warehouse's names, as text */
  preview(plan: LoadPlan, window: Window, limit: number): Promise<Row[]>;
  /** the statement by which a window is read, for people */
  statement(plan: LoadPlan, window: Window): string;
  close(): Promise<void>;
}

/** An outside system that datasets are read from. A kind is a folder with one of these, and a line in the registry. */
export interface Source {
  /** Tells each step as it ends; true when all passed. `asWarehouse` asks for the right to write too. */
  check(asWarehouse: boolean, tell: (step: CheckStep) => void): Promise<boolean>;
  datasets(): Promise<DatasetSummary[]>;
  dataset(table: TableName): Promise<Dataset>;
  firstRows(table: TableName, limit: number): Promise<Row[]>;
  timeColumns(table: TableName): Promise<TimeColumn[]>;
  snapshot(application: string, signal?: AbortSignal): Promise<Snapshot>;
}
