/** What a file's name says of how it is written. */

export type FileFormat = "csv" | "tsv" | "json" | "ndjson" | "parquet" | "xlsx";

const byEnding: Record<string, FileFormat> = {
  csv: "csv",
  txt: "csv",
  tsv: "tsv",
  parquet: "parquet",
  xlsx: "xlsx",
  json: "json",
  ndjson: "ndjson",
  jsonl: "ndjson",
};

/** The format of a file by its name, `.gz` aside; null where none is known. */
export function formatOf(name: string): FileFormat | null {
  const ending = /\.([^./]+?)(\.gz)?$/i.exec(name)?.[1]?.toLowerCase();
  return (ending && byEnding[ending]) || null;
}
