import { createReadStream, createWriteStream } from "node:fs";
import { join } from "node:path";
import { pipeline } from "node:stream/promises";
import { createGunzip, gunzipSync, constants as zlib } from "node:zlib";
import { columnNames, guessCsv } from "@undercoat/core/file/csv";
import { type Counts, fitting, type Pattern, patterns } from "@undercoat/core/file/fits";
import { formatOf } from "@undercoat/core/file/format";
import type { CsvFormat } from "@undercoat/core/pipeline/pipeline";
import iconv from "iconv-lite";
import { LoadFailure } from "../../failure.ts";
import { type Duck, named, quoted } from "./duck.ts";
import { beginning, type FoundFile } from "./folder.ts";
import { type LinedFile, quickRows, recordsOf } from "./lines.ts";

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
  /** SQL that gives its rows as texts under the names of its columns, where it can be read quickly; `lines` else */
  rows: string;
  /** a file of lines, of which some may be no rows */
  lines: LinedFile | null;
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

const codeOf = (encoding: Encoding, bytes: Buffer) =>
  encoding === "utf-16" ? (bytes[0] === 0xfe ? "utf-16be" : "utf-16le") : encoding;

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
  const text = iconv.decode(head, codeOf(encoding, head));
  const said = format === "tsv" ? { delimiter: "\t", ...csv } : csv;
  const dialect = guessCsv(text, said);
  const names = columnNames(text, dialect);
  if (names.length === 0)
    throw new LoadFailure({
      message: `${file.name} is empty: it has not even a line that names its columns`,
      hint: "Leave it out by the pattern, or remove it.",
    });
  const path = encoding === "utf-16" ? join(duck.desk, `text-${place}.csv`) : file.path;
  if (encoding === "utf-16")
    await pipeline(
      zipped ? createReadStream(file.path).pipe(createGunzip()) : createReadStream(file.path),
      iconv.decodeStream(codeOf(encoding, head)),
      createWriteStream(path),
    );
  const lined: LinedFile = {
    path,
    zipped: zipped && path === file.path,
    encoding: encoding === "windows-1252" ? "windows-1252" : "utf-8",
    dialect,
    names,
  };
  return {
    file,
    names,
    rows: quickRows(lined),
    lines: lined,
    columns: () => columnsOf(lined, csv.decimal),
  };
}

/** The narrowest type of each column that all of the first rows' values fit. */
async function columnsOf(lined: LinedFile, decimal?: "." | ","): Promise<FileColumn[]> {
  const kinds = (Object.entries(patterns) as [Pattern, string][]).map(
    ([kind, pattern]) => [kind, new RegExp(`^(?:${pattern.replace("(?i:", "(?:")})$`, "i")] as const,
  );
  const counts = lined.names.map(
    () => ({ all: 0, ...Object.fromEntries(kinds.map(([kind]) => [kind, 0])) }) as Record<string, number>,
  );
  let rows = 0;
  for await (const piece of recordsOf(lined)) {
    for (const { fields, fault } of piece) {
      if (fault !== null) continue;
      rows++;
      for (const [at, field] of fields.entries()) {
        const count = counts[at];
        if (field === null || !count) continue;
        count.all = (count.all ?? 0) + 1;
        for (const [kind, form] of kinds) if (form.test(field)) count[kind] = (count[kind] ?? 0) + 1;
      }
    }
    if (rows >= sampled) break;
  }
  return lined.names.map((name, at) => {
    const all = Object.fromEntries(Object.entries(counts[at] ?? {}).map(([kind, count]) => [kind, BigInt(count)]));
    return { name, ...fitting(all as Counts, decimal) };
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
    lines: null,
    columns: async () =>
      described.map((row) => ({ name: row.column_name ?? "", fits: typeOfParquet(row.column_type ?? "") })),
  };
}
