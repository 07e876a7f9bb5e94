import { createHash } from "node:crypto";
import { createReadStream } from "node:fs";
import { realpath, stat } from "node:fs/promises";
import { isAbsolute, join, relative, sep } from "node:path";
import { pipeline } from "node:stream/promises";
import { escapePath, glob } from "tinyglobby";
import { LoadFailure } from "../../failure.ts";

/** The folders below which connections may lie; the process that starts says which. */
let allowed: readonly string[] = [];

export function allowFolders(folders: readonly string[]): void {
  allowed = folders;
}

/** A file as it was found: its path in the folder, and where it really is. */
export interface FoundFile {
  name: string;
  path: string;
  bytes: number;
  /** when it was changed last, ISO 8601 */
  changed: string;
  /** how large it is and when it was changed, to the nanosecond: while these stay, so does what it holds */
  mark: string;
}

/** A file's size and time. */
async function stateOf(path: string): Promise<Pick<FoundFile, "bytes" | "changed" | "mark">> {
  const { size, mtimeNs, mtime } = await stat(path, { bigint: true });
  return { bytes: Number(size), changed: mtime.toISOString(), mark: `${size} ${mtimeNs}` };
}

/** Makes sure that a file is as it was found. @throws LoadFailure where it is not */
export async function unchanged({ name, path, mark }: FoundFile): Promise<void> {
  const now = await stateOf(path).catch(() => null);
  if (now?.mark !== mark)
    throw new LoadFailure({
      message: `${name} ${now ? "changed" : "went"} while it was read`,
      hint: "Nothing was written; run again once it is whole.",
    });
}

/** The SHA-256 of a file's bytes. */
export async function digestOf(path: string): Promise<string> {
  const hash = createHash("sha256");
  await pipeline(createReadStream(path), hash);
  return hash.digest("hex");
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
export async function folderOf(path: string): Promise<string> {
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

/** Files that carry a name by which they are still being written. */
const unfinished = /\.(part|partial|tmp|crdownload)$/i;

/** The files of a folder that a name or a pattern fits, in the order of their names. A link that leads out of the folder is none of its files. */
export async function filesOf(folder: string, pattern: string): Promise<FoundFile[]> {
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
    if (unfinished.test(name)) continue;
    const path = await realpath(join(folder, name)).catch(() => null);
    if (path === null || !lies(folder, path)) continue;
    found.push({ name, path, ...(await stateOf(path)) });
  }
  return found;
}
