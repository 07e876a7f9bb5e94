import type { Dataset } from "@undercoat/core/dataset/dataset";
import { type TextRecord, TooLong } from "@undercoat/core/file/records";
import { type From, takesAway } from "@undercoat/core/pipeline/pipeline";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import type { Window } from "@undercoat/core/plan/window";
import type { FileRead } from "@undercoat/core/run/run";
import { canonicalType, typeFamily } from "@undercoat/core/sql/type";
import picomatch from "picomatch";
import { LoadFailure, NoTable, NothingThere } from "../../failure.ts";
import { recordLines, recordStream, textColumn, valueColumns } from "../records.ts";
import type { News, RowStream, Snapshot } from "../source.ts";
import { compareControl, isControl, readControls } from "./control.ts";
import { type Duck, named, quoted } from "./duck.ts";
import { type Manifest, manifestOf, newsBetween, readManifest, writeManifest } from "./manifest.ts";
import { shapesOf } from "./shape.ts";
import { Fitting, type ShapedFile, sampled } from "./shaped.ts";
import { type FileStore, unchanged } from "./store.ts";

/** So many files are looked at for the types of their columns; the names of all are read. */
const sampledFiles = 20;
/** So many files are looked at side by side for how they are written. */
const together = 8;

/** A file, or a sheet of one, under the name by which a load knows it. */
interface Part extends ShapedFile {
  part: string;
}

/** A sheet with its file. */
const placeOf = ({ file, sheet }: ShapedFile) => (sheet === null ? file.name : `${file.name}, ${sheet}`);

/** A sheet is known by its own name where sheets of one workbook are chosen, by its file's where none is, else by both. */
function partOf(shaped: ShapedFile, chosen: boolean, alone: boolean): string {
  if (shaped.sheet === null || !chosen) return shaped.file.name;
  return alone ? shaped.sheet : placeOf(shaped);
}

/** Where `move:DIR` brings a file. */
const movedTo = (after: string, name: string) => `${after.slice(5).replace(/\/+$/, "")}/${name}`;

/** Files as they are when they are read. */
export class FilesSnapshot implements Snapshot {
  private shaped: { from: string; files: Part[] } | null = null;
  private present: Manifest | null = null;
  private takesAway = false;
  private readonly read = new Map<string, FileRead>();

  constructor(
    /** the connection's name, and its place in words */
    private readonly about: { name: string; place: string },
    private readonly store: FileStore,
    private readonly duck: Duck,
    private readonly signal?: AbortSignal,
  ) {}

  /** Nothing can be asked of files but their rows. */
  answers(): null {
    return null;
  }

  /** The files that a load reads, each with its form. @throws NoTable where there are none */
  private async files(from: From): Promise<Part[]> {
    if (!from.files)
      throw new LoadFailure({
        message: `${this.about.name} is a folder of files: it has no tables and takes no query`,
        hint: "Name a file or a pattern: from: { files: 2026/*.csv }",
      });
    const key = JSON.stringify([from.files, from.csv, from.sheets, from.range, from.flatten, from.types]);
    if (this.shaped?.from === key) return this.shaped.files;
    const found = (await this.store.find(from.files)).filter(({ name }) => !isControl(name));
    this.takesAway = takesAway({ from });
    if (found.length === 0) {
      const none = { message: `${this.about.name} has no file ${from.files}` };
      throw takesAway({ from })
        ? new NothingThere({
            message: `${none.message} now`,
            hint: "What has come was loaded and taken away; the next one is shown here once it has come.",
          })
        : new NoTable(none);
    }
    const again = found.find(
      ({ name }) => from.after?.startsWith("move:") && picomatch.isMatch(movedTo(from.after, name), from.files ?? ""),
    );
    if (again)
      throw new LoadFailure({
        message: `${again.name} would be moved to where ${from.files} finds it again`,
        hint: "Move files to a folder that the pattern does not reach.",
      });
    const files: ShapedFile[] = [];
    for (let first = 0; first < found.length; first += together) {
      const some = found
        .slice(first, first + together)
        .map((file, at) =>
          shapesOf(this.duck, file, from, first + at).catch((error: unknown) => explain(file.name, error)),
        );
      files.push(...(await Promise.all(some)).flat());
    }
    const alone = new Set(files.map(({ file }) => file.name)).size === 1;
    this.shaped = {
      from: key,
      files: files.map((shaped) => ({ ...shaped, part: partOf(shaped, from.sheets !== undefined, alone) })),
    };
    return this.shaped.files;
  }

