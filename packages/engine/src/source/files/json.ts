import { JsonLines, JsonList } from "@undercoat/core/file/json";
import type { TextRecord } from "@undercoat/core/file/records";
import type { From } from "@undercoat/core/pipeline/pipeline";
import { LoadFailure } from "../../failure.ts";
import { type JsonRecord, jsonRecord, MemberNames, recordReader } from "../members.ts";
import { decoded, unpacked } from "./bytes.ts";
import { type ShapedFile, sampled } from "./shaped.ts";
import type { FoundFile } from "./store.ts";

const noText = "holds bytes that are no text";

/** How a record is taken of its text and its number; of what is no text, of what can be made out of it. */
interface Taking<T> {
  take(text: string, number: number): T;
  broken(text: string, number: number): T;
}

/** A file's records, in pieces as they come. */
async function* read<T>(file: FoundFile, unit: "line" | "record", { take, broken }: Taking<T>): AsyncGenerator<T[]> {
  const cutter = unit === "line" ? new JsonLines() : new JsonList();
  const told = ({ text: bytes, number }: { text: string; number: number }): T => {
    let text: string;
    try {
      text = decoded(bytes, "utf-8");
    } catch {
      return broken(decoded(bytes, "utf-8", true), number);
    }
    return take(text, number);
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
  const looked: Taking<JsonRecord> = {
    take: (text, number) => jsonRecord(text, number, flatten),
    broken: (text, number) => ({ number, text, fault: noText }),
  };
  let rows = 0;
  for await (const piece of read(file, unit, looked)) {
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
  const records = (): AsyncGenerator<TextRecord[]> =>
    read(file, unit, {
      take: recordReader(names, flatten, `none of the first ${sampled}`),
      broken: (text, line) => ({ fields: [], fault: noText, line, text }),
    });
  const raw = async (most: number) => {
    const texts: string[] = [];
    const itself = (text: string) => text;
    for await (const piece of read(file, unit, { take: itself, broken: itself })) {
      texts.push(...piece);
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
