import type { SliceUnit } from "../pipeline/pipeline.ts";
import { identifier } from "./identifier.ts";
import { literal, typedLiteral } from "./literal.ts";
import { baseType } from "./type.ts";

/** How rows fall into slices: by which column of which type, into what units, and in which zone's local time; or by where they came from, which the column tells. */
export interface Slicing {
  column: string;
  type: string;
  unit: SliceUnit;
  zone: string;
}

/** Of a date, a slice's first day is found by counting back from it; no timestamp is made of it, whose calendar is shorter. */
const daysIntoSlice: Partial<Record<SliceUnit, string>> = { week: "isodow", month: "day", year: "doy" };

/** The start of the slice a row falls into: a date, or a local timestamp where slices are hours; of an origin its name. `column` is its SQL where it goes by another name. */
export function sliceStart({ column: name, type, unit, zone }: Slicing, column = identifier(name)): string {
  if (unit === "origin") return `${column}::text COLLATE "C"`;
  if (type === "date") {
    const counted = daysIntoSlice[unit];
    return counted ? `coalesce(${column} - (extract(${counted} FROM ${column})::int4 - 1), ${column})` : column;
  }
  const local =
    baseType(type) === "timestamp with time zone" ? `timezone(${literal(zone)}, ${column})` : `${column}::timestamp`;
  const start = `date_trunc(${literal(unit)}, ${local})`;
  return unit === "hour" ? start : `${start}::date`;
}

const sliceTypes: Partial<Record<SliceUnit, string>> = { hour: "timestamp", origin: "text" };
const sliceType = ({ unit }: Slicing) => sliceTypes[unit] ?? "date";

/** Slices whose text is no ordinary year, for which no bounds are reckoned. */
const farYear = /infinity|BC|^\d{5,}/;

/** More of a column than the slices from `first` to `last`, so that an index serves: two days on both sides cover every zone's clock and its changes. */
function near({ type, unit }: Slicing, first: string, last: string, column: string): string[] {
  if (unit === "origin") return [];
  if (farYear.test(first) || farYear.test(last)) return [];
  if (type === "date")
    return [
      `${column} >= ${typedLiteral(first, "date")} AND ${column} < ${typedLiteral(last, "date")} + ${unit === "day" ? 1 : 367}`,
    ];
  const at = (slice: string, days: string) => {
    const moment = `${typedLiteral(slice, "timestamp")} ${days}`;
    return baseType(type) === "timestamp with time zone" ? `timezone('UTC', ${moment})` : moment;
  };
  return [
    `${column} >= ${at(first, "- interval '2 days'")} AND ${column} < ${at(last, `+ interval '1 ${unit}' + interval '2 days'`)}`,
  ];
}

/**
 * True for the rows of some slices: those whose start, by the expression that groups them, is one of these. A local time
 * that comes twice is one slice, as it is for the grouping.
 */
export function inSlices(
  slicing: Slicing,
  slices: readonly (string | null)[],
  column = identifier(slicing.column),
): string {
  const dated = slices.filter((slice): slice is string => slice !== null);
  const parts: string[] = [];
  const [only] = dated;
  if (dated.length) {
    const start = sliceStart(slicing, column);
    const type = sliceType(slicing);
    const sorted = dated.toSorted();
    const far = dated.some((slice) => farYear.test(slice));
    const bounds = far && dated.length > 1 ? [] : near(slicing, sorted[0] ?? "", sorted.at(-1) ?? "", column);
    const chosen =
      dated.length === 1 && only !== undefined
        ? `${start} = ${typedLiteral(only, type)}`
        : `${start} = ANY(${literal(`{${dated.map((slice) => `"${slice.replace(/["\\]/g, "\\$&")}"`).join(",")}}`)}::${type}[])`;
    parts.push([...bounds, chosen].join(" AND "));
  }
  if (dated.length < slices.length) parts.push(`${column} IS NULL`);
  return parts.length ? `(${parts.map((part) => `(${part})`).join(" OR ")})` : "false";
}
