import type { Glance } from "@undercoat/core/dataset/dataset";
import { count, fitting, noCounts } from "@undercoat/core/file/fits";
import type { TextRecord } from "@undercoat/core/file/records";
import type { FoundFile } from "./store.ts";

/** So many of a file's rows are looked at for its columns and their types. */
export const sampled = 20_000;

export interface FileColumn {
  name: string;
  fits: string;
  decimal?: ",";
}

/** A file whose form is known, and how its rows are asked for. */
export interface ShapedFile {
  file: FoundFile;
  /** the sheet of a workbook; null where the file holds rows of one kind */
  sheet: string | null;
  names: string[];
  /** its records exactly, in pieces, some of which may be no rows; null where it can hold none such */
  records: (() => AsyncGenerator<TextRecord[]>) | null;
  /** what a record of it is called */
  unit: "line" | "record" | "row";
  /** SQL that gives its rows as texts under the names of its columns, where that gives the same; null where there is none */
  quick: { rows: string; regular(): Promise<boolean> } | null;
  /** how it is written, of a text of rows and fields */
  form?: Glance["form"];
  /** its first lines as they stand */
  raw?(most: number): Promise<string[]>;
  /** its columns by the first of its rows, so many */
  columns(most: number): Promise<FileColumn[]>;
}

/** The narrowest type of each column that all of the first rows' values fit. */
export async function fittingColumns(
  names: readonly string[],
  records: AsyncIterable<TextRecord[]>,
  most: number,
  decimal?: "." | ",",
): Promise<FileColumn[]> {
  const counts = names.map(noCounts);
  let rows = 0;
  for await (const piece of records) {
    for (const { fields, fault, nested } of piece) {
      if (fault !== null) continue;
      rows++;
      for (const [at, one] of counts.entries()) count(one, fields[at] ?? null, nested?.includes(at) ?? false);
    }
    if (rows >= most) break;
  }
  return names.map((name, at) => ({ name, ...fitting(counts[at] ?? noCounts(), decimal) }));
}
