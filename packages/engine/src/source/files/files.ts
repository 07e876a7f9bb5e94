import { basename, dirname } from "node:path";
import { kindOf } from "@undercoat/core/connection/kinds";
import type { Dataset, DatasetSummary, Glance, Scan, ScanProgress, TimeColumn } from "@undercoat/core/dataset/dataset";
import { filePath } from "@undercoat/core/dataset/item";
import { formatOf } from "@undercoat/core/file/format";
import type { ConnectionSettings, From } from "@undercoat/core/pipeline/pipeline";
import type { TableName } from "@undercoat/core/sql/identifier";
import { shortType } from "@undercoat/core/sql/type";
import { type CheckStep, runSteps, type Step } from "../../connection/check.ts";
import type { Credentials, CredentialsOf, Row } from "../../connection/credentials.ts";
import { LoadFailure, NoTable } from "../../failure.ts";
import type { Snapshot, SnapshotOptions, Source } from "../source.ts";
import { isControl } from "./control.ts";
import { Duck } from "./duck.ts";
import { FolderStore } from "./folder.ts";
import { scanned } from "./scan.ts";
import { shapesOf } from "./shape.ts";
import { Fitting } from "./shaped.ts";
import { FilesSnapshot } from "./snapshot.ts";
import type { FileStore } from "./store.ts";

/** So many lines and rows are shown of a file's beginning. */
const glanced = 12;

/** Files in some place as a source. It answers nothing of their rows: these are received and asked there. */
export class FilesSource implements Source {
  /** @param steps the first steps of a check, before the files are looked at; `open` comes to the place */
  constructor(
    private readonly credentials: Credentials<ConnectionSettings>,
    private readonly open: (signal?: AbortSignal) => Promise<FileStore>,
    private readonly steps: (opened: (store: FileStore) => void) => Step[],
  ) {}

  async check(asWarehouse: boolean, tell: (step: CheckStep) => void): Promise<boolean> {
    const { settings, name } = this.credentials;
    const at: { store?: FileStore } = {};
    try {
      return await runSteps(
        { name, ...settings },
        [
          ...this.steps((store) => {
            at.store = store;
          }),
          [
            "read",
            async () => {
              const files = (await at.store?.find("**/*")) ?? [];
              const known = files.filter((file) => formatOf(file.name) !== null);
              return { fact: `${known.length} of ${files.length} files are in a format that is read` };
            },
          ],
          [
            "write",
            async () => {
              if (!asWarehouse) return { fact: "not asked for: used as a source only", skipped: true };
              throw new LoadFailure({ message: "A folder of files is no warehouse" });
            },
          ],
        ],
        tell,
      );
    } finally {
      await at.store?.close();
    }
  }

  private async with<T>(work: (store: FileStore) => Promise<T>): Promise<T> {
    const store = await this.open();
    try {
      return await work(store);
    } finally {
      await store.close();
    }
  }

  datasets(): Promise<DatasetSummary[]> {
    return this.with(async (store) =>
      (await store.find("**/*"))
        .filter(({ name }) => formatOf(name) !== null && !isControl(name))
        .map(({ name, bytes, changed }) => ({
          schema: dirname(name),
          name: basename(name),
          kind: "file",
          rows: null,
          bytes: String(bytes),
          comment: `changed ${changed.slice(0, 16).replace("T", " ")} UTC`,
        })),
    );
  }

  async dataset(table: TableName): Promise<Dataset> {
    const snapshot = await this.snapshot();
    try {
      return await snapshot.describe({ connection: this.credentials.name, files: filePath(table) });
    } finally {
      await snapshot.close();
    }
  }

  glance(from: From): Promise<Glance> {
    return this.with(async (store) => {
      const found = (await store.find(from.files ?? "")).filter(({ name }) => !isControl(name));
      // The latest is the likeliest to be like those that come.
      const file = found.toSorted((a, b) => (a.changed < b.changed ? 1 : -1))[0];
      if (!file) throw new NoTable({ message: `${this.credentials.name} has no file ${from.files}` });
      const duck = await Duck.open(store.folder);
      try {
        const [shaped] = await shapesOf(duck, file, from);
        if (!shaped) throw new LoadFailure({ message: `${file.name} holds nothing` });
        const fitting = new Fitting();
        await fitting.read(shaped, 2000);
        const rows: Glance["rows"] = [];
        if (shaped.records)
          for await (const piece of shaped.records()) {
            rows.push(...piece.map(({ fields, fault, text }) => ({ fields: fault === null ? fields : [text], fault })));
            if (rows.length >= glanced) break;
          }
        else
          for (const row of await duck.rows(`SELECT * FROM (${shaped.quick?.rows}) LIMIT ${glanced}`))
            rows.push({ fields: shaped.names.map((name) => row[name] ?? null), fault: null });
        return {
          file: file.name,
          files: found.length,
          sheet: shaped.sheet,
          form: shaped.form ?? null,
          raw: (await shaped.raw?.(glanced)) ?? [],
          columns: fitting.columns(from.csv?.decimal).map(({ name, fits, decimal }) => ({
            name,
            type: shortType(from.types?.[name] ?? fits),
            ...(decimal ? { decimal } : {}),
          })),
          rows: rows.slice(0, glanced),
        };
      } finally {
        await duck.close();
      }
    });
  }

  scan(from: From, tell: (progress: ScanProgress) => void, signal: AbortSignal): Promise<Scan> {
    return this.with((store) => scanned(store, from, tell, signal));
  }

  firstRows(table: TableName, limit: number): Promise<Row[]> {
    return this.with(async (store) => {
      const [file] = await store.find(filePath(table));
      if (!file) throw new LoadFailure({ message: `There is no file ${filePath(table)}` });
      const duck = await Duck.open(store.folder);
      try {
        const [first] = await shapesOf(duck, file);
        if (!first) return [];
        const { names, records, quick } = first;
        if (!records) return await duck.rows(`SELECT * FROM (${quick?.rows}) LIMIT ${Math.trunc(limit)}`);
        const found: Row[] = [];
        for await (const piece of records()) {
          for (const { fields, fault } of piece)
            if (fault === null) found.push(Object.fromEntries(names.map((name, at) => [name, fields[at] ?? null])));
          if (found.length >= limit) break;
        }
        return found.slice(0, limit);
      } finally {
        await duck.close();
      }
    });
  }

  async timeColumns(): Promise<TimeColumn[]> {
    return [];
  }

  arrivals({ files }: From): Promise<string | null> {
    return this.with(async (store) =>
      files === undefined
        ? null
        : (await store.find(files))
            .filter(({ name }) => !isControl(name))
            .map(({ name, mark }) => `${name} ${mark}`)
            .join("\n"),
    );
  }

  async snapshot(_application = "", { after, signal }: SnapshotOptions = {}): Promise<Snapshot> {
    await after;
    const store = await this.open(signal);
    const { name, settings } = this.credentials;
    try {
      return new FilesSnapshot(
        { name, place: kindOf(settings).place(settings) },
        store,
        await Duck.open(store.folder),
        signal,
      );
    } catch (error) {
      await store.close();
      throw error;
    }
  }
}

/** A folder of this machine as a source. */
export function folderSource(credentials: CredentialsOf<"files">): Source {
  const { path } = credentials.settings;
  const open = () => FolderStore.open(path);
  const source = new FilesSource(credentials, open, (opened) => [
    [
      "folder",
      async () => {
        opened(await open());
        return { fact: `the folder ${path} is there` };
      },
    ],
  ]);
  const receive: Source["receive"] = async (file, bytes, how) => (await open()).receive(file, bytes, how);
  return Object.assign(source, { receive });
}
