import type { HistoryShape } from "../history/shape.ts";
import { identifier, identifiers, qualified, type TableName } from "./identifier.ts";
import { literal } from "./literal.ts";
import { deedsTable, holdsAt, momentsTable } from "./version.ts";

/** What is asked of a history by those who look back: one key's versions, the table as of a moment, what changed between two. */

export const histories = "SELECT target, pipeline, load, shape::text AS shape FROM undercoat.history ORDER BY target";
export const historyOfTarget = `SELECT target, pipeline, load, shape::text AS shape FROM undercoat.history WHERE target = $1`;

/** True where `text` is a moment. */
export const isMoment = "SELECT $1::timestamptz::text AS moment";

/** True where a row is of the key in $1 …, by the key's own types. */
function ofKey({ key }: HistoryShape, types: ReadonlyMap<string, string>, row: string): string {
  return key.map((name, at) => `${row}.${identifier(name)} = $${at + 1}::${types.get(name)}`).join(" AND ");
}

/** All versions of a key. Parameters: the key's values. */
export function versionsOf(target: TableName, shape: HistoryShape, types: ReadonlyMap<string, string>): string {
  return `SELECT t.* FROM ${qualified(target)} t WHERE ${ofKey(shape, types, "t")} ORDER BY t.${identifier(shape.from)}`;
}

/** The moments kept of a key. Parameters: the key's values. */
export function momentsOf(target: TableName, shape: HistoryShape, types: ReadonlyMap<string, string>): string {
  return `SELECT m."undercoat at"::text AS at, m."undercoat gone" AS gone FROM ${qualified(momentsTable(target))} m WHERE ${ofKey(shape, types, "m")} ORDER BY 1`;
}

/** Whether it is kept what runs did to a history; a table from before that has none until its next load. */
export const keepsDeeds = (target: TableName) =>
  `SELECT to_regclass(${literal(qualified(deedsTable(target)))}) IS NOT NULL AS kept`;

/** What runs did to a key, with the moment of each, in the order of time; the row without a key is the first load's. Parameters: the key's values. */
export function deedsOf(target: TableName, shape: HistoryShape, types: ReadonlyMap<string, string>): string {
  const none = shape.key.map((name) => `d.${identifier(name)} IS NULL`).join(" AND ");
  return `SELECT d."undercoat at"::text AS at, d."undercoat moment"::text AS moment, d."undercoat did" AS did FROM ${qualified(deedsTable(target))} d WHERE (${ofKey(shape, types, "d")}) OR (${none}) ORDER BY d."undercoat at" NULLS FIRST, d."undercoat moment"`;
}

/** The key beside a key. Parameters: the key's values. */
export function besides(
  target: TableName,
  { key }: HistoryShape,
  types: ReadonlyMap<string, string>,
  which: "next" | "previous",
): string {
  const given = key.map((name, at) => `$${at + 1}::${types.get(name)}`).join(", ");
  const [compare, order] = which === "next" ? [">", ""] : ["<", " DESC"];
  return `SELECT ${key.map((name, at) => `t.${identifier(name)}::text AS k${at}`).join(", ")} FROM ${qualified(target)} t WHERE (${identifiers(key, "t")}) ${compare} (${given}) ORDER BY ${key.map((name) => `t.${identifier(name)}${order}`).join(", ")} LIMIT 1`;
}

/** The runs that used some moments for a target. Parameters: target, moments as an array. */
export const runsAt =
  "SELECT moment::text AS moment, run::text AS run FROM undercoat.tally WHERE target = $1 AND moment = ANY($2::timestamptz[]) AND NOT void";

