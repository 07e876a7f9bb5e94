/** A row as a comparison sees it: its key's values and a hash of all its columns. */
export interface HashedRow {
  key: (string | null)[];
  hash: string;
}

export interface KeyDifference {
  key: (string | null)[];
  kind: "missing" | "extra" | "different";
}

/**
 * Tells which keys two sets of rows differ by, counting equal rows: a row that stands twice on one side and once on
 * the other is a difference too.
 * @returns missing: only at the source; extra: only in the warehouse; different: on both with other values.
 */
export function differences(source: Iterable<HashedRow>, warehouse: Iterable<HashedRow>): KeyDifference[] {
  const open = new Map<string, { key: (string | null)[]; left: string[]; right: string[] }>();
  const entry = (row: HashedRow) => {
    const name = JSON.stringify(row.key);
    let found = open.get(name);
    if (!found) {
      found = { key: row.key, left: [], right: [] };
      open.set(name, found);
    }
    return found;
  };
  for (const row of source) entry(row).left.push(row.hash);
  for (const row of warehouse) {
    const found = entry(row);
    const at = found.left.indexOf(row.hash);
    if (at >= 0) found.left.splice(at, 1);
    else found.right.push(row.hash);
  }
  const result: KeyDifference[] = [];
  for (const { key, left, right } of open.values()) {
    const both = Math.min(left.length, right.length);
    for (let n = 0; n < both; n++) result.push({ key, kind: "different" });
    for (let n = both; n < left.length; n++) result.push({ key, kind: "missing" });
    for (let n = both; n < right.length; n++) result.push({ key, kind: "extra" });
  }
  return result;
}

/** A differing row with its values as text in the order of the load's columns; null where that side has no such row. */
export interface DifferingRow {
  key: (string | null)[];
  kind: KeyDifference["kind"];
  source: (string | null)[] | null;
  warehouse: (string | null)[] | null;
  /** positions of the columns whose values differ */
  cells: number[];
}

/** What a row-by-row comparison found and what it took. */
export interface RowDifferences {
  columns: string[];
  key: string[];
  missing: number;
  extra: number;
  different: number;
  /** false where the comparison stopped at its limit: there are at least so many */
  complete: boolean;
  rows: DifferingRow[];
  /** checksums compared, keys moved, and the bytes of both, on both sides together */
  checksums: number;
  keysRead: number;
  bytes: number;
  causes: Cause[];
}

/** Why rows differ, as far as their watermarks tell. */
export interface Cause {
  kind: "waiting" | "late" | "deleted";
  rows: number;
  /** for late rows: how long before the watermark the earliest of them lies, as PostgreSQL prints an interval */
  late?: string | null;
}
