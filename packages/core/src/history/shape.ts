/** What a reader of a history needs to know of it: its columns by what they are for. Kept in the warehouse by the loads. */
export interface HistoryShape {
  key: string[];
  from: string;
  to: string;
  /** what `to` holds in a current version; null for null */
  end: string | null;
  current: { column: string; yes: string };
  change: string | null;
  surrogate: string | null;
  /** what the change of each other column of the load does */
  roles: [column: string, role: string][];
  /** for columns that keep the value before, the column that holds it */
  previous: [column: string, before: string][];
  overwrite: "all" | "current";
  since: string | null;
}

/** A table that keeps a history. */
export interface KeptHistory {
  /** `schema.table` */
  target: string;
  pipeline: string;
  load: string;
  shape: HistoryShape;
}

/** A row as text. */
type Values = Record<string, string | null>;

/** One key through time. */
export interface Lifeline {
  shape: HistoryShape;
  pipeline: string;
  load: string;
  /** its versions in the order of time, every column as text */
  versions: Values[];
  /** moments at which the source said of it what its version says already */
  moments: string[];
  /** moments at which it was found gone from the source */
  gone: string[];
  /** the runs that opened or ended a version, by the moment */
  runs: Record<string, number>;
  /** where a run corrected what a version said, or when it began */
  corrections: { at: string; run: number | null }[];
  /** the keys before and after it, in their order */
  previous: string[] | null;
  next: string[] | null;
}

/** A history as of a moment. */
export interface AsOf {
  shape: HistoryShape;
  pipeline: string;
  load: string;
  /** versions that were valid then, as exact text */
  count: string;
  columns: string[];
  rows: Values[];
  /** when versions began, from the first to the last, in steps of equal length; none where fewer than two moments are known */
  changes: { from: string; to: string; versions: string[] } | null;
}

/** What changed between two moments. */
export interface Between {
  /** keys that are only in the later, only in the earlier, and in both but other */
  added: string;
  gone: string;
  changed: string;
  /** how many keys changed in each column */
  columns: { column: string; keys: string }[];
  /** the first keys of each kind */
  keys: { key: string[]; how: "added" | "gone" | "changed" }[];
}
