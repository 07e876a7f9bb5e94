import { basename, dirname } from "node:path";
import type { Dataset, DatasetSummary, TimeColumn } from "@undercoat/core/dataset/dataset";
import { filePath } from "@undercoat/core/dataset/item";
import { formatOf } from "@undercoat/core/file/format";
import type { TableName } from "@undercoat/core/sql/identifier";
import { type CheckStep, runSteps } from "../../connection/check.ts";
import type { CredentialsOf, Row } from "../../connection/credentials.ts";
import { LoadFailure } from "../../failure.ts";
import type { Snapshot, SnapshotOptions, Source } from "../source.ts";
import { Duck } from "./duck.ts";
import { filesOf, folderOf } from "./folder.ts";
import { shapeOf } from "./shape.ts";
import { FilesSnapshot } from "./snapshot.ts";

/** A folder of files as a source. It answers nothing of their rows: these are received and asked there. */
export class FilesSource implements Source {
  constructor(private readonly credentials: CredentialsOf<"files">) {}

  private folder(): Promise<string> {
    return folderOf(this.credentials.settings.path);
  }

  check(asWarehouse: boolean, tell: (step: CheckStep) => void): Promise<boolean> {
    const { settings } = this.credentials;
    let folder = "";
    return runSteps(
      settings,
      [
        [
          "folder",
          async () => {
            folder = await this.folder();
            return { fact: `the folder ${settings.path} is there` };
          },
        ],
        [
          "read",
          async () => {
            const files = await filesOf(folder, "**/*");
            const known = files.filter(({ name }) => formatOf(name) !== null);
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
  }

  async datasets(): Promise<DatasetSummary[]> {
    return (await filesOf(await this.folder(), "**/*"))
      .filter(({ name }) => formatOf(name) !== null)
      .map(({ name, bytes, changed }) => ({
        schema: dirname(name),
        name: basename(name),
        kind: "file",
        rows: null,
        bytes: String(bytes),
        comment: `changed ${changed.slice(0, 16).replace("T", " ")} UTC`,
      }));
  }

  async dataset(table: TableName): Promise<Dataset> {
    const snapshot = await this.snapshot();
    try {
      return await snapshot.describe({ connection: this.credentials.name, files: filePath(table) });
    } finally {
      await snapshot.close();
    }
  }

  async firstRows(table: TableName, limit: number): Promise<Row[]> {
    const folder = await this.folder();
    const [file] = await filesOf(folder, filePath(table));
    if (!file) throw new LoadFailure({ message: `There is no file ${filePath(table)}` });
    const duck = await Duck.open(folder);
    try {
      const { names, records, quick } = await shapeOf(duck, file);
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
  }

  async timeColumns(): Promise<TimeColumn[]> {
    return [];
  }

  async snapshot(_application = "", { after, signal }: SnapshotOptions = {}): Promise<Snapshot> {
    await after;
    const folder = await this.folder();
    return new FilesSnapshot(this.credentials, folder, await Duck.open(folder), signal);
  }
}
