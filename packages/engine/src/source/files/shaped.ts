import type { Glance } from "@undercoat/core/dataset/dataset";
import { type Counts, count, fitting, noCounts } from "@undercoat/core/file/fits";
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
  /** its columns with their types, where it says them itself */
  typed?: FileColumn[];
}

/** The narrowest types that columns' values fit, of all that is read of one file or of several. */
export class Fitting {
  rows = 0;
  faults = 0;
  private readonly counts = new Map<string, Counts>();
  private readonly own = new Map<string, string>();
  private sheets = true;

  /** Reads a file's rows, so many at least where it has them; of one whose columns have types these. `read`: told after each piece */
  async read({ names, sheet, typed, records }: ShapedFile, most: number, read?: () => void): Promise<void> {
    this.sheets &&= sheet !== null;
    for (const { name, fits } of typed ?? []) this.own.set(name, (this.own.get(name) ?? fits) === fits ? fits : "text");
    if (typed || !records) return;
    this.take(names, []);
    const enough = this.rows + most;
    for await (const piece of records()) {
      this.take(names, piece);
      read?.();
      if (this.rows >= enough) break;
    }
  }

  /** Counts records in that have been read. */
  take(names: readonly string[], records: readonly TextRecord[]): void {
    const counts = names.map((name) => {
      const known = this.counts.get(name) ?? noCounts();
      this.counts.set(name, known);
      return known;
    });
    for (const { fields, fault, nested } of records) {
      if (fault !== null) {
        this.faults++;
        continue;
      }
      this.rows++;
      for (const [at, one] of counts.entries()) count(one, fields[at] ?? null, nested?.includes(at) ?? false);
    }
  }

  /** @param said the sign before decimals; guessed where absent. A workbook's numbers have points */
  columns(said?: "." | ","): FileColumn[] {
    const columns = new Map<string, FileColumn>([...this.own].map(([name, fits]) => [name, { name, fits }]));
    for (const [name, counts] of this.counts) {
      const found = { name, ...fitting(counts, said ?? (this.sheets ? "." : undefined)) };
      const own = columns.get(name);
      if (!own) columns.set(name, found);
      else if (counts.all > 0 && found.fits !== own.fits) columns.set(name, { name, fits: "text" });
    }
    return [...columns.values()];
  }
}
