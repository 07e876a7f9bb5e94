import { createReadStream } from "node:fs";
import type { Readable } from "node:stream";
import { createGunzip } from "node:zlib";
import type { CsvDialect } from "@undercoat/core/file/csv";
import { RecordReader, type TextRecord } from "@undercoat/core/file/records";
import iconv from "iconv-lite";
import { type Duck, named, quoted } from "./duck.ts";

/** A file of lines whose form is known. */
export interface LinedFile {
  path: string;
  zipped: boolean;
  encoding: "utf-8" | "windows-1252";
  dialect: CsvDialect;
  /** the names of its columns */
  names: string[];
}

/** The quick reader's words for a dialect. */
export function quickOptions({ dialect, zipped }: LinedFile): string {
  const { delimiter, quote, header, skip } = dialect;
  return `auto_detect = false, all_varchar = true, delim = ${quoted(delimiter)}, quote = ${quoted(quote)}, escape = ${quoted(quote)}, header = ${header}, skip = ${skip}, compression = ${zipped ? "'gzip'" : "'none'"}`;
}

/** The quick reader's rows of a file; a quoted nothing is an empty text, an unquoted one is null. */
export function quickRows(file: LinedFile): string {
  const columns = file.names.map((name) => `${quoted(name)}: 'VARCHAR'`).join(", ");
  return `SELECT * FROM read_csv(${quoted(file.path)}, ${quickOptions(file)}, columns = {${columns}}, allow_quoted_nulls = false)`;
}

/**
 * True where every line has as many fields as there are columns and nothing else is wrong with any, so that the quick reader
 * gives exactly what stands there. It pads short lines with null, so that one column more than there are tells both; where it
 * finds a fault, or quotes over several lines, which it can't pad, it fails.
 */
export async function isRegular(duck: Duck, file: LinedFile): Promise<boolean> {
  if (file.encoding !== "utf-8") return false;
  const names = [...file.names.map((_, at) => `c${at}`), "more"];
  const columns = names.map((name) => `${quoted(name)}: 'VARCHAR'`).join(", ");
  const last = named(names.at(-2) ?? "");
  const zero = `contains(concat(${names.map(named).join(", ")}), chr(0))`;
  const read = `read_csv(${quoted(file.path)}, ${quickOptions(file)}, columns = {${columns}}, nullstr = ${quoted("\u0001nothing\u0001")}, null_padding = true)`;
  try {
    const [row] = await duck.rows(
      `SELECT count(*) FILTER (WHERE more IS NOT NULL OR ${last} IS NULL OR ${zero}) AS odd FROM ${read}`,
    );
    return row?.odd === "0";
  } catch {
    return false;
  }
}

/** What bytes mean. @throws TypeError where UTF-8 is asked for and they are none, unless `lenient` */
function decode(bytes: Buffer, encoding: LinedFile["encoding"], lenient = false): string {
  // Node's own decoder takes windows-1252 for Latin 1.
  if (encoding === "windows-1252") return iconv.decode(bytes, "win1252", { stripBOM: false });
  return new TextDecoder("utf-8", { fatal: !lenient, ignoreBOM: true }).decode(bytes);
}

/** What a field's characters are: each stands for one of its bytes. */
function decoded(field: string, encoding: LinedFile["encoding"], lenient = false): string {
  // biome-ignore lint/suspicious/noControlCharactersInRegex: what is no ASCII is looked for.
  return /^[\x00-\x7f]*$/.test(field) ? field : decode(Buffer.from(field, "latin1"), encoding, lenient);
}

/** A file's records, exactly, in pieces as they come. Its bytes are read as characters, and told to be text field by field. */
export async function* recordsOf(file: LinedFile): AsyncGenerator<TextRecord[]> {
  const { path, zipped, encoding, dialect, names } = file;
  const reader = new RecordReader(dialect, names.length, { lines: dialect.skip, head: dialect.header });
  const told = (record: TextRecord): TextRecord => {
    const { fields, text } = record;
    try {
      const values = fields.map((field) => (field === null ? null : decoded(field, encoding)));
      const fault = record.fault ?? (text.includes("\0") ? "holds a zero byte, which no text can" : null);
      return { ...record, fields: values, fault, text: decoded(text, encoding, true) };
    } catch {
      return { ...record, fault: "holds bytes that are no text", text: decoded(text, encoding, true) };
    }
  };
  const file_ = createReadStream(path);
  const bytes: Readable = zipped ? file_.pipe(createGunzip()) : file_;
  file_.once("error", (error) => bytes.destroy(error));
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
    file_.destroy();
  }
}
