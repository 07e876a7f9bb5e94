import { createReadStream, createWriteStream } from "node:fs";
import { join } from "node:path";
import { pipeline } from "node:stream/promises";
import { createGunzip, gunzipSync, constants as zlib } from "node:zlib";
import { type CsvDialect, columnNames, guessCsv } from "@undercoat/core/file/csv";
import { type Counts, fitting, type Pattern, patterns } from "@undercoat/core/file/fits";
import { formatOf } from "@undercoat/core/file/format";
import type { CsvFormat } from "@undercoat/core/pipeline/pipeline";
import { LoadFailure } from "../../failure.ts";
import { type Duck, named, quoted } from "./duck.ts";
import { beginning, type FoundFile } from "./folder.ts";

/** So many bytes of a file are looked at for how it is written, and so many of its rows for the types of its columns. */
const looked = 256 * 1024;
const sampled = 20_000;

export interface FileColumn {
  name: string;
  fits: string;
  decimal?: ",";
}

/** A file whose form is known, and how its rows are asked for. */
export interface ShapedFile {
  file: FoundFile;
  names: string[];
  /** its rows as texts under the names of its columns */
  rows: string;
  /** the table in which lines that are no rows are found once it has been read; null where there are none such */
  faults: string | null;
  columns(): Promise<FileColumn[]>;
}

type Encoding = NonNullable<CsvFormat["encoding"]>;

/** How a text's bytes are to be read: by its mark, else UTF-8 where that fits, else windows-1252. */
function encodingOf(bytes: Buffer): Encoding {
  if ((bytes[0] === 0xff && bytes[1] === 0xfe) || (bytes[0] === 0xfe && bytes[1] === 0xff)) return "utf-16";
  try {
    // A character may be cut at the end of what is looked at.
    new TextDecoder("utf-8", { fatal: true }).decode(bytes, { stream: true });
    return "utf-8";
  } catch {
    return "windows-1252";
  }
}

const decoderOf = (encoding: Encoding, bytes: Buffer) =>
  new TextDecoder(encoding === "utf-16" ? (bytes[0] === 0xfe ? "utf-16be" : "utf-16le") : encoding);

/** Finds out how a file is written. @param place a number that no other file of this reader has */
export async function shapeOf(duck: Duck, file: FoundFile, csv: CsvFormat = {}, place = 0): Promise<ShapedFile> {
  const format = formatOf(file.name);
  if (format === null)
    throw new LoadFailure({
      message: `${file.name} is in no format that is read`,
      hint: "Files end in .csv, .tsv, .txt or .parquet, those of text also in .gz.",
    });
  if (format === "parquet") return parquetOf(duck, file);
  const zipped = file.name.toLowerCase().endsWith(".gz");
  const bytes = await beginning(file.path, looked);
  const head = zipped ? gunzipSync(bytes, { finishFlush: zlib.Z_SYNC_FLUSH }) : bytes;
  const encoding = csv.encoding ?? encodingOf(head);
  const text = decoderOf(encoding, head).decode(head, { stream: true });
  const said = format === "tsv" ? { delimiter: "\t", ...csv } : csv;
  const dialect = guessCsv(text, said);
  const names = columnNames(text, dialect);
  if (names.length === 0)
    throw new LoadFailure({
      message: `${file.name} is empty: it has not even a line that names its columns`,
      hint: "Leave it out by the pattern, or remove it.",
    });
  const path = encoding === "utf-8" ? file.path : join(duck.desk, `text-${place}.csv`);
  if (encoding !== "utf-8")
    await pipeline(
      zipped ? createReadStream(file.path).pipe(createGunzip()) : createReadStream(file.path),
      recode(decoderOf(encoding, head)),
      createWriteStream(path),
    );
  const faults = `faults_${place}`;
  const rows = `SELECT * FROM read_csv(${quoted(path)}, ${csvOptions(dialect, names, faults, zipped && path === file.path)})`;
  return { file, names, rows, faults, columns: () => columnsOf(duck, `${rows} LIMIT ${sampled}`, names, csv.decimal) };
}

