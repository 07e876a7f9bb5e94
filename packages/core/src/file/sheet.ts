/** What stands in the cells of a workbook's sheet (ECMA-376, part 1: SpreadsheetML). */

/** A cell's place: column and row from 1. */
export interface CellPlace {
  column: number;
  row: number;
}

/** Reads a place such as `AB12`. @throws RangeError for what is none */
export function cellPlace(text: string): CellPlace {
  const [, letters = "", digits = ""] = /^\$?([A-Z]{1,3})\$?(\d{1,7})$/.exec(text.toUpperCase()) ?? [];
  if (!letters) throw new RangeError(`${text} is no cell; write one like B3`);
  const column = [...letters].reduce((sum, letter) => sum * 26 + letter.charCodeAt(0) - 64, 0);
  return { column, row: Number(digits) };
}

/** A column's letters: 28 → `AB`. */
export function columnLetters(column: number): string {
  let letters = "";
  for (let rest = column; rest > 0; rest = Math.floor((rest - 1) / 26))
    letters = String.fromCharCode(65 + ((rest - 1) % 26)) + letters;
  return letters;
}

/** A block of cells, both ends included. */
export interface CellRange {
  from: CellPlace;
  to: CellPlace;
}

/** Reads a block such as `B3:H200`. @throws RangeError for what is none */
export function cellRange(text: string): CellRange {
  const [first = "", last = "", ...more] = text.split(":");
  if (!last || more.length) throw new RangeError(`${text} is no block of cells; write one like B3:H200`);
  const [from, to] = [cellPlace(first), cellPlace(last)];
  if (to.column < from.column || to.row < from.row)
    throw new RangeError(`${text} begins behind its end; write the upper left cell first`);
  return { from, to };
}

/** What a number means by its cell's format. */
export type NumberKind = "number" | "date" | "time" | "span";

/** Built-in formats that are dates and times (18.8.30). */
const builtIn: Record<number, NumberKind> = {
  14: "date",
  15: "date",
  16: "date",
  17: "date",
  18: "time",
  19: "time",
  20: "time",
  21: "time",
  22: "date",
  45: "time",
  46: "span",
  47: "time",
};

/** What numbers under a format are: by its number, or by its code where it is the workbook's own. */
export function numberKind(id: number, code: string | undefined): NumberKind {
  if (code === undefined) return builtIn[id] ?? "number";
  // What is quoted, escaped, a colour or a locale says nothing of the value.
  const [bare = ""] = code
    .replace(/"[^"]*"|\\.|_.|\*./g, "")
    .replace(/\[(?!h+\]|m+\]|s+\])[^\]]*\]/gi, "")
    .split(";");
  if (/\[(h+|m+|s+)\]/i.test(bare)) return "span";
  if (/[dy]/i.test(bare) || /m/i.test(bare.replace(/(h[^a-z]*)m+|m+([^a-z]*s)/gi, "$1$2"))) return "date";
  return /[hs]/i.test(bare) ? "time" : "number";
}

const day = 86_400_000;
const two = (value: number) => String(value).padStart(2, "0");

/** A clock's text of milliseconds. */
function clock(milliseconds: number): string {
  const seconds = Math.floor(milliseconds / 1000);
  const rest = milliseconds % 1000;
  const text = `${two(Math.floor(seconds / 3600))}:${two(Math.floor(seconds / 60) % 60)}:${two(seconds % 60)}`;
  return rest ? `${text}.${String(rest).padStart(3, "0")}` : text;
}

/**
 * A number that counts days as the date or time that it stands for, to the millisecond: days since 1900, where the first
 * sixty are off by one as 1900 is taken for a leap year, or since 1904. Null for what is no day of the calendar.
 */
export function serialText(value: string, kind: NumberKind, since1904: boolean): string | null {
  const serial = Number(value);
  if (!Number.isFinite(serial)) return null;
  const milliseconds = Math.round(serial * day);
  if (kind === "span") return milliseconds < 0 ? `-${clock(-milliseconds)}` : clock(milliseconds);
  if (serial < 0) return null;
  if (kind === "time" && serial < 1) return clock(milliseconds % day);
  const days = Math.floor(milliseconds / day);
  if (!since1904 && (days === 0 || days === 60)) return null;
  const start = since1904 ? Date.UTC(1904, 0, 1) : Date.UTC(1899, 11, days < 60 ? 31 : 30);
  const date = new Date(start + days * day);
  if (date.getUTCFullYear() > 9999) return null;
  const text = date.toISOString().slice(0, 10);
  const rest = milliseconds - days * day;
  return rest ? `${text} ${clock(rest)}` : text;
}

/** A cell that holds something: its value as text, or why it is none. */
export interface SheetCell {
  column: number;
  text: string;
  fault?: string;
  /** true for a text, which may name a column */
  isText: boolean;
}

export interface SheetRow {
  row: number;
  cells: SheetCell[];
}

/** How a sheet is to be read: where its rows begin, and in which columns. */
export interface SheetForm {
  /** the row that names the columns; null where none does */
  head: number | null;
  /** the first row that counts */
  first: number;
  last: number;
  columns: { from: number; to: number };
}

/**
 * Guesses the form from the first rows: the first row that holds texts alone and is as wide as the widest is the head, so
 * that titles above it are passed over. What is said is not guessed.
 */
export function guessSheet(
  rows: readonly SheetRow[],
  said: { range?: string; header?: boolean; skip?: number },
): SheetForm {
  const range = said.range === undefined ? null : cellRange(said.range);
  const within = rows
    .map(({ row, cells }) => ({
      row,
      cells: range ? cells.filter(({ column }) => column >= range.from.column && column <= range.to.column) : cells,
    }))
    .filter(({ row, cells }) => cells.length > 0 && (!range || (row >= range.from.row && row <= range.to.row)))
    .slice(said.skip ?? 0);
  const widest = Math.max(0, ...within.map(({ cells }) => cells.length));
  const named = within.find(({ cells }) => cells.length === widest && cells.every(({ isText }) => isText));
  // What stands above the names is no row; without any, all are rows.
  const head =
    said.header === false
      ? null
      : said.header
        ? within[0]
        : said.skip !== undefined
          ? named === within[0]
            ? named
            : null
          : named;
  const first = head ? head.row + 1 : (within[0]?.row ?? 1);
  const cells = head ? head.cells : within.flatMap((row) => row.cells);
  const places = cells.map(({ column }) => column);
  return {
    head: head?.row ?? null,
    first,
    last: range?.to.row ?? Number.MAX_SAFE_INTEGER,
    columns: {
      from: range?.from.column ?? Math.min(...places),
      to: range?.to.column ?? Math.max(...places),
    },
  };
}
