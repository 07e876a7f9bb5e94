import { flattenedMembers, JsonFault, JsonLines, JsonList, membersOf } from "@undercoat/core/file/json";
import type { TextRecord } from "@undercoat/core/file/records";
import type { From } from "@undercoat/core/pipeline/pipeline";
import { LoadFailure } from "../../failure.ts";
import { decoded, unpacked } from "./bytes.ts";
import { type ShapedFile, sampled } from "./shaped.ts";
import type { FoundFile } from "./store.ts";

/** A record as it was read, or what is wrong with it. */
type JsonRecord = { number: number; text: string } & (ReturnType<typeof membersOf> | { fault: string });

/** A file's records, in pieces as they come. */
async function* read(file: FoundFile, unit: "line" | "record", flatten: boolean): AsyncGenerator<JsonRecord[]> {
  const cutter = unit === "line" ? new JsonLines() : new JsonList();
  const told = ({ text: bytes, number }: { text: string; number: number }): JsonRecord => {
    try {
      const text = decoded(bytes, "utf-8");
      return { number, text, ...(flatten ? flattenedMembers(text) : membersOf(text)) };
    } catch (error) {
      const fault = error instanceof JsonFault ? error.message : "holds bytes that are no text";
      return { number, text: decoded(bytes, "utf-8", true), fault };
    }
  };
  const bytes = unpacked(file.open(), file.name.toLowerCase().endsWith(".gz"));
  let first = true;
  try {
    for await (const piece of bytes) {
      const text = (piece as Buffer).toString("latin1");
      yield [...cutter.read(first ? text.replace(/^\u00ef\u00bb\u00bf/, "") : text, false)].map(told);
      first = false;
    }
    yield [...cutter.read("", true)].map(told);
  } finally {
    bytes.destroy();
  }
}

/** How a file of JSON objects is looked at: members that are known of, and so many of the first records for others. */
export interface JsonForm extends Pick<From, "flatten" | "types"> {
  most?: number;
}

/** A file of JSON objects: a list of them, or one a line. Its columns are the members that the first of them have; with `flatten` those of objects within too. */
export async function jsonOf(
  file: FoundFile,
  unit: "line" | "record",
  { flatten = false, types = {}, most = sampled }: JsonForm = {},
): Promise<ShapedFile> {
  const found = new Set<string>(Object.keys(types));
  const valued = new Set<string>();
  let rows = 0;
  for await (const piece of read(file, unit, flatten)) {
    for (const record of piece)
      if (!("fault" in record))
        for (const [name, value] of record.values) {
          found.add(name);
          if (value !== null) valued.add(name);
        }
    rows += piece.length;
    if (rows >= most) break;
  }
  // What is null here and an object there is known by the object's members.
  const apart = (name: string) =>
    flatten && !valued.has(name) && [...found].some((other) => other.startsWith(`${name}_`));
  const names = [...found].filter((name) => !apart(name));
  if (names.length === 0)
    throw new LoadFailure({
      message: `${file.name} holds no JSON object`,
      hint: "A file of JSON is a list of objects, or an object a line (.ndjson).",
    });
  const places = new Map(names.map((name, at) => [name, at]));
  const told = (record: JsonRecord): TextRecord => {
    const { number: line, text } = record;
    if ("fault" in record) return { fields: [], fault: record.fault, line, text };
    const fields: (string | null)[] = names.map(() => null);
    const nested: number[] = [];
    for (const [name, value] of record.values) {
      const place = places.get(name);
      if (place === undefined && value === null && flatten) continue;
      // A value that no column takes must not go unseen.
      if (place === undefined)
        return { fields: [], fault: `has a member ${name}, which none of the first ${sampled} has`, line, text };
      if (value?.includes("\0")) return { fields: [], fault: "holds a zero byte, which no text can", line, text };
      fields[place] = value;
      if (record.nested.has(name)) nested.push(place);
    }
    return { fields, fault: null, line, text, nested };
  };
  const records = async function* (): AsyncGenerator<TextRecord[]> {
    for await (const piece of read(file, unit, flatten)) yield piece.map(told);
  };
  const raw = async (most: number) => {
    const texts: string[] = [];
    for await (const piece of read(file, unit, flatten)) {
      texts.push(...piece.map((record) => record.text));
      if (texts.length >= most) break;
    }
    return texts.slice(0, most);
  };
  return {
    file,
    sheet: null,
    names,
    unit,
    raw,
    records,
    quick: null,
  };
}
