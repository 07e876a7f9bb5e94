/** The shapes that a project file holds and the server stores; one for both, so that nothing is translated between them. */

export type Mode = "replace" | "append" | "upsert";
export type SliceUnit = "hour" | "day" | "week" | "month" | "year";

export interface Watermark {
  column: string;
  /** an ISO 8601 duration for time columns (`PT10M`), a whole number for numeric ones */
  lookBack?: string;
}

export interface From {
  connection: string;
  /** `schema.table`; either this or `query` */
  table?: string;
  /** a read-only SELECT */
  query?: string;
  /** an SQL condition over the source's columns */
  where?: string;
}

export interface Into {
  table: string;
  mode: Mode;
  key?: string[];
  /** what becomes of rows gone from the source */
  deleted?: "keep";
}

export interface ProofBy {
  column: string;
  slice: SliceUnit;
  /** the zone in which a timestamptz falls into a slice; UTC where absent */
  zone?: string;
}

export interface ProofPlan {
  by?: ProofBy;
  figures: string[];
}

export interface Load {
  from: From;
  watermark?: Watermark;
  /** warehouse column → source column; absent: every column under its own name */
  columns?: Record<string, string>;
  into: Into;
  proof?: ProofPlan;
}

export type Schedule = ({ every: string } | { cron: string }) & { zone?: string; paused?: boolean };

/** A versioned, reusable list of loads. The order of `loads` is the order in which they run. */
export interface Pipeline {
  title: string;
  warehouse: string;
  loads: Record<string, Load>;
  schedule?: Schedule;
}

export interface ConnectionSettings {
  kind: "postgres";
  host: string;
  port: number;
  database: string;
  user: string;
  tls: "off" | "require" | "verify";
}

/** What a load proves when its author has not said. */
export const wholeTableRows: ProofPlan = { figures: ["rows"] };
