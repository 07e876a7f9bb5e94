import type { CsvFormat, From } from "../pipeline/pipeline.ts";
import type { ColumnType } from "../sql/type.ts";

/** One readable thing in a source, as a list shows it. */
export interface DatasetSummary {
  schema: string;
  name: string;
  kind: "table" | "view" | "materialized view" | "partitioned table" | "foreign table" | "file" | "resource";
  /** the source's own estimate; null where it has none */
  rows: string | null;
  /** bytes on disk, indexes included; null for views */
  bytes: string | null;
  comment: string | null;
}

export interface DatasetColumn {
  name: string;
  /** as the source declares it: an enum's or a domain's own name */
  declared: string;
  type: ColumnType;
  /** the warehouse type that holds its values */
  warehouseType: string;
  notNull: boolean;
  generated: boolean;
  /** true where the table fills the column itself when no value is given */
  hasDefault: boolean;
  comment: string | null;
  /** the narrowest type that its values fit, of a column that comes as text and is converted to it */
  fits?: string;
  /** the sign before a number's decimals in its texts, where that is not a point */
  decimal?: ",";
  /** true for a column that the source no longer gives, or gives in a form that can't be taken, and that is filled with null */
  missing?: true;
}

export interface DatasetIndex {
  name: string;
  columns: string[];
  unique: boolean;
  primary: boolean;
}

/** Everything a pipeline's author needs to know of one dataset. */
export interface Dataset {
  columns: DatasetColumn[];
  indexes: DatasetIndex[];
  /** true where rows are read from lines, of which some may be no row at all */
  lines?: true;
  /** of an application: what seems to identify a record, and to tell of its changes; `tracked`: it tells by itself what changed since it was read last */
  proposal?: { key: string[]; changes: string | null; asksChanges?: true; tracked?: true };
}

/** The beginning of a file as it stands, and what becomes of it. */
export interface Glance {
  /** which file was looked at, and of how many that fit */
  file: string;
  files: number;
  /** the sheet, of a workbook */
  sheet: string | null;
  /** how it is written, as guessed or said; null for what is no text of rows and fields */
  form: (Required<Omit<CsvFormat, "decimal" | "dates">> & Pick<CsvFormat, "dates">) | null;
  /** its first lines as they stand; empty for what is no text */
  raw: string[];
  columns: { name: string; type: string; decimal?: "," }[];
  /** its first records: a row's values, or why a line is no row */
  rows: { fields: (string | null)[]; fault: string | null }[];
  /** of an application's parameters those that name several of some things, with all that they may name */
  choices?: { parameter: string; values: string[] }[];
}

/** What an application's answer seems to be, and what was found out by trying. */
export interface Proposal {
  from: From;
  /** what identifies a record, and what tells of its changes */
  key: string | null;
  changes: string | null;
  /** what was tried, in sentences, and whether it held */
  tried: { words: string; holds: boolean }[];
}

/** How far a scan has read. */
export interface ScanProgress {
  /** rows counted so far */
  rows: number;
  /** bytes read so far, and of all */
  bytes: number;
  of: number;
}

/** What reading all of a dataset found. */
export interface Scan {
  rows: number;
  /** lines that are no rows */
  faults: number;
  /** the narrowest type of each column that all of its values fit */
  types: Record<string, string>;
  /** the sign before numbers' decimals, where that is a comma */
  decimal?: ",";
}

/** A column that could tell what changed. */
export interface TimeColumn {
  column: string;
  type: string;
  earliest: string | null;
  latest: string | null;
  /** how fine its values are */
  grain: "microsecond" | "millisecond" | "second" | "minute" | "hour" | "day" | "whole number" | null;
  nulls: boolean;
  /** true where an index starts with it, so that reading what changed does not read everything */
  indexed: boolean;
  /** rows the answer was taken from; null where it came from an index's two ends */
  sampled: string | null;
  suggested: boolean;
  why: string;
}

/** The columns of a key that tells every row apart without nulls: the primary key, else a unique index on columns that can't be null. */
export function identifyingKey(dataset: Dataset): string[] | null {
  const notNull = new Set(dataset.columns.filter((column) => column.notNull).map((column) => column.name));
  const candidates = dataset.indexes.filter(
    (index) => index.unique && index.columns.every((name) => notNull.has(name)),
  );
  const best =
    candidates.find((index) => index.primary) ?? candidates.sort((a, b) => a.columns.length - b.columns.length)[0];
  return best ? best.columns : null;
}

/** True where the source itself promises that no two rows share these columns and none of them is null. */
export function guaranteesKey(dataset: Dataset, key: readonly string[]): boolean {
  const notNull = new Set(dataset.columns.filter((column) => column.notNull).map((column) => column.name));
  return (
    key.every((name) => notNull.has(name)) &&
    dataset.indexes.some(
      (index) => index.unique && index.columns.length > 0 && index.columns.every((name) => key.includes(name)),
    )
  );
}
