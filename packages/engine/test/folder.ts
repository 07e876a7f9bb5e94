import { mkdir, mkdtemp, rm, writeFile } from "node:fs/promises";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import type { CredentialsOf } from "@undercoat/engine/connection/credentials";
import { allowFolders } from "@undercoat/engine/source/files/folder";
import { afterAll, beforeAll, beforeEach } from "vitest";
import { makePair, type Pair } from "./pair.ts";

/** A folder `fares` as a source, empty before each test of a file, beside a pair whose warehouse is. */
export interface FaresDesk {
  readonly pair: Pair;
  readonly fares: CredentialsOf<"files">;
  /** where the folder lies */
  readonly folder: string;
  put(name: string, text: string | Uint8Array): Promise<void>;
  clean(): Promise<void>;
}

export function useFares(name: string): FaresDesk {
  const made: { pair?: Pair; root: string } = { root: "" };
  const pair = () => {
    if (!made.pair) throw new Error("The pair is made before the first test");
    return made.pair;
  };
  const desk: FaresDesk = {
    get pair() {
      return pair();
    },
    fares: { name: "fares", settings: { kind: "files", path: "fares" }, password: "" },
    get folder() {
      return join(made.root, "fares");
    },
    async put(file, text) {
      await mkdir(dirname(join(desk.folder, file)), { recursive: true });
      await writeFile(join(desk.folder, file), text);
    },
    async clean() {
      await pair().atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
      await rm(desk.folder, { recursive: true, force: true });
      await mkdir(desk.folder, { recursive: true });
    },
  };
  beforeAll(async () => {
    made.pair = await makePair(name);
    made.root = await mkdtemp(join(tmpdir(), "undercoat-test-"));
    allowFolders([made.root]);
  });
  afterAll(async () => {
    await made.pair?.close();
    await rm(made.root, { recursive: true });
  });
  beforeEach(desk.clean);
  return desk;
}
