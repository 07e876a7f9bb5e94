import type { Readable } from "node:stream";
import { promisify } from "node:util";
import { namedColumns } from "@undercoat/core/file/csv";
import { longestRecord, type TextRecord, TooLong } from "@undercoat/core/file/records";
import {
  cellPlace,
  columnLetters,
  guessSheet,
  type NumberKind,
  numberKind,
  type SheetCell,
  type SheetForm,
  type SheetRow,
  serialText,
} from "@undercoat/core/file/sheet";
import type { CsvFormat } from "@undercoat/core/pipeline/pipeline";
import picomatch from "picomatch";
import { SaxesParser } from "saxes";
import yauzl from "yauzl";
import { LoadFailure } from "../../failure.ts";
import type { Duck } from "./duck.ts";
import type { ShapedFile } from "./shaped.ts";
import type { FoundFile } from "./store.ts";

/** Characters of all shared texts of a workbook together: they are held while its sheets are read. */
const longestTexts = 96 * 1024 * 1024;
/** Rows that the guess of a sheet's form looks at. */
const looked = 50;

type Archive = yauzl.ZipFile;
const openZip = promisify<string, yauzl.Options, Archive>(yauzl.open);

/** What is read of a workbook before its sheets. */
interface Workbook {
  path: string;
  sheets: { name: string; entry: string; hidden: boolean }[];
  /** what numbers are under each cell style */
  kinds: NumberKind[];
  texts: string[];
  since1904: boolean;
}

