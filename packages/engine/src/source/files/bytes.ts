import type { Readable } from "node:stream";
import { createGunzip } from "node:zlib";
import iconv from "iconv-lite";

/** Bytes are read as characters, each standing for one of them, and told to be text where that is needed: a record that is none is told alone. */

/** How bytes that share the signs of ASCII are text. */
export type ByteEncoding = "utf-8" | "windows-1252";

/** What bytes mean. @throws TypeError where UTF-8 is asked for and they are none, unless `lenient` */
function decode(bytes: Buffer, encoding: ByteEncoding, lenient = false): string {
  // Node's own decoder takes windows-1252 for Latin 1.
  if (encoding === "windows-1252") return iconv.decode(bytes, "win1252", { stripBOM: false });
  return new TextDecoder("utf-8", { fatal: !lenient, ignoreBOM: true }).decode(bytes);
}

/** What a field's characters are: each stands for one of its bytes. */
export function decoded(field: string, encoding: ByteEncoding, lenient = false): string {
  // biome-ignore lint/suspicious/noControlCharactersInRegex: what is no ASCII is looked for.
  return /^[\x00-\x7f]*$/.test(field) ? field : decode(Buffer.from(field, "latin1"), encoding, lenient);
}

/** A file's bytes, unpacked where they are packed. */
export function unpacked(file: Readable, zipped: boolean): Readable {
  if (!zipped) return file;
  const bytes = createGunzip();
  file.once("error", (error) => bytes.destroy(error));
  bytes.once("close", () => file.destroy());
  return file.pipe(bytes);
}

/** The first of some bytes, so many; no more are read. */
export async function beginning(bytes: Readable, most: number): Promise<Buffer> {
  const pieces: Buffer[] = [];
  let length = 0;
  for await (const piece of bytes) {
    pieces.push(piece as Buffer);
    length += (piece as Buffer).length;
    if (length >= most) break;
  }
  return Buffer.concat(pieces).subarray(0, most);
}