/** Texts of another encoding as UTF-8. */
function recode(decoder: TextDecoder) {
  return async function* (source: AsyncIterable<Buffer>): AsyncGenerator<string> {
    for await (const piece of source) yield decoder.decode(piece, { stream: true });
    yield decoder.decode();
  };
}

function csvOptions({ delimiter, quote, header, skip }: CsvDialect, names: string[], faults: string, zipped: boolean) {
  const columns = names.map((name) => `${quoted(name)}: 'VARCHAR'`).join(", ");
  const read = `auto_detect = false, all_varchar = true, columns = {${columns}}, delim = ${quoted(delimiter)}, quote = ${quoted(quote)}, escape = ${quoted(quote)}, header = ${header}, skip = ${skip}, compression = ${zipped ? "'gzip'" : "'none'"}`;
  // A quoted nothing is an empty text, an unquoted one is null.
  return `${read}, allow_quoted_nulls = false, store_rejects = true, rejects_table = ${quoted(faults)}, rejects_scan = ${quoted(`${faults}_scan`)}, rejects_limit = 0, max_line_size = 8388608`;
}

/** The narrowest type of each column that all of some rows' values fit. */
async function columnsOf(duck: Duck, rows: string, names: string[], decimal?: "." | ","): Promise<FileColumn[]> {
  const kinds = Object.entries(patterns) as [Pattern, string][];
  const counts = names.flatMap((name, at) => [
    `count(${named(name)}) AS c${at}_all`,
    ...kinds.map(
      ([kind, pattern]) =>
        `count(*) FILTER (WHERE regexp_full_match(${named(name)}, ${quoted(pattern)})) AS c${at}_${kind}`,
    ),
  ]);
  const [row = {}] = await duck.rows(`SELECT ${counts.join(", ")} FROM (${rows})`);
  return names.map((name, at) => {
    const count = (what: string) => BigInt(row[`c${at}_${what}`] ?? "0");
    const all = Object.fromEntries([["all", count("all")], ...kinds.map(([kind]) => [kind, count(kind)])]) as Counts;
    return { name, ...fitting(all, decimal) };
  });
}

/** The warehouse type of a type of Parquet's, by what it holds. */
function typeOfParquet(type: string): string {
  const decimal = /^DECIMAL\((\d+),(\d+)\)$/.exec(type);
  if (decimal) return `numeric(${decimal[1]},${decimal[2]})`;
  const known: Record<string, string> = {
    BOOLEAN: "boolean",
    TINYINT: "smallint",
    SMALLINT: "smallint",
    UTINYINT: "smallint",
    INTEGER: "integer",
    USMALLINT: "integer",
    BIGINT: "bigint",
    UINTEGER: "bigint",
    UBIGINT: "numeric",
    HUGEINT: "numeric",
    FLOAT: "real",
    DOUBLE: "double precision",
    DATE: "date",
    TIME: "time without time zone",
    TIMESTAMP: "timestamp without time zone",
    TIMESTAMP_NS: "timestamp without time zone",
    "TIMESTAMP WITH TIME ZONE": "timestamp with time zone",
    UUID: "uuid",
  };
  return known[type] ?? "text";
}

async function parquetOf(duck: Duck, file: FoundFile): Promise<ShapedFile> {
  const read = `read_parquet(${quoted(file.path)})`;
  const described = await duck.rows(`SELECT column_name, column_type FROM (DESCRIBE SELECT * FROM ${read})`);
  const names = described.map((row) => row.column_name ?? "");
  const texts = names.map((name) => `CAST(${named(name)} AS VARCHAR) AS ${named(name)}`);
  return {
    file,
    names,
    rows: `SELECT ${texts.join(", ")} FROM ${read}`,
    faults: null,
    columns: async () =>
      described.map((row) => ({ name: row.column_name ?? "", fits: typeOfParquet(row.column_type ?? "") })),
  };
}
