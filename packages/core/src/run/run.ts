import type { MarksTold } from "../mark/mark.ts";
import { grouped } from "../proof/decimal.ts";
import type { Depth, SliceFigures, Verdict } from "../proof/verdict.ts";
import type { DriftNote } from "./drift.ts";

/** `unknown`: its worker is gone, and the warehouse has not answered yet whether it had committed; it is asked until it does. */
export type RunStatus = "queued" | "running" | "unknown" | "finished" | "failed" | "cancelled";

/** True for a run or load of which more is to come. */
export function isOpen(status: RunStatus): boolean {
  return status === "queued" || status === "running" || status === "unknown";
}
export type RunKind = "load" | "repair" | "prove" | "rehearse";

/** What part of a load a run concerns. */
export type Scope =
  | { kind: "due" }
  /** the whole dataset again, whatever the watermark says */
  | { kind: "whole" }
  /** an earlier interval again: from (included) to (excluded), over the proof's slice column or the watermark */
  | { kind: "interval"; from: string; to: string }
  /** one slice by its text */
  | { kind: "slice"; slice: string | null }
  /** some slices, for a proof */
  | { kind: "slices"; slices: (string | null)[] }
  /** exactly these rows, by their key's values as text */
  | { kind: "keys"; keys: string[][] }
  /** nothing is read: only rows gone from the source are looked for */
  | { kind: "gone" }
  /** rejected rows again, by their numbers in the warehouse's list; null for all of the load's */
  | { kind: "rejected"; ids: string[] | null };

/** True for the scopes that bring a load up to date and move its watermark. */
export function isDue(scope: Scope): boolean {
  return scope.kind === "due" || scope.kind === "whole";
}

/** A run's row accounting, exact text: read = new + changed + same + rejected; deleted is counted beside it. */
export interface Tally {
  read: string;
  new: string;
  changed: string;
  same: string;
  rejected: string;
  deleted: string;
  /** versions opened, ended and overwritten beside it; absent where a load keeps no history */
  versions?: string;
  closed?: string;
  overwritten?: string;
}

export const emptyTally: Tally = { read: "0", new: "0", changed: "0", same: "0", rejected: "0", deleted: "0" };

/** True where every row read is accounted for. */
export function balances(tally: Tally): boolean {
  return BigInt(tally.read) === BigInt(tally.new) + BigInt(tally.changed) + BigInt(tally.same) + BigInt(tally.rejected);
}

/** The sum of several tallies. */
export function addTallies(tallies: readonly Tally[]): Tally {
  const sum = (field: keyof Tally) =>
    tallies.reduce((total, tally) => total + BigInt(tally[field] ?? "0"), 0n).toString();
  const keeping = tallies.some((tally) => tally.versions !== undefined);
  return {
    read: sum("read"),
    new: sum("new"),
    changed: sum("changed"),
    same: sum("same"),
    rejected: sum("rejected"),
    deleted: sum("deleted"),
    ...(keeping ? { versions: sum("versions"), closed: sum("closed"), overwritten: sum("overwritten") } : {}),
  };
}

export type Phase = "wait" | "read" | "stage" | "check" | "apply" | "prove";

/** When a phase ran, in milliseconds since the run began. */
export interface PhaseTime {
  phase: Phase;
  from: number;
  to: number;
}

/** Why rows were turned away, and how many. */
export interface Reason {
  code: string;
  column: string | null;
  /** `amount is not a number` */
  reason: string;
  rows: string;
  /** up to three of the values */
  examples: string[];
}

/** A file as it was received, or a sheet of one. */
export interface FileRead {
  /** the name by which the load knows it */
  name: string;
  bytes: string;
  /** of the whole file's bytes */
  sha256: string;
  /** rows that were read of it, and lines among them that are none */
  rows: string;
  faults: string;
  /** what lies beside it and says what it holds, as far as it was compared: `control.csv: 214 rows, sum of price` */
  control: string[];
}

/** One request as it is told to people: nothing secret stands in it. */
export interface AskedRequest {
  method: string;
  address: string;
  /** what was answered; null where nothing was */
  status: number | null;
  milliseconds: number;
  bytes: number;
  tries: number;
}

/** How many requests more an application may be asked. */
export interface RequestsLeft {
  /** by its own word, and when there are more again (ISO 8601) where it says so; null where it says nothing */
  told: { left: number; resets: string | null } | null;
  /** by the connection's own limits, where it has such */
  minute: { left: number; of: number } | null;
  hour: { left: number; of: number } | null;
}

