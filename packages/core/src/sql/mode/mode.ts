import type { LoadPlan } from "../../plan/plan.ts";
import type { TableName } from "../identifier.ts";
import { append } from "./append.ts";
import { history } from "./history.ts";
import { appendWithoutKey } from "./multiset.ts";
import { replace } from "./replace.ts";
import { upsert } from "./upsert.ts";

/** One statement by which accepted rows are written; the rows it writes count as one number of the tally. */
export interface WriteStep {
  /** `rows are added` */
  message: string;
  sql: string;
  counts: keyof Counted | null;
  /** SQL that gives `some`; where that is false the statement is not needed */
  only?: string;
}

/** Rows that statements wrote, by what they count as. */
export interface Counted {
  new: bigint;
  changed: bigint;
  deleted: bigint;
  /** versions that were opened, ended and overwritten, in mode history */
  versions: bigint;
  closed: bigint;
  overwritten: bigint;
}

/** Rows of a tally that a mode decides on, as numbers; accepted = new + changed + same. */
export interface Written {
  new: bigint;
  changed: bigint;
  same: bigint;
  deleted: bigint;
  versions?: bigint;
  closed?: bigint;
  overwritten?: bigint;
}

/** How a mode writes: its statements, and what their counts mean. */
export interface WriteMode {
  /** SQL that gives `known`, how many accepted rows the target has already; null where that decides nothing */
  known(plan: LoadPlan, rows: TableName): string | null;
  /** a first statement for rows that look new, which adds what the target lacks; where it is given, and was needed, those that follow add nothing */
  ahead?(plan: LoadPlan, rows: TableName): WriteStep | null;
  /** the statements that write, in order; `added`: columns that the target got in this very load */
  steps(plan: LoadPlan, rows: TableName, added: readonly string[]): WriteStep[];
  /** SQL that gives `known`, `changed` and `deleted` as they would be, without writing; null where only writing tells; `lacking`: columns that the target is yet to get */
  weigh(plan: LoadPlan, rows: TableName, lacking: ReadonlySet<string>): string | null;
  /** the tally of what was counted (or weighed), or null where that can't be: something else wrote at the same time */
  tally(accepted: bigint, known: bigint, counted: Omit<Counted, "new"> & { new: bigint | null }): Written | null;
  /** statements whose counts are added up after the writing, where rows count as other than they were written; see Counted */
  outcome?(plan: LoadPlan, rows: TableName): { sql: string; only?: string }[];
}

/** The mode of a load; a new mode is one file and one line here. */
export function modeOf(plan: LoadPlan): WriteMode {
  switch (plan.write.mode) {
    case "replace":
      return replace;
    case "append":
      return plan.write.key.length ? append : appendWithoutKey;
    case "upsert":
      return upsert;
    case "history":
      return history;
  }
}