/** The parts of an archive by name. */
async function entriesOf(archive: Archive): Promise<Map<string, yauzl.Entry>> {
  const entries = new Map<string, yauzl.Entry>();
  archive.readEntry();
  await new Promise<void>((resolve, reject) => {
    archive.on("entry", (entry: yauzl.Entry) => {
      entries.set(entry.fileName.replace(/^\//, ""), entry);
      archive.readEntry();
    });
    archive.once("end", resolve);
    archive.once("error", reject);
  });
  return entries;
}

/** A part's XML, told as it is read. */
interface Told {
  open?(name: string, attributes: Record<string, string>): void;
  close?(name: string): void;
  text?(text: string): void;
}

const local = (name: string) => name.slice(name.indexOf(":") + 1);

/** Reads a part of an archive in pieces; `told` hears of each; what has been gathered after a piece is given by `piece`. */
async function* readPart<T>(bytes: Readable, told: Told, piece: () => T): AsyncGenerator<T> {
  const parser = new SaxesParser();
  const decoder = new TextDecoder();
  let failed: Error | null = null;
  parser.on("error", (error) => {
    failed ??= error;
  });
  parser.on("opentag", ({ name, attributes }) =>
    told.open?.(
      local(name),
      Object.fromEntries(Object.entries(attributes).map(([key, value]) => [local(key), String(value)])),
    ),
  );
  parser.on("closetag", ({ name }) => told.close?.(local(name)));
  parser.on("text", (text) => told.text?.(text));
  try {
    for await (const chunk of bytes) {
      parser.write(decoder.decode(chunk as Buffer, { stream: true }));
      if (failed) throw failed;
      yield piece();
    }
    parser.close();
    if (failed) throw failed;
    yield piece();
  } finally {
    bytes.destroy();
  }
}

async function readWhole(archive: Archive, entry: yauzl.Entry | undefined, told: Told): Promise<void> {
  if (!entry) return;
  for await (const _ of readPart(await open(archive, entry), told, () => null));
}

const open = (archive: Archive, entry: yauzl.Entry): Promise<Readable> =>
  promisify(
    archive.openReadStream.bind(archive) as (
      entry: yauzl.Entry,
      done: (error: Error | null, stream: Readable) => void,
    ) => void,
  )(entry);

/** Reads what a workbook says of its sheets, formats and texts. */
async function workbookOf(path: string, name: string): Promise<Workbook> {
  const archive = await openZip(path, { lazyEntries: true, autoClose: false });
  try {
    const entries = await entriesOf(archive);
    const listed: { name: string; id: string; hidden: boolean }[] = [];
    const targets = new Map<string, string>();
    let since1904 = false;
    await readWhole(archive, entries.get("xl/workbook.xml"), {
      open(tag, { name: sheet = "", id = "", state = "", date1904 = "" }) {
        if (tag === "sheet") listed.push({ name: sheet, id, hidden: state.toLowerCase().includes("hidden") });
        if (tag === "workbookPr") since1904 = /^(1|true)$/.test(date1904);
      },
    });
    await readWhole(archive, entries.get("xl/_rels/workbook.xml.rels"), {
      open(tag, { Id = "", Target = "" }) {
        if (tag === "Relationship") targets.set(Id, Target.startsWith("/") ? Target.slice(1) : `xl/${Target}`);
      },
    });
    if (listed.length === 0)
      throw new LoadFailure({
        message: `${name} is no workbook, or has no sheets`,
        hint: "Save it as an Excel workbook (.xlsx) again.",
      });
    return {
      path,
      sheets: listed.map(({ id, ...sheet }) => ({ ...sheet, entry: targets.get(id) ?? "" })),
      kinds: await kindsOf(archive, entries),
      texts: await textsOf(archive, entries, name),
      since1904,
    };
  } finally {
    archive.close();
  }
}

async function kindsOf(archive: Archive, entries: Map<string, yauzl.Entry>): Promise<NumberKind[]> {
  const codes = new Map<number, string>();
  const kinds: NumberKind[] = [];
  let within = false;
  await readWhole(archive, entries.get("xl/styles.xml"), {
    open(tag, { numFmtId = "0", formatCode = "" }) {
      if (tag === "numFmt") codes.set(Number(numFmtId), formatCode);
      if (tag === "cellXfs") within = true;
      if (tag === "xf" && within) kinds.push(numberKind(Number(numFmtId), codes.get(Number(numFmtId))));
    },
    close(tag) {
      if (tag === "cellXfs") within = false;
    },
  });
  return kinds;
}

/** The texts that cells share. What is written above another for its reading is none of it. */
async function textsOf(archive: Archive, entries: Map<string, yauzl.Entry>, name: string): Promise<string[]> {
  const texts: string[] = [];
  let [text, inText, aside, length] = ["", false, false, 0];
  await readWhole(archive, entries.get("xl/sharedStrings.xml"), {
    open(tag) {
      if (tag === "si") text = "";
      if (tag === "rPh") aside = true;
      inText = tag === "t" && !aside;
    },
    text(piece) {
      if (inText) text += piece;
    },
    close(tag) {
      if (tag === "t") inText = false;
      if (tag === "rPh") aside = false;
      if (tag !== "si") return;
      length += text.length;
      if (length > longestTexts)
        throw new LoadFailure({
          message: `${name} holds more than ${longestTexts / 1024 / 1024} million characters of text`,
        });
      texts.push(unescaped(text));
    },
  });
  return texts;
}

/** Signs that XML can't hold are written by their number (22.9.2.19). */
const unescaped = (text: string) =>
  text.includes("_x")
    ? text.replace(/_x([0-9A-Fa-f]{4})_/g, (_, code) => String.fromCharCode(Number.parseInt(code, 16)))
    : text;

/** A sheet's rows that hold something, in pieces as they come. */
async function* rowsOf(book: Workbook, entryName: string, name: string): AsyncGenerator<SheetRow[]> {
  const archive = await openZip(book.path, { lazyEntries: true, autoClose: false });
  try {
    const entry = (await entriesOf(archive)).get(entryName);
    if (!entry) throw new LoadFailure({ message: `${name} lacks a sheet that it lists` });
    let rows: SheetRow[] = [];
    let row: SheetRow = { row: 0, cells: [] };
    let cell = { column: 0, type: "n", style: 0, value: "", has: false, formula: false };
    let [inValue, aside] = [false, false];
    const told: Told = {
      open(tag, attributes) {
        if (tag === "row") row = { row: Number(attributes.r ?? row.row + 1), cells: [] };
        else if (tag === "c") {
          const column = attributes.r ? cellPlace(attributes.r).column : (row.cells.at(-1)?.column ?? cell.column) + 1;
          cell = {
            column,
            type: attributes.t ?? "n",
            style: Number(attributes.s ?? 0),
            value: "",
            has: false,
            formula: false,
          };
        } else if (tag === "f") cell.formula = true;
        else if (tag === "rPh") aside = true;
        inValue = tag === "v" || (tag === "t" && !aside);
        if (inValue) cell.has = true;
      },
      text(piece) {
        if (!inValue) return;
        cell.value += piece;
        if (cell.value.length > longestRecord) throw new TooLong(row.row);
      },
      close(tag) {
        if (tag === "v" || tag === "t") inValue = false;
        if (tag === "rPh") aside = false;
        if (tag === "c") {
          const found = cellOf(book, cell, row.row);
          if (found) row.cells.push(found);
        }
        if (tag === "row" && row.cells.length) rows.push(row);
      },
    };
    for await (const piece of readPart(await open(archive, entry), told, () => {
      const given = rows;
      rows = [];
      return given;
    }))
      if (piece.length) yield piece;
  } finally {
    archive.close();
  }
}

/** What a cell holds; null for nothing. A number stays as it is written. */
function cellOf(
  { kinds, texts, since1904 }: Workbook,
  {
    column,
    type,
    style,
    value,
    has,
    formula,
  }: { column: number; type: string; style: number; value: string; has: boolean; formula: boolean },
  row: number,
): SheetCell | null {
  const place = `${columnLetters(column)}${row}`;
  if (!has || (value === "" && type !== "str" && type !== "inlineStr"))
    return formula
      ? { column, text: "", isText: false, fault: `${place} holds a formula whose value was not saved` }
      : null;
  switch (type) {
    case "s":
      return { column, text: texts[Number(value)] ?? "", isText: true };
    case "str":
    case "inlineStr":
      return { column, text: unescaped(value), isText: true };
    case "b":
      return { column, text: value === "1" ? "true" : "false", isText: false };
    case "e":
      return { column, text: value, isText: false, fault: `${place} holds ${value}` };
    case "d":
      return { column, text: value.replace("T00:00:00", "").replace("T", " "), isText: false };
  }
  const kind = kinds[style] ?? "number";
  if (kind === "number") return { column, text: value, isText: false };
  const text = serialText(value, kind, since1904);
  return text === null
    ? { column, text: value, isText: false, fault: `${place} holds ${value}, which is no day of the calendar` }
    : { column, text, isText: false };
}

/** How sheets are chosen and read. */
export interface SheetChoice {
  /** a sheet's name, or a pattern of names */
  sheets?: string;
  range?: string;
  csv?: CsvFormat;
}

/** The sheets of a workbook that are chosen, each as a file of its own. Without a choice it is the first that is shown; a hidden one must be named. */
export async function sheetsOf(
  duck: Duck,
  file: FoundFile,
  { sheets, range, csv = {} }: SheetChoice,
): Promise<ShapedFile[]> {
  const book = await workbookOf(await duck.local(file), file.name).catch((error: unknown) => {
    if (error instanceof LoadFailure) throw error;
    throw new LoadFailure({
      message: `${file.name} can't be read as a workbook: ${(error as Error).message}`,
      hint: "It may have been cut, or protected by a password. Save it as an Excel workbook (.xlsx) again.",
    });
  });
  const shown = book.sheets.filter(({ hidden }) => !hidden);
  const fits = sheets === undefined ? null : picomatch(sheets, { dot: true });
  const chosen = fits
    ? book.sheets.filter(({ name, hidden }) => name === sheets || (!hidden && fits(name.replaceAll("/", "_"))))
    : shown.slice(0, 1);
  if (chosen.length === 0)
    throw new LoadFailure({
      message: `${file.name} has no sheet ${sheets ?? "that is shown"}`,
      hint: `It has ${book.sheets.map(({ name, hidden }) => (hidden ? `${name} (hidden)` : name)).join(", ")}.`,
    });
  const shaped: ShapedFile[] = [];
  for (const { name, entry } of chosen) {
    const head = await firstRows(rowsOf(book, entry, file.name));
    // A sheet without anything has no rows, which is no fault.
    if (head.length === 0) continue;
    const form = guessSheet(head, { range, header: csv.header, skip: csv.skip });
    const names = columnNames(head, form);
    const records = () => recordsOf(rowsOf(book, entry, file.name), form, names.length);
    shaped.push({
      file,
      sheet: name,
      names,
      unit: "row",
      raw: async (most) => head.slice(0, most).map(rawRow),
      records,
      quick: null,
    });
  }
  return shaped;
}

/** A row as it stands, each value behind its column's letters. */
const rawRow = ({ row, cells }: SheetRow) =>
  `${row}  ${cells.map(({ column, text }) => `${columnLetters(column)} ${text}`).join("  ")}`;

async function firstRows(pieces: AsyncGenerator<SheetRow[]>): Promise<SheetRow[]> {
  const rows: SheetRow[] = [];
  for await (const piece of pieces) {
    rows.push(...piece);
    if (rows.length >= looked) break;
  }
  return rows.slice(0, looked);
}

function columnNames(rows: readonly SheetRow[], { head, columns }: SheetForm): string[] {
  const width = columns.to - columns.from + 1;
  const cells = new Map(rows.find(({ row }) => row === head)?.cells.map(({ column, text }) => [column, text]));
  return namedColumns(Array.from({ length: width }, (_, at) => cells.get(columns.from + at) ?? ""));
}

/** A sheet's rows as records. A value beside the columns must not go unseen. */
async function* recordsOf(
  pieces: AsyncGenerator<SheetRow[]>,
  form: SheetForm,
  width: number,
): AsyncGenerator<TextRecord[]> {
  const { columns, first, last } = form;
  for await (const piece of pieces) {
    const records: TextRecord[] = [];
    for (const { row, cells } of piece) {
      if (row < first || row > last) continue;
      const fields: (string | null)[] = Array.from({ length: width }, () => null);
      let fault: string | null = null;
      let any = false;
      for (const cell of cells) {
        const at = cell.column - columns.from;
        if (at < 0 || at >= width) {
          fault ??=
            form.last === Number.MAX_SAFE_INTEGER
              ? `has a value in ${columnLetters(cell.column)}${row}, beside the columns`
              : null;
          continue;
        }
        any = true;
        fault ??= cell.fault ?? (cell.text.includes("\0") ? "holds a zero byte, which no text can" : null);
        fields[at] = cell.text;
      }
      if (any || fault) records.push({ fields, fault, line: row, text: cells.map(({ text }) => text).join("\t") });
    }
    yield records;
  }
}