/** The first rows as of a moment, by key; how many there are in all. Parameter: the moment. */
export function rowsAsOf(target: TableName, shape: HistoryShape, limit: number): string {
  return `SELECT t.* FROM ${qualified(target)} t WHERE ${holdsAt(shape, "t", "$1::timestamptz")} ORDER BY ${identifiers(shape.key, "t")} LIMIT ${Math.trunc(limit)}`;
}
export function countAsOf(target: TableName, shape: HistoryShape): string {
  return `SELECT count(*)::text AS rows FROM ${qualified(target)} t WHERE ${holdsAt(shape, "t", "$1::timestamptz")}`;
}

/** How many versions began in each of some steps of equal length between the first and the last that did. */
export function beginnings(target: TableName, shape: HistoryShape, steps: number): string {
  const from = `t.${identifier(shape.from)}`;
  const bounds = `SELECT min(${from}) AS low, max(${from}) AS high FROM ${qualified(target)} t WHERE isfinite(${from})`;
  return `SELECT b.low::text AS low, b.high::text AS high, least(width_bucket(extract(epoch FROM ${from}), extract(epoch FROM b.low), extract(epoch FROM b.high), ${steps}), ${steps})::text AS step, count(*)::text AS versions FROM ${qualified(target)} t, (${bounds}) b WHERE isfinite(${from}) AND b.low < b.high GROUP BY 1, 2, 3`;
}

/** What stood at two moments, beside each other: `a` and `b`. */
function beside(target: TableName, shape: HistoryShape): string {
  const at = (moment: string) => `(SELECT t.* FROM ${qualified(target)} t WHERE ${holdsAt(shape, "t", moment)})`;
  const same = shape.key.map((name) => `a.${identifier(name)} = b.${identifier(name)}`).join(" AND ");
  return `${at("$1::timestamptz")} a FULL JOIN ${at("$2::timestamptz")} b ON ${same}`;
}

const told = (shape: HistoryShape) => shape.roles.filter(([, role]) => role !== "follow").map(([column]) => column);
const other = (column: string) => `record_image_ne(ROW(a.${identifier(column)}), ROW(b.${identifier(column)}))`;
const missing = ({ key }: HistoryShape, row: string) => `${row}.${identifier(key[0] ?? "")} IS NULL`;

/** How many keys are new, gone and other between two moments, and in which columns (c0 …). Parameters: both moments. */
export function countBetween(target: TableName, shape: HistoryShape): string {
  const columns = told(shape);
  const both = `NOT ${missing(shape, "a")} AND NOT ${missing(shape, "b")}`;
  const any = columns.length ? columns.map(other).join(" OR ") : "false";
  return `SELECT ${[
    `count(*) FILTER (WHERE ${missing(shape, "a")})::text AS added`,
    `count(*) FILTER (WHERE ${missing(shape, "b")})::text AS gone`,
    `count(*) FILTER (WHERE ${both} AND (${any}))::text AS changed`,
    ...columns.map((column, at) => `count(*) FILTER (WHERE ${both} AND ${other(column)})::text AS c${at}`),
  ].join(", ")} FROM ${beside(target, shape)}`;
}

/** The first keys that are not the same at two moments (k0 …), and how. Parameters: both moments. */
export function keysBetween(target: TableName, shape: HistoryShape, limit: number): string {
  const columns = told(shape);
  const any = columns.length ? columns.map(other).join(" OR ") : "false";
  const keys = shape.key.map((name, at) => `coalesce(a.${identifier(name)}, b.${identifier(name)})::text AS k${at}`);
  return `SELECT ${keys.join(", ")}, CASE WHEN ${missing(shape, "a")} THEN 'added' WHEN ${missing(shape, "b")} THEN 'gone' ELSE 'changed' END AS how FROM ${beside(target, shape)} WHERE ${missing(shape, "a")} OR ${missing(shape, "b")} OR ${any} ORDER BY ${shape.key.map((name) => `coalesce(a.${identifier(name)}, b.${identifier(name)})`).join(", ")} LIMIT ${Math.trunc(limit)}`;
}

/** The names of the columns that a comparison of two moments counts, in their order. */
export const comparedColumns = told;
