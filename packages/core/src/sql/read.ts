import { asSubquery } from "../expression/parse.ts";
import type { LoadPlan, ReadRequest, Window } from "../plan/plan.ts";
import { identifier, qualified } from "./identifier.ts";
import { typedLiteral } from "./literal.ts";
import { slicePredicate } from "./slice.ts";
import { typeFamily } from "./type.ts";

/** The session settings under which both sides print the same value as the same text. */
export const sessionSettings =
  "SET TimeZone = 'UTC'; SET DateStyle = 'ISO, YMD'; SET IntervalStyle = 'postgres'; SET extra_float_digits = 1; SET bytea_output = 'hex'; SET jit = off; SET statement_timeout = 0; SET idle_in_transaction_session_timeout = 0";

export const beginSnapshot = "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY";

/** Where the rows come from: the quoted table, or the query in brackets. */
export function origin(read: ReadRequest): string {
  return read.table ? qualified(read.table) : asSubquery(read.query ?? "");
}

/** The condition as the author wrote it; the line break ends a trailing comment. */
function condition(read: ReadRequest): string[] {
  return read.where ? [`(${read.where}\n)`] : [];
}

/** Rows past the watermark less the look-back, and those whose watermark column is null: they could be lost otherwise. */
function pastWatermark(read: ReadRequest, value: string): string {
  const watermark = read.watermark;
  if (!watermark) return "true";
  const column = identifier(watermark.column);
  const moment = typeFamily(watermark.type) === "moment";
  const back = watermark.lookBack === null ? "" : ` - ${typedLiteral(watermark.lookBack, moment ? "interval" : "numeric")}`;
  const past = `${column} >= ${typedLiteral(value, watermark.type)}${back}`;
  return watermark.nullable ? `(${past} OR ${column} IS NULL)` : past;
}

function between(column: string, type: string, from: string, to: string): string {
  return `${column} >= ${typedLiteral(from, type)} AND ${column} < ${typedLiteral(to, type)}`;
}

function where(conditions: string[]): string {
  return conditions.length ? ` WHERE ${conditions.join(" AND ")}` : "";
}

/** `("a", "b") IN ((…), (…))` over columns of stated types; no keys match no row. */
export function keyPredicate(columns: { name: string; type: string }[], keys: string[][]): string {
  if (keys.length === 0) return "false";
  const rows = keys.map((key) => `(${columns.map((column, at) => typedLiteral(key[at] ?? null, column.type)).join(", ")})`);
  return `(${columns.map((column) => identifier(column.name)).join(", ")}) IN (${rows.join(", ")})`;
}

/**
 * The source's rows under the warehouse's column names and types: `SELECT "id", "fare"::numeric(12,2) AS "price" FROM …`.
 * What the pairing does to a value stands only here, so that reading and proving see the same rows.
 */
export function sourceRows(plan: LoadPlan, window: Window = { kind: "all" }): string {
  const { read } = plan;
  const columns = read.columns.map((column) => {
    const value = `s.${identifier(column.source)}${column.cast ? `::${column.type}` : ""}`;
    return column.cast || column.name !== column.source ? `${value} AS ${identifier(column.name)}` : value;
  });
  const inside = condition(read);
  if (window.kind === "since") inside.push(pastWatermark(read, window.value));
  if (window.kind === "interval" && window.on === "source") inside.push(between(identifier(window.column), window.type, window.from, window.to));
  const rows = `SELECT ${columns.join(", ")} FROM ${origin(read)} s${where(inside)}`;
  const outside =
    window.kind === "keys"
      ? keyPredicate(keyColumns(plan), window.keys)
      : window.kind === "slice"
        ? slicePredicate(plan, window.slice)
        : window.kind === "interval" && window.on === "warehouse"
          ? between(identifier(window.column), window.type, window.from, window.to)
          : null;
  return outside ? `SELECT * FROM (${rows}) r WHERE ${outside}` : rows;
}

/** The key's columns with their types; a load without a key is told apart by all its columns. */
export function keyColumns(plan: LoadPlan): { name: string; type: string }[] {
  return plan.key.length ? plan.read.columns.filter((column) => plan.key.includes(column.name)).sort((a, b) => plan.key.indexOf(a.name) - plan.key.indexOf(b.name)) : plan.read.columns;
}

/** The rows of a window as a binary COPY stream. */
export function copyOut(plan: LoadPlan, window: Window): string {
  return `COPY (${sourceRows(plan, window)}) TO STDOUT (FORMAT binary)`;
}

/**
 * The highest watermark among the rows of a window, as text, never past the source's own clock: a row dated in the
 * future must not carry the watermark over rows still to come. NaN and infinities don't count either.
 */
export function highWater(plan: LoadPlan, window: Window): string | null {
  const watermark = plan.read.watermark;
  if (!watermark) return null;
  const column = identifier(watermark.column);
  const family = typeFamily(watermark.type);
  const inside = condition(plan.read);
  if (window.kind === "since") inside.push(pastWatermark(plan.read, window.value));
  if (family !== "integer") inside.push(family === "moment" ? `isfinite(${column})` : `${column} <> 'NaN'`);
  const clock: Record<string, string> = {
    date: "now()::date",
    "timestamp without time zone": "now()::timestamp",
    "timestamp with time zone": "now()",
  };
  const cap = clock[watermark.type.replace(/\(\d\)/, "")];
  const highest = `max(${column})`;
  return `SELECT (${cap ? `CASE WHEN ${highest} > ${cap} THEN ${cap} ELSE ${highest} END` : highest})::text AS value FROM ${origin(plan.read)} s${where(inside)}`;
}

/** The first rows under the warehouse's names, every value as text, for a person to look at. */
export function previewRows(plan: LoadPlan, window: Window, limit: number): string {
  const rows = sourceRows(plan, window);
  const order = plan.read.watermark ? ` ORDER BY ${identifier(plan.read.watermark.column)} DESC NULLS LAST` : "";
  const newestFirst = order && window.kind !== "keys" && window.kind !== "slice" ? order : "";
  return `SELECT ${plan.read.columns.map((column) => `left(r.${identifier(column.name)}::text, 300) AS ${identifier(column.name)}`).join(", ")} FROM (${rows}${newestFirst} LIMIT ${Math.trunc(limit)}) r`;
}