  async describe(from: From): Promise<Dataset> {
    const files = await this.files(from);
    const said = from.types ?? {};
    const looked = files.filter(({ names }) => names.some((name) => !(name in said))).slice(0, sampledFiles);
    const fitting = new Fitting();
    for (const shaped of looked)
      await fitting
        .read(shaped, Math.ceil(sampled / looked.length))
        .catch((error: unknown) => explain(shaped.file.name, error));
    const found = new Map(fitting.columns(from.csv?.decimal).map((column) => [column.name, column]));
    const names = [...new Set([...found.keys(), ...files.flatMap((file) => file.names)])];
    const columns = names.map((name) => {
      const type = said[name];
      if (type === undefined) return textColumn(name, found.get(name)?.fits, found.get(name)?.decimal);
      return textColumn(name, canonicalType(type), numbers.has(typeFamily(type)) ? comma(from) : undefined);
    });
    const origin = from.origin;
    if (origin !== undefined && names.includes(origin))
      throw new LoadFailure({
        message: `The files have a column ${origin} of their own`,
        hint: "Name another one for the file that a row came from.",
      });
    return {
      columns: [...(origin ? [{ ...textColumn(origin), notNull: false }] : []), ...columns],
      indexes: [],
      lines: true,
    };
  }

  async identity(): Promise<string | null> {
    return this.store.identity;
  }

  async moment(): Promise<string | null> {
    return new Date().toISOString().replace("Z", "+00");
  }

  /** The files as they are, with their digests, taken once. */
  private async manifest(before: string | null): Promise<Manifest> {
    if (!this.shaped) throw new Error("Files are described before they are read");
    this.present ??= await manifestOf(this.store, this.shaped.files, readManifest(before));
    return this.present;
  }

  async position(before: string | null): Promise<string> {
    return writeManifest(await this.manifest(before));
  }

  async news(since: string): Promise<News> {
    const news = newsBetween(readManifest(since), await this.manifest(since));
    // What a load has taken away is no loss.
    return this.takesAway ? { ...news, gone: [] } : news;
  }

  async rows(plan: LoadPlan, window: Window, limit: number | null): Promise<RowStream> {
    if (!this.shaped) throw new Error("Files are described before they are read");
    const changed = window.kind === "changed" ? new Set((await this.news(window.since)).changed) : null;
    const files = this.shaped.files.filter(({ part }) => changed === null || changed.has(part));
    // Somebody who looks at a few rows wants to see them, whatever is said of all.
    if (limit === null) await this.compare(files);
    return recordStream((tell) => this.rowsOf(plan, files, limit, tell));
  }

  parts(): FileRead[] {
    return [...this.read.values()];
  }

  /** Compares files with what lies beside them and says what they hold. @throws LoadFailure where one is not so */
  private async compare(files: readonly Part[]): Promise<void> {
    const said = await readControls(
      this.store,
      files.map(({ file }) => file),
    );
    const manifest = await this.manifest(null);
    for (const one of files) {
      const { part, file } = one;
      const sha256 = manifest.get(part)?.sha256 ?? "";
      const control = await compareControl(one, sha256, said.get(file.name) ?? []);
      this.read.set(part, { name: part, bytes: String(file.bytes), sha256, rows: "0", faults: "0", control });
    }
  }

  private count(part: string, rows: number | bigint, faults: number): void {
    const read = this.read.get(part);
    if (!read) return;
    read.rows = String(BigInt(read.rows) + BigInt(rows));
    read.faults = String(Number(read.faults) + faults);
  }

  /** One file after another: its rows, then the lines that are none. */
  private async *rowsOf(
    plan: LoadPlan,
    files: Part[],
    limit: number | null,
    tell: (rows: number) => void,
  ): AsyncGenerator<Buffer> {
    let rows = 0n;
    for (const shaped of files) {
      const left = limit === null ? null : BigInt(limit) - rows;
      if (left !== null && left <= 0n) break;
      const { records, quick } = shaped;
      const quickly = quick !== null && (records === null || (left === null && (await quick.regular())));
      if (quickly) {
        const found = yield* this.quickly(plan, shaped, quick.rows, left);
        this.count(shaped.part, found, 0);
        rows += found;
      } else if (records) rows += yield* this.exactly(plan, shaped, records(), left);
      await unchanged(this.store, shaped.file);
    }
    tell(Number(rows));
  }

