import { createReadStream, createWriteStream } from "node:fs";
import { join } from "node:path";
import type { Readable } from "node:stream";
import { pipeline } from "node:stream/promises";
import { type CsvDialect, columnDates, columnNames, guessCsv } from "@undercoat/core/file/csv";
import { type DateOrder, isoDate } from "@undercoat/core/file/dates";
import { RecordReader, type TextRecord } from "@undercoat/core/file/records";
import type { CsvFormat } from "@undercoat/core/pipeline/pipeline";
import iconv from "iconv-lite";
import { LoadFailure } from "../../failure.ts";
import { type ByteEncoding, beginning, decoded, unpacked } from "./bytes.ts";
import { type Duck, located, named, quoted } from "./duck.ts";
import type { ShapedFile } from "./shaped.ts";
import type { FoundFile } from "./store.ts";

/** So many bytes of a file are looked at for how it is written. */
const looked = 256 * 1024;

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

/** Finds out how a text of rows and fields is written. */
export async function csvOf(duck: Duck, file: FoundFile, csv: CsvFormat, place: number): Promise<ShapedFile> {
  const zipped = file.name.toLowerCase().endsWith(".gz");
  const head = await beginning(unpacked(file.open(), zipped), looked);
  const encoding = csv.encoding ?? encodingOf(head);
  const text = iconv.decode(head, codeOf(encoding, head));
  const dialect = guessCsv(text, csv);
  const names = columnNames(text, dialect);
  if (names.length === 0)
    throw new LoadFailure({
      message: `${file.name} is empty: it has not even a line that names its columns`,
      hint: "Leave it out by the pattern, or remove it.",
    });
  const orders = columnDates(text, dialect, names.length, csv.dates);
  const wide = encoding === "utf-16" ? join(duck.desk, `text-${place}.csv`) : null;
  if (wide !== null)
    await pipeline(unpacked(file.open(), zipped), iconv.decodeStream(codeOf(encoding, head)), createWriteStream(wide));
  const lined: LinedFile = {
    path: wide ?? file.path,
    open: () => (wide === null ? unpacked(file.open(), zipped) : createReadStream(wide)),
    zipped: zipped && wide === null,
    encoding: encoding === "windows-1252" ? "windows-1252" : "utf-8",
    dialect,
    names,
    orders,
  };
  const dated = orders.find((order) => order !== null);
  return {
    file,
    sheet: null,
    names,
    unit: "line",
    form: { ...dialect, encoding, ...(dated ? { dates: dated } : {}) },
    raw: async (most) => text.split(/\r\n|\n|\r/, most),
    records: () => recordsOf(lined),
    quick: lined.path === null || dated ? null : { rows: quickRows(lined), regular: () => isRegular(duck, lined) },
  };
}

/** A file of lines whose form is known. */
interface LinedFile {
  /** where it is on this machine, for the quick reader; null where it is on another */
  path: string | null;
  /** its bytes, unpacked */
  open(): Readable;
  zipped: boolean;
  encoding: ByteEncoding;
  dialect: CsvDialect;
  /** the names of its columns */
  names: string[];
  /** how each column's dates are written, where that is not as ISO 8601 */
  orders: readonly (DateOrder | null)[];
}

/** The quick reader's words for a dialect. */
function quickOptions({ dialect, zipped }: LinedFile): string {
  const { delimiter, quote, header, skip } = dialect;
  return `auto_detect = false, all_varchar = true, delim = ${quoted(delimiter)}, quote = ${quoted(quote)}, escape = ${quoted(quote)}, header = ${header}, skip = ${skip}, compression = ${zipped ? "'gzip'" : "'none'"}`;
}

/** The quick reader's rows of a file; a quoted nothing is an empty text, an unquoted one is null. */
function quickRows(file: LinedFile): string {
  const columns = file.names.map((name) => `${quoted(name)}: 'VARCHAR'`).join(", ");
  return `SELECT * FROM read_csv(${located(file.path ?? "")}, ${quickOptions(file)}, columns = {${columns}}, allow_quoted_nulls = false)`;
}

