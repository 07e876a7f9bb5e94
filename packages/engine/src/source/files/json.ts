import { JsonLines, JsonList } from "@undercoat/core/file/json";
import type { TextRecord } from "@undercoat/core/file/records";
import type { From } from "@undercoat/core/pipeline/pipeline";
import { LoadFailure } from "../../failure.ts";
import { type JsonRecord, jsonRecord, MemberNames, rowOf } from "../members.ts";
import { decoded, unpacked } from "./bytes.ts";
import { type ShapedFile, sampled } from "./shaped.ts";
import type { FoundFile } from "./store.ts";

/** A file's records, in pieces as they come. */
async function* read(file: FoundFile, unit: "line" | "record", flatten: boolean): AsyncGenerator<JsonRecord[]> {
  const cutter = unit === "line" ? new JsonLines() : new JsonList();
  const told = ({ text: bytes, number }: { text: string; number: number }): JsonRecord => {
    try {
      return jsonRecord(decoded(bytes, "utf-8"), number, flatten);
    } catch {
      return { number, text: decoded(bytes, "utf-8", true), fault: "holds bytes that are no text" };
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
  const members = new MemberNames(flatten, Object.keys(types));
  let rows = 0;
  for await (const piece of read(file, unit, flatten)) {
    for (const record of piece) members.add(record);
    rows += piece.length;
    if (rows >= most) break;
  }
  const { names } = members;
  if (names.length === 0)
    throw new LoadFailure({
      message: `${file.name} holds no JSON object`,
      hint: "A file of JSON is a list of objects, or an object a line (.ndjson).",
    });
  const told = rowOf(names, flatten, `none of the first ${sampled}`);
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
