import { execFile } from "node:child_process";
import { closeSync, constants, createWriteStream, existsSync, openSync } from "node:fs";
import { mkdtemp, readdir, rm } from "node:fs/promises";
import { Socket } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { pipeline } from "node:stream/promises";
import { promisify } from "node:util";
import { type DuckDBConnection, DuckDBInstance } from "@duckdb/node-api";
import { unpacked } from "./bytes.ts";
import type { FoundFile } from "./store.ts";

const run = promisify(execFile);

/** SQL of a text, for the reader of files. */
export const quoted = (text: string) => `'${text.replaceAll("'", "''")}'`;
/** A path as the reader takes it: what stands for other signs in a pattern stands for itself. */
export const located = (path: string) => quoted(path.replace(/[*?[]/g, "[$&]"));
export const named = (name: string) => `"${name.replaceAll('"', '""')}"`;

/** How the folders are called that readers write into; the number of their process follows. */
const deskName = "undercoat-files-";

/** Takes away what readers left whose process was killed: it may hold what their files did. */
async function clearLeft(): Promise<void> {
  for (const name of await readdir(tmpdir())) {
    const pid = Number(name.startsWith(deskName) ? (/^\d+(?=-)/.exec(name.slice(deskName.length))?.[0] ?? 0) : 0);
    if (pid > 0 && !existsSync(`/proc/${pid}`)) await rm(join(tmpdir(), name), { recursive: true, force: true });
  }
}

/** A reader of files within this process, which sees one folder and its own, or only its own, and nothing else. */
export class Duck {
  private copies = 0;

  private constructor(
    private readonly instance: DuckDBInstance,
    private readonly connection: DuckDBConnection,
    /** a folder of its own for what it writes */
    readonly desk: string,
  ) {}

  static async open(folder: string | null): Promise<Duck> {
    await clearLeft();
    const desk = await mkdtemp(join(tmpdir(), `${deskName}${process.pid}-`));
    const instance = await DuckDBInstance.create(":memory:", { threads: "1", memory_limit: "96MB" });
    const connection = await instance.connect();
    await connection.run(`SET temp_directory = ${quoted(desk)}`);
    await connection.run(
      `SET allowed_directories = [${[...(folder === null ? [] : [folder]), desk].map((path) => quoted(`${path}/`)).join(", ")}]`,
    );
    await connection.run("SET enable_external_access = false");
    await connection.run("SET lock_configuration = true");
    return new Duck(instance, connection, desk);
  }

  /** A file's path on this machine, unpacked; a copy where it lies on another, or is packed. */
  async local(file: FoundFile): Promise<string> {
    const zipped = file.name.toLowerCase().endsWith(".gz");
    if (file.path !== null && !zipped) return file.path;
    const path = join(this.desk, `copy-${++this.copies}`);
    await pipeline(unpacked(file.open(), zipped), createWriteStream(path));
    return path;
  }

  /** Rows as texts. */
  async rows(sql: string): Promise<Record<string, string | null>[]> {
    const result = await this.connection.runAndReadAll(sql);
    return result
      .getRowObjectsJson()
      .map((row) =>
        Object.fromEntries(Object.entries(row).map(([name, value]) => [name, value === null ? null : String(value)])),
      );
  }

  /**
   * A query's rows as CSV in pieces, through a pipe, so that memory does not grow with them; the number of rows at the end.
   * The pipe is read without a thread of Node's pool waiting for it: queries hold these, and would wait for each other.
   */
  async *csv(sql: string, signal?: AbortSignal): AsyncGenerator<Buffer, bigint> {
    const path = join(this.desk, "rows");
    await rm(path, { force: true });
    await run("mkfifo", ["-m", "600", path]);
    const pipe = new Socket({ fd: openSync(path, constants.O_RDONLY | constants.O_NONBLOCK), writable: false });
    // Until the query has opened it, and after it has ended, somebody must hold the other end.
    const held = openSync(path, constants.O_WRONLY | constants.O_NONBLOCK);
    let over = false;
    const stop = () => this.connection.interrupt();
    signal?.addEventListener("abort", stop);
    const copied = this.connection
      .runAndReadAll(`COPY (${sql}) TO ${quoted(path)} (FORMAT csv, HEADER false, FORCE_QUOTE *, USE_TMP_FILE false)`)
      .then((result) => BigInt(String(result.getRowsJson()[0]?.[0] ?? "0")))
      .finally(() => {
        over = true;
        closeSync(held);
      });
    copied.catch(() => undefined);
    try {
      for await (const piece of pipe) yield piece as Buffer;
      return await copied;
    } finally {
      signal?.removeEventListener("abort", stop);
      if (!over) stop();
      pipe.destroy();
      await copied.catch(() => undefined);
    }
  }

  async close(): Promise<void> {
    this.connection.closeSync();
    this.instance.closeSync();
    await rm(this.desk, { recursive: true, force: true });
  }
}