  /** The rows of a file of which nothing is no row. */
  private quickly(plan: LoadPlan, { part, names }: Part, rows: string, limit: bigint | null) {
    const own = new Set(names);
    const values = valueColumns(plan).map(({ source }) =>
      own.has(source) ? named(source) : source === plan.read.origin ? quoted(part) : "NULL",
    );
    const bounded = limit === null ? "" : ` LIMIT ${limit}`;
    return this.duck.csv(
      `SELECT ${values.join(", ")}, ${quoted(part)}, NULL, NULL, NULL FROM (${rows})${bounded}`,
      this.signal,
    );
  }

  /** The lines of a file, those that are no rows among them. */
  private async *exactly(
    plan: LoadPlan,
    shaped: Part,
    pieces: AsyncIterable<TextRecord[]>,
    limit: bigint | null,
  ): AsyncGenerator<Buffer, bigint> {
    const { part, names, unit } = shaped;
    const place = placeOf(shaped);
    const line = recordLines(plan, { part, names, place: (record) => `${place}, ${unit} ${record.line}` });
    let rows = 0n;
    for await (const records of explained(place, pieces)) {
      let piece = "";
      this.count(part, records.length, records.filter(({ fault }) => fault !== null).length);
      for (const record of records) {
        if (limit !== null && rows >= limit) break;
        rows++;
        piece += line(record);
      }
      if (piece) yield Buffer.from(piece);
      if (this.signal?.aborted || (limit !== null && rows >= limit)) break;
    }
    return rows;
  }

  /** A file that is not as it was read stays. */
  async finish({ after = "keep" }: From): Promise<string[]> {
    if (after === "keep" || !this.shaped) return [];
    const told: string[] = [];
    for (const file of new Set(this.shaped.files.map((one) => one.file))) {
      const to = after.startsWith("move:") ? movedTo(after, file.name) : null;
      try {
        await unchanged(this.store, file);
        if (to === null) await this.store.remove(file);
        else await this.store.move(file, await this.free(to));
        told.push(`${file.name} ${to === null ? "deleted" : `moved to ${to}`}`);
      } catch (error) {
        told.push(
          `${file.name} stays: ${error instanceof LoadFailure ? error.failure.message : (error as Error).message}`,
        );
      }
    }
    return told;
  }

  /** A path that no file has, so that none is overwritten. */
  private async free(path: string): Promise<string> {
    for (let number = 1; ; number++) {
      const tried = number === 1 ? path : `${path}.${number}`;
      if ((await this.store.find(tried)).every(({ name }) => name !== tried)) return tried;
    }
  }

  statement({ read }: LoadPlan): string {
    return `-- ${read.files} in ${this.about.place}`;
  }

  async close(): Promise<void> {
    await Promise.all([this.duck.close(), this.store.close()]);
  }
}

/** What a file can't be read for, in words. */
function explain(name: string, error: unknown): never {
  const { code = "", message } = error as { code?: string; message: string };
  if (code.startsWith("Z_"))
    throw new LoadFailure({
      message: `${name} can't be unpacked: it is no gzip, or ends too soon`,
      detail: message,
      hint: "Nothing was written. Bring the file again whole.",
    });
  if (error instanceof TooLong) throw new LoadFailure({ message: `${name}: ${message}`, hint: "Nothing was written." });
  if (code === "EACCES")
    throw new LoadFailure({ message: `${name} may not be read by the user that Undercoat runs as` });
  throw error;
}

async function* explained<T>(name: string, pieces: AsyncIterable<T>): AsyncGenerator<T> {
  try {
    yield* pieces;
  } catch (error) {
    explain(name, error);
  }
}

/** Types whose texts may have a sign before decimals. */
const numbers = new Set(["numeric", "text"]);

/** The sign before decimals that an author has said, where it is no point. */
const comma = ({ csv }: From) => (csv?.decimal === "," ? csv.decimal : undefined);
