import type { TargetChange } from "../sql/target.ts";
import type { Findings, Tally } from "./run.ts";

/** A row as it would be written, beside the target's of the same key; values in the order of the load's columns. */
export interface Example {
  new: (string | null)[];
  held: (string | null)[] | null;
}

/** What a run of one load would do. */
export interface Rehearsal {
  into: string;
  tally: Tally;
  /** so many rows were looked at and no more; null where it was all of them */
  limit: number | null;
  /** what would be changed at the target first */
  changes: TargetChange[];
  findings: Findings;
  columns: string[];
  key: string[];
  added: Example[];
  altered: Example[];
  rejected: { reason: string; values: Record<string, string | null> }[];
  /** what the source would be told of some of them, and of how many it can't be; absent where it is told nothing */
  marks?: { words: string[]; lacking: number };
  /** keys of rows gone from the source; the first of them */
  gone: string[][];
  /** where it would read from */
  watermark: string | null;
}

/** `adds 204, changes 398, leaves 9, rejects 3` */
export function rehearsalWords({ tally }: Pick<Rehearsal, "tally">, grouped: (text: string) => string): string {
  const parts = [
    `adds ${grouped(tally.new)}`,
    `changes ${grouped(tally.changed)}`,
    `leaves ${grouped(tally.same)}`,
    `rejects ${grouped(tally.rejected)}`,
  ];
  return [...parts, ...(tally.deleted === "0" ? [] : [`deletes ${grouped(tally.deleted)}`])].join(", ");
}
