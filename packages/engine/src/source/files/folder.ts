import { createReadStream } from "node:fs";
import { mkdir, realpath, rename, stat, unlink } from "node:fs/promises";
import { dirname, isAbsolute, join, relative, sep } from "node:path";
import { escapePath, glob } from "tinyglobby";
import { LoadFailure } from "../../failure.ts";
import { type FileStore, type FoundFile, isUnfinished } from "./store.ts";

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

  async close(): Promise<void> {}
}