/** What was asked of an application. */
export interface Asked {
  /** the first of the requests, in their order */
  requests: AskedRequest[];
  /** how many there were in all, and the bytes that came */
  count: number;
  bytes: number;
  /** the beginning of the first page of records as it came */
  first: string | null;
  /** how many records the application said there are, the fewest and the most while it was read, and how many were read; absent where it does not say */
  counts?: { least: string; most: string; read: string };
  /** how many requests were left after the last; absent where nothing limits them */
  left?: RequestsLeft;
}

/** What a load found out besides its tally. */
export interface Findings {
  reasons: Reason[];
  /** rules that only count, and how many rows broke them */
  counted: { rule: string; rows: string }[];
  /** what had changed about the source's columns */
  drift: DriftNote[];
  /** rows that came after the watermark had passed them: how many, and by how much at most (an interval, or a number) */
  late: { rows: string; most: string } | null;
  /** the files that were read, and the sheets of workbooks; absent where none were */
  files?: FileRead[];
  /** of an application: what was asked */
  asked?: Asked;
  /** columns of a history, and how many versions the change of each opened */
  opened?: { column: string; versions: string }[];
  /** what became of marks that were sent back to the source; absent where none were to be */
  told?: MarksTold;
}

export const noFindings: Findings = { reasons: [], counted: [], drift: [], late: null };

/** `amount is not a number (2), method is missing (1)` */
export function reasonWords(reasons: readonly Reason[]): string {
  return reasons.map(({ reason, rows }) => `${reason} (${grouped(rows)})`).join(", ");
}

/** Every value of some rows compared by checksum. */
export interface CellProof {
  /** how many rows, as exact text */
  rows: string;
  verdict: "proved" | "disagrees";
  /** all rows that the proof is about, or those that the run read */
  of: "all" | "read";
}

/** Rows that look a version up, and those that don't find exactly one. */
export interface WithinProof {
  dimension: string;
  /** rows looked at, as exact text: all of the table, or those that the run read */
  rows: string;
  of: "all" | "read";
  astray: string;
  /** the first of them: what they look up, and when, and how many versions they find */
  examples: { key: string[]; at: string | null; found: string }[];
}

/** How many rows the source itself counts, and how many stand in the warehouse, exact text: in all, and in the slices that a run brought news to. */
export interface CountProof {
  source: string;
  warehouse: string;
  slices: { slice: string | null; source: string; warehouse: string }[];
}

export const countsAgree = (counted: CountProof): boolean =>
  [counted, ...counted.slices].every(({ source, warehouse }) => source === warehouse);

/** What always holds of versions, looked at. */
export interface HistoryProof {
  /** versions looked at, as exact text */
  versions: string;
  /** those of all keys, or of the keys that the run changed */
  of: "all" | "changed";
  /** what does not hold, and of how many versions */
  broken: { says: string; versions: string }[];
  /** the figures of the oldest proof that is kept, as they were and as the table gives them as of that moment; absent where none can be asked for */
  earlier?: { moment: string; figures: { figure: string; was: string | null; is: string | null }[] };
}

/** True where all that always holds of a history does. */
export function historyHolds({ broken, earlier }: HistoryProof): boolean {
  return broken.length === 0 && (earlier?.figures ?? []).every((pair) => pair.was === pair.is);
}

/** The proof a run leaves: the figures over all it compared, each slice, and the cells of the rows it read. */
export interface LoadProof {
  verdict: Verdict;
  /** `cells` where every value of what the run read (or of all that was asked for) was compared, else `figures` */
  depth: Depth;
  /** where the source's side comes from: the source computed it, it was read again, or only what was received is known */
  how: "source" | "read again" | "received";
  /** true where every slice of the table was compared, false where only those the run touched */
  whole: boolean;
  figures: { figure: string; source: string | null; warehouse: string | null }[];
  slices: SliceFigures[];
  cells: CellProof | null;
  /** what always holds of a history's versions: how many were looked at, and what is broken; absent where a load keeps none */
  history?: HistoryProof;
  /** whether each row finds exactly one version of what it looks up; absent where none is looked up */
  within?: WithinProof;
  /** the source's own counts beside the warehouse's; absent where it was not asked */
  counted?: CountProof;
  /** the slices that the run changed, where they are told; absent where it may have been any */
  touched?: (string | null)[];
  /** rejected rows still open, which both sides leave out */
  without?: string;
  /** why the source's figures could not be computed, where they could not */
  trouble?: string;
  sourceSql: string;
  warehouseSql: string;
}

/** Where the source's side of a proof comes from, as a sentence; nothing where the source itself has worked it out. */
export const howSentence = (how: LoadProof["how"] | null): string =>
  how === "received"
    ? "The source was compared as it was received."
    : how === "read again"
      ? "The source was read again to be compared."
      : "";

/** A failure as a person needs it: the fact, more about it, and what to do. */
export interface Failure {
  message: string;
  detail?: string;
  hint?: string;
}
