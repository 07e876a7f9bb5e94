import type { CsvFormat } from "../pipeline/pipeline.ts";
import { type DateOrder, dateOrder, looksLikeDate } from "./dates.ts";

/** How a text of rows and fields is written, all of it said. */
export type CsvDialect = Required<Omit<CsvFormat, "decimal" | "encoding" | "dates">>;

const delimiters = [",", ";", "\t", "|"];
/** Lines that a guess looks at. */
const looked = 200;

/** The first records of a text, by a delimiter and a quote; the last is left out where the text may be cut within it. */
export function records(text: string, delimiter: string, quote: string, most: number): string[][] {
  const found: string[][] = [];
  let record: string[] = [];
  let field = "";
  let quoted = false;
  for (let at = 0; at < text.length && found.length < most; at++) {
    const sign = text[at];
    if (quoted) {
      if (sign !== quote) field += sign;
      else if (text[at + 1] === quote) field += text[++at];
      else quoted = false;
    } else if (sign === quote && field === "") quoted = true;
    else if (sign === delimiter) {
      record.push(field);
      field = "";
    } else if (sign === "\n" || sign === "\r") {
      if (sign === "\r" && text[at + 1] === "\n") at++;
      if (field !== "" || record.length) found.push([...record, field]);
      record = [];
      field = "";
    } else field += sign;
  }
  if (found.length < most && !quoted && (field !== "" || record.length)) found.push([...record, field]);
  return found;
}

/** How many fields most of some records have, and the share of records that have as many. */
function regular(all: readonly string[][]): { fields: number; share: number } {
  const counts = new Map<number, number>();
  for (const { length } of all) counts.set(length, (counts.get(length) ?? 0) + 1);
  const [fields, times] = [...counts].sort((a, b) => b[1] - a[1] || b[0] - a[0])[0] ?? [1, 0];
  return { fields, share: all.length ? times / all.length : 0 };
}

const isValue = (text: string) => text.trim() === "" || /^[-+]?[\d.,\s]+$|^\d{4}-\d{2}-\d{2}/.test(text.trim());

/** A first record names columns where each field says something, no two the same, and none of them is a value. */
const isHead = (first: readonly string[]) =>
  first.every((field) => !isValue(field)) && new Set(first).size === first.length;

/** What stands behind the first lines of a text. */
const behind = (text: string, lines: number) =>
  lines === 0
    ? text
    : text
        .split(/\r\n|\n|\r/)
        .slice(lines)
        .join("\n");

/**
 * Guesses how a text is written from its beginning: the delimiter that cuts most lines into the same number of fields, more
 * than one; and whether the first line names the columns. What is said is not guessed.
 */
export function guessCsv(text: string, said: CsvFormat = {}): CsvDialect {
  const quote = said.quote ?? '"';
  const skip = said.skip ?? 0;
  const rest = behind(text, skip);
  // What stands nowhere cuts nothing.
  const likely = delimiters.filter((delimiter, at) => at === 0 || rest.includes(delimiter));
  const tried = (said.delimiter ? [said.delimiter] : likely).map((delimiter) => {
    const all = records(rest, delimiter, quote, looked);
    return { delimiter, all, ...regular(all) };
  });
  const many = tried.filter(({ fields }) => fields > 1);
  // Where others cut as regularly, commas are those of decimals.
  const best =
    many.sort(
      (a, b) => b.share - a.share || Number(a.delimiter === ",") - Number(b.delimiter === ",") || b.fields - a.fields,
    )[0] ?? tried[0];
  return {
    delimiter: best?.delimiter ?? ",",
    quote,
    skip,
    header: said.header ?? isHead(best?.all[0] ?? []),
  };
}

/** The names of columns: those of the head, else their numbers. */
export function columnNames(text: string, { delimiter, quote, skip, header }: CsvDialect): string[] {
  const all = records(behind(text, skip), delimiter, quote, header ? 1 : looked);
  const first = all[0] ?? [];
  const width = header ? first.length : regular(all).fields;
  return namedColumns(Array.from({ length: width }, (_, at) => (header ? (first[at] ?? "") : "")));
}

/** Rows that are looked at for how dates are written: all of these, and a few of them before. */
const datedRows = { all: 2000, few: 40 };

/**
 * How the dates of each column are written that are not ISO 8601; null for a column of which some value that is looked at is no
 * such date. Rows of another number of fields are passed over.
 * @param said the order that the author has stated
 */
export function columnDates(
  text: string,
  { delimiter, quote, skip, header }: CsvDialect,
  width: number,
  said?: DateOrder,
): (DateOrder | null)[] {
  const rest = behind(text, skip);
  const columns = (most: number) => {
    const rows = records(rest, delimiter, quote, most)
      .slice(header ? 1 : 0)
      .filter((row) => row.length === width);
    return Array.from({ length: width }, (_, at) => rows.flatMap((row) => row[at] || []));
  };
  // Most columns show in their first rows that they hold no such dates.
  const likely = columns(datedRows.few).map((values) => values.every(looksLikeDate));
  if (!likely.includes(true)) return likely.map(() => null);
  return columns(datedRows.all).map((values, at) => (likely[at] ? dateOrder(values, said) : null));
}

/** Names of columns of those that a head gives: an empty one gets its number, a repeated one how often it came. */
export function namedColumns(head: readonly string[]): string[] {
  const seen = new Map<string, number>();
  return head.map((given, at) => {
    const name = given.trim().slice(0, 59) || `column_${at + 1}`;
    const times = (seen.get(name) ?? 0) + 1;
    seen.set(name, times);
    return times === 1 ? name : `${name}_${times}`;
  });
}
