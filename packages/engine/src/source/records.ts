import { Readable } from "node:stream";
import type { DatasetColumn } from "@undercoat/core/dataset/dataset";
import type { TextRecord } from "@undercoat/core/file/records";
import { type LoadPlan, lineColumns, stagedColumns } from "@undercoat/core/plan/plan";

import type { RowStream } from "./source.ts";

/** Where records come from, as a stage keeps it. */
export interface RecordsOrigin {
  /** by what name the load knows it */
  part: string;
  /** what the column that tells where rows come from holds, where that is not the part's name */
  origin?: string;
  /** the names of its records' fields, in their order */
  names: readonly string[];
  /** where a record stands, in words */
  place(record: TextRecord): string;
}

/** The staged columns that hold values. */
export const valueColumns = (plan: LoadPlan) => stagedColumns(plan).slice(0, -lineColumns.length);

/** Writes records as lines of CSV that a plan's stage takes, those that are no rows among them. */
export function recordLines(
  plan: LoadPlan,
  { part, origin: told = part, names, place }: RecordsOrigin,
): (record: TextRecord) => string {
  const staged = valueColumns(plan);
  const places = staged.map(({ source }) => names.indexOf(source));
  const origin = staged.findIndex(({ source }) => source === plan.read.origin);
  const none = staged.map(() => "").join(",");
  const ofPart = cell(part);
  const ofOrigin = cell(told);
  return (record) => {
    const { fields, fault, text, plain, nested } = record;
    if (fault !== null) return `${none},${ofPart},${cell(fault)},${cell(place(record))},${cell(text)}\n`;
    let line = "";
    for (let at = 0; at < places.length; at++) {
      const from = places[at] ?? -1;
      const value = fields[from];
      if (at === origin) line += ofOrigin;
      else if (value != null)
        line += !plain ? cell(value) : `"${nested?.includes(from) ? value.replaceAll('"', '""') : value}"`;
      line += ",";
    }
    return `${line}${ofPart},,,\n`;
  };
}

/** A value of a CSV that is quoted; a null is nothing. PostgreSQL's texts hold no zero byte. */
const cell = (text: string | null | undefined) =>
  text == null ? "" : special.test(text) ? `"${text.replaceAll("\0", "\uFFFD").replaceAll('"', '""')}"` : `"${text}"`;
const special = /["\0]/;

/** Pieces of such lines as a stream of rows. @param pieces tells how many rows it has given, after the last */
export function recordStream(pieces: (tell: (rows: number) => void) => AsyncGenerator<Buffer>): RowStream {
  let tell: (rows: number) => void = () => undefined;
  const stream = Readable.from(
    pieces((rows) => tell(rows)),
    { objectMode: true },
  );
  const counted = new Promise<number>((resolve, reject) => {
    tell = resolve;
    stream.once("error", reject);
  });
  counted.catch(() => undefined);
  return Object.assign(stream, { format: "csv" as const, counted });
}

/** A column that comes as text. @param fits the type that its values state */
export function textColumn(name: string, fits = "text", decimal?: ","): DatasetColumn {
  return {
    name,
    declared: "text",
    type: { resolved: "text", kind: "b", builtIn: true },
    warehouseType: "text",
    notNull: false,
    generated: false,
    hasDefault: false,
    comment: null,
    ...(fits === "text" ? {} : { fits }),
    ...(decimal ? { decimal } : {}),
  };
}
