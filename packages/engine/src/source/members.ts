import type { DatasetColumn } from "@undercoat/core/dataset/dataset";
import { ExpectedMembers, flattenedMembers, JsonFault, membersOf } from "@undercoat/core/file/json";
import type { TextRecord } from "@undercoat/core/file/records";
import { Fitting } from "./files/shaped.ts";
import { textColumn } from "./records.ts";

/** A JSON object's text as it was read, or what is wrong with it. */
export type JsonRecord = { number: number; text: string } & (ReturnType<typeof membersOf> | { fault: string });

/** Takes a record apart; with `flatten` objects within it too. */
export function jsonRecord(text: string, number: number, flatten: boolean): JsonRecord {
  try {
    return { number, text, ...(flatten ? flattenedMembers(text) : membersOf(text)) };
  } catch (error) {
    if (!(error instanceof JsonFault)) throw error;
    return { number, text, fault: error.message };
  }
}

/** The names of columns that records' members make, gathered of as many as are looked at. */
export class MemberNames {
  private readonly found: Set<string>;
  private readonly valued = new Set<string>();

  constructor(
    private readonly flatten: boolean,
    known: Iterable<string> = [],
  ) {
    this.found = new Set(known);
  }

  add(record: JsonRecord): void {
    if ("fault" in record) return;
    for (const [name, value] of record.values) {
      this.found.add(name);
      if (value !== null) this.valued.add(name);
    }
  }

  /** What is null here and an object there is known by the object's members. */
  get names(): string[] {
    const apart = (name: string) =>
      this.flatten && !this.valued.has(name) && [...this.found].some((other) => other.startsWith(`${name}_`));
    return [...this.found].filter((name) => !apart(name));
  }
}

/** Lays members out as the fields of rows. @param looked of what the names are, in words: `none of the first 20000` */
export function rowOf(names: readonly string[], flatten: boolean, looked: string): (record: JsonRecord) => TextRecord {
  const places = new Map(names.map((name, at) => [name, at]));
  return (record) => {
    const { number: line, text } = record;
    const faulty = (fault: string): TextRecord => ({ fields: [], fault, line, text });
    if ("fault" in record) return faulty(record.fault);
    const fields: (string | null)[] = names.map(() => null);
    const nested: number[] = [];
    for (const [name, value] of record.values) {
      const place = places.get(name);
      if (place === undefined && value === null && flatten) continue;
      // A value that no column takes must not go unseen.
      if (place === undefined) return faulty(`has a member ${name}, which ${looked} has`);
      if (value?.includes("\0")) return faulty("holds a zero byte, which no text can");
      fields[place] = value;
      if (record.nested.has(name)) nested.push(place);
    }
    return { fields, fault: null, line, text, nested };
  };
}

/** Takes records' texts apart as the fields of rows. @param bare puts what a service says about a record out of it */
export function recordReader(
  names: readonly string[],
  flatten: boolean,
  looked: string,
  bare: (record: JsonRecord) => JsonRecord = (record) => record,
): (text: string, number: number) => TextRecord {
  const row = rowOf(names, flatten, looked);
  const expected = flatten ? null : new ExpectedMembers(names);
  return (text, line) => {
    const found = expected?.read(text);
    // A record's text that has nothing escaped has no quotes within its strings.
    if (found) return { fields: found.fields, nested: found.nested, fault: null, line, text, plain: true };
    return row(bare(jsonRecord(text, line, flatten)));
  };
}

/** The columns that records' members make: of the types that are said, else of the narrowest that all values that were looked at fit. */
export function memberColumns(
  records: readonly JsonRecord[],
  said: Readonly<Record<string, string | null>>,
  flatten: boolean,
): DatasetColumn[] {
  const members = new MemberNames(flatten, Object.keys(said));
  for (const record of records) members.add(record);
  const { names } = members;
  const fitting = new Fitting();
  fitting.take(names, records.map(rowOf(names, flatten, "no record")));
  const found = new Map(fitting.columns(".").map((column) => [column.name, column.fits]));
  return names.map((name) => textColumn(name, said[name] ?? found.get(name)));
}
