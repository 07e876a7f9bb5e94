import { createHash } from "node:crypto";
import { mkdir, readdir, readFile, rename, rm, stat, writeFile } from "node:fs/promises";
import { join } from "node:path";
import { promisify } from "node:util";
import { gunzip, gzip } from "node:zlib";
import type { PageState } from "@undercoat/core/http/page";

const [pack, unpack] = [promisify(gzip), promisify(gunzip)];

/** A page as it was answered, and where reading goes on after it; null after the last. */
export interface SpooledPage {
  state: PageState;
  body: string;
  next: PageState | null;
  /** when it was answered, ISO 8601 */
  at: string;
}

let root: string | null = null;

/** Says where pages are kept from now on, so that what was read before a load was cut is not read again. */
export function spoolInto(folder: string): void {
  root = folder;
}

/** How long pages are read on from, in milliseconds: those of a reading that was cut, and those of one that had come to its end. */
const lasting = { cut: 24 * 3_600_000, whole: 3_600_000 };

/** The pages of one reading, kept until its load has committed. */
export class Spool {
  private constructor(
    private readonly folder: string,
    private pages: number,
  ) {}

  /** @param what tells one reading from every other. Null where nothing is kept on this machine */
  static async open(what: string): Promise<Spool | null> {
    if (root === null) return null;
    await clearOld(root);
    const folder = join(root, createHash("sha256").update(what).digest("hex").slice(0, 32));
    await mkdir(folder, { recursive: true, mode: 0o700 });
    const names = await namesIn(folder);
    // Only pages in an unbroken row say what was read.
    let pages = 0;
    while (names.includes(nameOf(pages + 1))) pages++;
    return new Spool(folder, pages);
  }

  get length(): number {
    return this.pages;
  }

  /** The page of a number, from 1. */
  async page(number: number): Promise<SpooledPage> {
    const text = (await unpack(await readFile(join(this.folder, nameOf(number))))).toString("utf8");
    const line = text.indexOf("\n");
    return { ...JSON.parse(text.slice(0, line)), body: text.slice(line + 1) };
  }

  /** Keeps a page behind the others, whole or not at all. */
  async add({ body, ...about }: SpooledPage): Promise<void> {
    const path = join(this.folder, nameOf(this.pages + 1));
    // Behind a line that tells of it the body stands as it came.
    const text = `${JSON.stringify(about)}\n${body}`;
    await writeFile(`${path}.part`, await pack(text, { level: 1 }), { mode: 0o600 });
    await rename(`${path}.part`, path);
    this.pages++;
  }

  /** when the first page was read, ISO 8601; null where there is none */
  async since(): Promise<string | null> {
    return this.pages === 0 ? null : (await stat(join(this.folder, nameOf(1)))).mtime.toISOString();
  }

  /** True where the pages may still be read on from. */
  async lasts(): Promise<boolean> {
    const since = await this.since();
    if (since === null) return false;
    const { next } = await this.page(this.pages);
    return Date.now() - Date.parse(since) < (next === null ? lasting.whole : lasting.cut);
  }

  async clear(): Promise<void> {
    this.pages = 0;
    await rm(this.folder, { recursive: true, force: true });
    await mkdir(this.folder, { recursive: true, mode: 0o700 });
  }

  async drop(): Promise<void> {
    this.pages = 0;
    await rm(this.folder, { recursive: true, force: true });
  }
}

const nameOf = (number: number) => `${String(number).padStart(7, "0")}.page.gz`;
const namesIn = (folder: string) => readdir(folder).catch(() => [] as string[]);

/** Takes away what nobody will read on from any more. */
async function clearOld(folder: string): Promise<void> {
  for (const name of await namesIn(folder)) {
    const path = join(folder, name);
    const found = await stat(path).catch(() => null);
    if (found && Date.now() - found.mtimeMs > 2 * lasting.cut) await rm(path, { recursive: true, force: true });
  }
}
