import { createHash } from "node:crypto";
import { open } from "node:fs/promises";
import { pipeline } from "node:stream/promises";
import type { News } from "../source.ts";
import { type FileStore, type FoundFile, unchanged } from "./store.ts";

/** What is kept of a file that was loaded: its size and time, and the digest of its bytes. */
interface Kept {
  mark: string;
  sha256: string;
}

/** The files and sheets of a load as they were, by name; kept as JSON. */
export type Manifest = Map<string, Kept>;

export const readManifest = (text: string | null): Manifest =>
  new Map(Object.entries(text === null ? {} : (JSON.parse(text) as Record<string, Kept>)));

export const writeManifest = (manifest: Manifest): string => JSON.stringify(Object.fromEntries(manifest));

/** The SHA-256 of a file's bytes. */
async function digestOf(file: FoundFile): Promise<string> {
  const hash = createHash("sha256");
  if (file.path === null) await pipeline(file.open(), hash);
  else {
    // Through one piece of memory, whatever the file's length.
    const piece = Buffer.allocUnsafe(1024 * 1024);
    await using handle = await open(file.path);
    for (;;) {
      const { bytesRead } = await handle.read(piece, 0, piece.length);
      if (bytesRead === 0) break;
      hash.update(piece.subarray(0, bytesRead));
    }
  }
  return hash.digest("hex");
}

/** The manifest of some files and sheets; a file whose size and time are as they were is not read. */
export async function manifestOf(
  store: FileStore,
  parts: readonly { part: string; file: FoundFile }[],
  before: Manifest,
): Promise<Manifest> {
  const manifest: Manifest = new Map();
  const digests = new Map<FoundFile, string>();
  for (const { part, file } of parts) {
    const { mark } = file;
    const known = before.get(part);
    const sha256 = known?.mark === mark ? known.sha256 : (digests.get(file) ?? (await digestOf(file)));
    // The digest must be that of what was found.
    if (known?.mark !== mark && !digests.has(file)) await unchanged(store, file);
    digests.set(file, sha256);
    manifest.set(part, { mark, sha256 });
  }
  return manifest;
}

/** What is other in a manifest than it was: a file whose bytes are the same has not changed, whenever it was written. */
export function newsBetween(before: Manifest, now: Manifest): News {
  return {
    changed: [...now].filter(([name, { sha256 }]) => before.get(name)?.sha256 !== sha256).map(([name]) => name),
    gone: [...before.keys()].filter((name) => !now.has(name)),
    all: now.size,
  };
}
