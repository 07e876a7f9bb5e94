import type { Readable } from "node:stream";
import { LoadFailure } from "../../failure.ts";

/** A file as it was found. */
export interface FoundFile {
  /** its path in the store */
  name: string;
  /** where it really is on this machine; null where it is on another */
  path: string | null;
  bytes: number;
  /** when it was changed last, ISO 8601 */
  changed: string;
  /** how large it is and when it was changed, as finely as the store tells: while these stay, so does what it holds */
  mark: string;
  /** its bytes, read anew each time */
  open(): Readable;
}

/** A place where files lie: a folder of this machine, or of another. */
export interface FileStore {
  /** the folder, where it is one of this machine */
  readonly folder: string | null;
  /** which place it is: what was read of another does not count */
  readonly identity: string;
  /** the files that a name or a pattern fits, in the order of their names */
  find(pattern: string): Promise<FoundFile[]>;
  /** a file's mark as it is now; null where it is gone */
  markOf(file: FoundFile): Promise<string | null>;
  remove(file: FoundFile): Promise<void>;
  /** @param to its path in the store from then on; folders on the way are made */
  move(file: FoundFile, to: string): Promise<void>;
  close(): Promise<void>;
}

/** Makes sure that a file is as it was found. @throws LoadFailure where it is not */
export async function unchanged(store: FileStore, file: FoundFile): Promise<void> {
  const now = await store.markOf(file);
  if (now !== file.mark)
    throw new LoadFailure({
      message: `${file.name} ${now === null ? "went" : "changed"} while it was read`,
      hint: "Nothing was written; run again once it is whole.",
    });
}

/** A file that is to come is there already. */
export class FileThere extends LoadFailure {}

/** More bytes come than are taken. */
export class TooLarge extends LoadFailure {}

/** Files that carry a name by which they are still being written. */
export const isUnfinished = (name: string): boolean => /\.(part|partial|tmp|crdownload)$/i.test(name);