/**
 * True where every line has as many fields as there are columns and nothing else is wrong with any, so that the quick reader
 * gives exactly what stands there. It pads short lines with null, so that one column more than there are tells both; where it
 * finds a fault, or quotes over several lines, which it can't pad, it fails.
 */
async function isRegular(duck: Duck, file: LinedFile): Promise<boolean> {
  // Of one column an empty line is a row; spaces around quotes are values' own.
  if (file.encoding !== "utf-8" || file.names.length === 1) return false;
  const names = [...file.names.map((_, at) => `c${at}`), "more"];
  const columns = names.map((name) => `${quoted(name)}: 'VARCHAR'`).join(", ");
  const last = named(names.at(-2) ?? "");
  const odd = `regexp_matches(concat(${names.map(named).join(", ")}), '[\\x00\\r\\n]')`;
  const read = `read_csv(${located(file.path ?? "")}, ${quickOptions(file)}, columns = {${columns}}, nullstr = ${quoted("\u0001nothing\u0001")}, null_padding = true)`;
  const even = duck
    .rows(`SELECT count(*) FILTER (WHERE more IS NOT NULL OR ${last} IS NULL OR ${odd}) AS odd FROM ${read}`)
    .then(
      ([row]) => row?.odd === "0",
      () => false,
    );
  const [spaced, regular] = await Promise.all([hasSpacedQuotes(file), even]);
  return regular && !spaced;
}

/** So much of what was read is looked at again with what follows. */
const overlap = 4096;

/** True where a quote may be opened behind spaces, or closed before some: the quick reader leaves those out. */
async function hasSpacedQuotes({ open, dialect: { delimiter, quote } }: LinedFile): Promise<boolean> {
  const [cut, mark] = [delimiter, quote].map((sign) => sign.replace(/[\\^\]]/g, "\\$&"));
  const spaced = new RegExp(`(?:^|[${cut}\r\n])[ \\t]+[${mark}]|[${mark}][ \\t]+(?:[${cut}\r\n]|$)`);
  // Only where a space and a quote stand beside each other is there anything to look at.
  const beside = [` ${quote}`, `\t${quote}`, `${quote} `, `${quote}\t`].map((pair) => Buffer.from(pair, "latin1"));
  let before = Buffer.alloc(0);
  for await (const piece of open()) {
    const bytes = Buffer.concat([before, piece as Buffer]);
    if (beside.some((pair) => bytes.includes(pair)) && spaced.test(bytes.toString("latin1"))) return true;
    before = bytes.subarray(-overlap);
  }
  return false;
}

/** A file's records, exactly, in pieces as they come. Its bytes are read as characters, and told to be text field by field. */
async function* recordsOf(file: LinedFile): AsyncGenerator<TextRecord[]> {
  const { encoding, dialect, names, orders } = file;
  const reader = new RecordReader(dialect, names.length, { lines: dialect.skip, head: dialect.header });
  const told = (record: TextRecord): TextRecord => {
    const { fields, text } = record;
    try {
      const values = fields.map((field, at) => {
        if (field === null) return null;
        const order = orders[at];
        // What is no date stays as it stands, and is no date of the column's either.
        return (order && isoDate(field, order)) || decoded(field, encoding);
      });
      const fault = record.fault ?? (text.includes("\0") ? "holds a zero byte, which no text can" : null);
      return { ...record, fields: values, fault, text: decoded(text, encoding, true) };
    } catch {
      return { ...record, fault: "holds bytes that are no text", text: decoded(text, encoding, true) };
    }
  };
  const bytes = file.open();
  let first = true;
  try {
    for await (const piece of bytes) {
      let text = (piece as Buffer).toString("latin1");
      // The mark of UTF-8.
      if (first && text.startsWith("\u00ef\u00bb\u00bf")) text = text.slice(3);
      first = false;
      yield [...reader.read(text, false)].map(told);
    }
    yield [...reader.read("", true)].map(told);
  } finally {
    bytes.destroy();
  }
}
