import { asSubquery } from "../expression/parse.ts";
import { identityColumns, type LoadPlan, type PlannedColumn, type ReadRequest, type StagedColumn, stagedColumns, type Window } from "../plan/plan.ts";
import { conversion, keeps } from "./convert.ts";
import { identifier, identifiers, qualified } from "./identifier.ts";
import { literal, typedLiteral } from "./literal.ts";
import { slicePredicate } from "./slice.ts";
import { hashOf, typeFamily } from "./type.ts";

/** The session settings under which both sides print the same value as the same text. */
export const sessionSettings =
  "SET TimeZone = 'UTC'; SET DateStyle = 'ISO, YMD'; SET IntervalStyle = 'postgres'; SET extra_float_digits = 1; SET bytea_output = 'hex'; SET jit = off; SET statement_timeout = 0; SET idle_in_transaction_session_timeout = 0";

export const beginSnapshot = "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY";

/** Where the rows come from: the quoted table, the query in brackets, or several tables, each row marked with its own. */
export function origin(read: ReadRequest): string {
  if (read.table) return qualified(read.table);
  if (!read.union) return asSubquery(read.query ?? "");
  const { tables, origin: mark, columns } = read.union;
  return `(${tables.map((entry) => `SELECT ${typedLiteral(entry.mark, "text")} AS ${identifier(mark)}, ${identifiers(columns)} FROM ${qualified(entry.table)}`).join(" UNION ALL ")})`;
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
export function keyPredicate(columns: { name: string; type: string; sql?: string }[], keys: string[][]): string {
  if (keys.length === 0) return "false";
  const rows = keys.map((key) => `(${columns.map((column, at) => typedLiteral(key[at] ?? null, column.type)).join(", ")})`);
  return `(${columns.map((column) => column.sql ?? identifier(column.name)).join(", ")}) IN (${rows.join(", ")})`;
}

/** A staged column's value over the source's row `s`. */
function rawValue({ source, type, cast }: StagedColumn): string {
  return `s.${identifier(source)}${cast ? `::${type}` : ""}`;
}

/** A warehouse column's value over the staged row `s`, cast to its type. */
export function shapedValue(column: PlannedColumn): string {
  return column.type === column.given ? column.expression : `(${column.expression})::${column.type}`;
}

/** A 64-bit hash of what identifies a source row; see identityColumns. */
export function identityHash(plan: LoadPlan, side: "source" | "stage"): string {
  return hashOf(identityColumns(plan).map((column) => ({ sql: side === "source" ? rawValue(column) : `s.${identifier(column.name)}`, type: column.type })));
}

/** The order in which rows of one key are ranked: the latest first, ties by their content, so that source and stage choose the same one. */
export function latestFirst(plan: LoadPlan, side: "source" | "stage"): string {
  const staged = stagedColumns(plan);
  const sql = (column: StagedColumn) => (side === "source" ? rawValue(column) : `s.${identifier(column.name)}`);
  const watermark = staged.find((column) => column.source === plan.read.watermark?.column);
  const content = hashOf(staged.map((column) => ({ sql: sql(column), type: column.type })));
  return [...(watermark ? [`${sql(watermark)} DESC NULLS LAST`] : []), `${content} DESC`].join(", ");
}

/** Identities as one array, so that any number of them is one hashed look-up. */
function identityList(identities: string[]): string {
  return `unnest(${literal(`{${identities.join(",")}}`)}::bigint[])`;
}

/** The source's rows before anything is shaped, less those that a proof leaves out. */
function sourceOrigin(plan: LoadPlan, conditions: string[]): string {
  const { read, without } = plan;
  const inside = [...condition(read), ...conditions];
  if (!without) return `${origin(read)} s${where(inside)}`;
  if (without.identities.length) inside.push(`NOT EXISTS (SELECT 1 FROM ${identityList(without.identities)} x(identity) WHERE x.identity = ${identityHash(plan, "source")})`);
  const keys = plan.key.map((name) => plan.read.columns.find((column) => column.name === name)).filter((column) => column !== undefined);
  for (const column of keys) if (column.source !== null && !column.notNull) inside.push(`s.${identifier(column.source)} IS NOT NULL`);
  const rows = `SELECT s.* FROM ${origin(read)} s${where(inside)}`;
  // The fence keeps an expression from being tried on a row that is left out because it fails there.
  if (!without.duplicates) return `(${rows} OFFSET 0) s`;
  const key = keys.map(shapedValue).join(", ");
  return `(SELECT DISTINCT ON (${key}) s.* FROM (${rows} OFFSET 0) s ORDER BY ${key}, ${latestFirst(plan, "source")}) s`;
}

/** The conditions of a window over the source's row, and those over the warehouse's columns. */
function windowConditions(plan: LoadPlan, window: Window, column: (name: string) => string): { inside: string[]; outside: string | null } {
  switch (window.kind) {
    case "all":
      return { inside: [], outside: null };
    case "since":
      return { inside: [pastWatermark(plan.read, window.value)], outside: null };
    case "identities":
      return { inside: [`${identityHash(plan, "source")} IN (SELECT * FROM ${identityList(window.identities)})`], outside: null };
    case "interval": {
      if (window.on === "source") return { inside: [between(identifier(window.column), window.type, window.from, window.to)], outside: null };
      return { inside: [], outside: between(column(window.column), window.type, window.from, window.to) };
    }
    case "slice":
      return { inside: [], outside: slicePredicate(plan, window.slice, column(plan.by?.column ?? "")) };
    case "keys":
      return { inside: [], outside: keyPredicate(keyColumns(plan).map(({ name, type }) => ({ name, type, sql: column(name) })), window.keys) };
  }
}

/**
 * The source's rows under the warehouse's column names and types: `SELECT "id", "fare"::numeric(12,2) AS "price" FROM …`.
 * What the pairing does to a value stands only here, so that reading and proving see the same rows.
 */
export function sourceRows(plan: LoadPlan, window: Window = { kind: "all" }): string {
  const { inside, outside } = windowConditions(plan, window, identifier);
  const rows = plan.shape ? shapedRows(plan, inside) : pairedRows(plan, inside);
  return outside ? `SELECT * FROM (${rows}) r WHERE ${outside}` : rows;
}

function pairedRows(plan: LoadPlan, conditions: string[]): string {
  const columns = stagedColumns(plan).map((column) => (column.cast || column.name !== column.source ? `${rawValue(column)} AS ${identifier(column.name)}` : rawValue(column)));
  return `SELECT ${columns.join(", ")} FROM ${sourceOrigin(plan, conditions)}${limited(plan.read)}`;
}

function rawSelect(plan: LoadPlan, conditions: string[]): string {
  const columns = stagedColumns(plan).map((column) => (column.cast ? `${rawValue(column)} AS ${identifier(column.name)}` : rawValue(column)));
  return `SELECT ${columns.join(", ")} FROM ${sourceOrigin(plan, conditions)}${limited(plan.read)}`;
}

function shapedRows(plan: LoadPlan, conditions: string[]): string {
  const columns = plan.read.columns.map((column) => `${shapedValue(column)} AS ${identifier(column.name)}`);
  return `SELECT ${columns.join(", ")} FROM (${rawSelect(plan, conditions)}) s`;
}

/** The end of a limited read: the latest rows by watermark first. */
function limited({ watermark, limit }: ReadRequest): string {
  if (limit === null) return "";
  return `${watermark ? ` ORDER BY s.${identifier(watermark.column)} DESC NULLS LAST` : ""} LIMIT ${Math.trunc(limit)}`;
}

/** The rows of a window as they are staged: the source's own columns where a shape follows, else the warehouse's. */
export function stagedRows(plan: LoadPlan, window: Window): string {
  if (!plan.shape) return sourceRows(plan, window);
  const value = (name: string) => {
    const column = plan.read.columns.find((candidate) => candidate.name === name);
    return column ? shapedValue(column) : identifier(name);
  };
  const { inside, outside } = windowConditions(plan, window, value);
  const rows = rawSelect(plan, inside);
  if (!outside) return rows;
  // A row whose value can't be told for certain is read too, rather than failing the read; the check settles it.
  const told = windowColumns(plan, window)
    .filter((column) => !keeps(column.type, column.given))
    .map((column) => `coalesce(${conversion(`(${column.expression})`, column.given, column.type).certain}, true)`);
  return `SELECT s.* FROM (${rows}) s WHERE ${told.length ? `CASE WHEN ${told.join(" AND ")} THEN ${outside} ELSE true END` : outside}`;
}

/** The warehouse columns that a window's condition looks at. */
function windowColumns(plan: LoadPlan, window: Window): PlannedColumn[] {
  const names = window.kind === "keys" ? plan.key : window.kind === "slice" ? [plan.by?.column] : window.kind === "interval" ? [window.column] : [];
  return plan.read.columns.filter((column) => names.includes(column.name));
}

/** The key's columns with their types; a load without a key is told apart by all its columns. */
export function keyColumns(plan: LoadPlan): { name: string; type: string }[] {
  return plan.key.length ? plan.read.columns.filter((column) => plan.key.includes(column.name)).sort((a, b) => plan.key.indexOf(a.name) - plan.key.indexOf(b.name)) : plan.read.columns;
}

/** The rows of a window as a binary COPY stream. */
export function copyOut(plan: LoadPlan, window: Window): string {
  return `COPY (${stagedRows(plan, window)}) TO STDOUT (FORMAT binary)`;
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

/** The latest rows under the warehouse's names, every value as text, for a person to look at. */
export function previewRows(plan: LoadPlan, window: Window, limit: number): string {
  const values = plan.read.columns.map((column) => `left(r.${identifier(column.name)}::text, 300) AS ${identifier(column.name)}`);
  return `SELECT ${values.join(", ")} FROM (${sourceRows({ ...plan, read: { ...plan.read, limit } }, window)}) r`;
}
