import { randomUUID } from "node:crypto";
import { createReadStream, createWriteStream } from "node:fs";
import { mkdir, realpath, rename, stat, unlink } from "node:fs/promises";
import { dirname, isAbsolute, join, relative, sep } from "node:path";
import type { Readable } from "node:stream";
import { pipeline } from "node:stream/promises";
import { formatOf } from "@undercoat/core/file/format";
import { escapePath, glob } from "tinyglobby";
import { LoadFailure } from "../../failure.ts";
import { type FileStore, FileThere, type FoundFile, isUnfinished, TooLarge } from "./store.ts";

/** The folders below which connections may lie; the process that starts says which. */
let allowed: readonly string[] = [];

export function allowFolders(folders: readonly string[]): void {
  allowed = folders;
}

/** A file's size and time, to the nanosecond. */
async function stateOf(path: string): Promise<Pick<FoundFile, "bytes" | "changed" | "mark">> {
  const { size, mtimeNs, mtime } = await stat(path, { bigint: true });
  return { bytes: Number(size), changed: mtime.toISOString(), mark: `${size} ${mtimeNs}` };
}

/** True where a path lies in a folder, both without links. */
function lies(folder: string, path: string): boolean {
  const way = relative(folder, path);
  return way !== ".." && !way.startsWith(`..${sep}`) && !isAbsolute(way);
}

/**
 * A connection's folder, with no link on its way left. Neither `..` nor a link leads out of the folders that are allowed.
 * @throws LoadFailure where there is none
 */
async function folderOf(path: string): Promise<string> {
  for (const base of allowed) {
    const root = await realpath(base).catch(() => null);
    const folder = root && (await realpath(join(root, path)).catch(() => null));
    if (root && folder && lies(root, folder) && (await stat(folder)).isDirectory()) return folder;
  }
  throw new LoadFailure({
    message: `There is no folder ${path} below ${allowed.length === 1 ? "the folder" : "a folder"} that is allowed for files`,
    detail: allowed.join(", "),
    hint: "Make it there, or have the administrator allow another folder with UNDERCOAT_FILES.",
  });
}

/** A folder of this machine. */
export class FolderStore implements FileStore {
  private constructor(readonly folder: string) {}

  /** @param path below a folder that is allowed. @throws LoadFailure where there is none */
  static async open(path: string): Promise<FolderStore> {
    return new FolderStore(await folderOf(path));
  }

  get identity(): string {
    return `files in ${this.folder}`;
  }

  /** A link that leads out of the folder is none of its files. */
  async find(pattern: string): Promise<FoundFile[]> {
    const { folder } = this;
    // A name that is there is that file's, whatever signs it has.
    const named = await stat(join(folder, pattern)).then(
      (found) => found.isFile(),
      () => false,
    );
    const names = await glob(named ? escapePath(pattern) : pattern, {
      cwd: folder,
      onlyFiles: true,
      dot: false,
      followSymbolicLinks: false,
    });
    const found: FoundFile[] = [];
    for (const name of names.sort()) {
      if (isUnfinished(name)) continue;
      const path = await realpath(join(folder, name)).catch(() => null);
      if (path === null || !lies(folder, path)) continue;
      found.push({ name, path, ...(await stateOf(path)), open: () => createReadStream(path) });
    }
    return found;
  }

  async markOf({ path }: FoundFile): Promise<string | null> {
    return path === null
      ? null
      : stateOf(path).then(
          ({ mark }) => mark,
          () => null,
        );
  }

  async remove({ path }: FoundFile): Promise<void> {
    if (path !== null) await unlink(path);
  }

  async move({ path }: FoundFile, to: string): Promise<void> {
    if (path === null) return;
    const target = join(this.folder, to);
    await mkdir(dirname(target), { recursive: true });
    if (!lies(this.folder, await realpath(dirname(target))))
      throw new LoadFailure({ message: `${to} leads out of the folder` });
    await rename(path, target);
  }

  /** Takes a file as it comes; see Source.receive. */
  async receive(
    name: string,
    bytes: Readable,
    { most, replace, signal }: { most: number; replace: boolean; signal: AbortSignal },
  ): Promise<{ bytes: number }> {
    const parts = name.split("/");
    if (parts.some((part) => part === "" || part.startsWith(".") || /[\0\\]/.test(part)) || name.length > 500)
      throw new LoadFailure({
        message: `${name || "A file without a name"} is no name of a file here`,
        hint: "Give it a name below the folder, without .. and without a point before it.",
      });
    if (formatOf(name) === null)
      throw new LoadFailure({
        message: `${name} is in no format that is read`,
        hint: "Files end in .csv, .tsv, .txt, .json, .ndjson, .parquet or .xlsx, each also in .gz.",
      });
    const target = join(this.folder, name);
    await mkdir(dirname(target), { recursive: true });
    if (!lies(this.folder, await realpath(dirname(target))))
      throw new LoadFailure({ message: `${name} leads out of the folder` });
    if (!replace && (await stat(target).catch(() => null)))
      throw new FileThere({
        message: `There is a file ${name} already`,
        hint: "Replace it, or give this one another name.",
      });
    const coming = join(dirname(target), `.${randomUUID()}.part`);
    let length = 0;
    const counted = async function* (pieces: AsyncIterable<Uint8Array>) {
      for await (const piece of pieces) {
        length += piece.length;
        if (length > most)
          throw new TooLarge({
            message: `${name} is larger than the ${Math.floor(most / 1024 / 1024)} MB that are taken`,
            hint: "The administrator can allow more with UNDERCOAT_FILE_LIMIT, or put it into the folder.",
          });
        yield piece;
      }
    };
    try {
      await pipeline(bytes, counted, createWriteStream(coming, { flags: "wx" }), { signal });
      await rename(coming, target);
    } catch (error) {
      await unlink(coming).catch(() => undefined);
      throw error;
    }
    return { bytes: length };
  }

  async close(): Promise<void> {}
}
