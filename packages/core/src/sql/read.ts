import { asSubquery } from "../expression/parse.ts";
import {
  identityColumns,
  type LoadPlan,
  type PlannedColumn,
  type ReadRequest,
  type StagedColumn,
  stagedColumns,
  type Without,
} from "../plan/plan.ts";
import { forWindow } from "../plan/span.ts";
import type { Window } from "../plan/window.ts";
import { conversion, keeps } from "./convert.ts";
import { fence } from "./fence.ts";
import { rowHash } from "./hash.ts";
import { identifier, identifiers, qualified } from "./identifier.ts";
import { literal, typedLiteral } from "./literal.ts";
import { inSlices } from "./slice.ts";
import { baseType, typeFamily } from "./type.ts";

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

/** The watermark's value of a row; of texts that state one, null for those that state none. */
function watermarkValue({ type, given, fits }: NonNullable<ReadRequest["watermark"]>, column: string): string {
  if (keeps(type, given)) return column;
  if (fits) return `${column}::text::${type}`;
  const { cast, certain } = conversion(column, given, type);
  return `(CASE WHEN ${certain} THEN ${cast} END)`;
}

/** Rows past the watermark less the look-back, and those whose watermark column is null: they could be lost otherwise. */
function pastWatermark(read: ReadRequest, value: string): string {
  const watermark = read.watermark;
  if (!watermark) return "true";
  const column = watermarkValue(watermark, `s.${identifier(watermark.column)}`);
  const moment = typeFamily(watermark.type) === "moment";
  const back =
    watermark.lookBack === null ? "" : ` - ${typedLiteral(watermark.lookBack, moment ? "interval" : "numeric")}`;
  const past = `${column} >= ${typedLiteral(value, watermark.type)}${back}`;
  return watermark.nullable ? `(${past} OR ${column} IS NULL)` : past;
}

/** A moment as a person gives it: where it names no zone, it is local to one. */
function bound(text: string, type: string, zone: string): string {
  if (
    baseType(type) !== "timestamp with time zone" ||
    /([zZ]|[-+]\d{1,2}(:?\d{2})?)$/.test(text.replace(/^\s*-?\d+-\d+-\d+/, ""))
  )
    return typedLiteral(text, type);
  return `timezone(${literal(zone)}, ${typedLiteral(text, "timestamp")})`;
}

function between(column: string, type: string, zone: string, from: string, to: string): string {
  return `${column} >= ${bound(from, type, zone)} AND ${column} < ${bound(to, type, zone)}`;
}

function where(conditions: string[]): string {
  return conditions.length ? ` WHERE ${conditions.join(" AND ")}` : "";
}

/** `("a", "b") IN ((…), (…))` over columns of stated types; no keys match no row. */
export function keyPredicate(columns: { name: string; type: string; sql?: string }[], keys: string[][]): string {
  if (keys.length === 0) return "false";
  const rows = keys.map(
    (key) => `(${columns.map((column, at) => typedLiteral(key[at] ?? null, column.type)).join(", ")})`,
  );
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

function hashed({ hashing }: LoadPlan, columns: readonly StagedColumn[], side: "source" | "stage"): string {
  return rowHash(
    columns.map((column) => ({
      sql: side === "source" ? rawValue(column) : `s.${identifier(column.name)}`,
      type: column.type,
    })),
    hashing,
  );
}

/** A 64-bit hash of what identifies a source row; see identityColumns. */
export function identityHash(plan: LoadPlan, side: "source" | "stage"): string {
  return hashed(plan, identityColumns(plan), side);
}

/** A 64-bit hash of a source row's every value that is read, by which exactly that row is known again. */
export function contentHash(plan: LoadPlan, side: "source" | "stage"): string {
  return hashed(plan, stagedColumns(plan), side);
}

/**
 * The order in which rows of one key are ranked: the latest first, ties by their content, so that source and stage choose
 * the same one. The latest of a history is told by the time from when a row is so, then by the watermark.
 */
export function latestFirst(plan: LoadPlan, side: "source" | "stage"): string {
  const telling = [plan.write.history?.since?.source, plan.read.watermark?.column];
  const columns = [...new Set(telling)].flatMap(
    (name) => stagedColumns(plan).find((column) => column.source === name) ?? [],
  );
  const { watermark } = plan.read;
  const sql = (column: StagedColumn) => {
    const value = side === "source" ? rawValue(column) : `s.${identifier(column.name)}`;
    return watermark && column.source === watermark.column && plan.shape ? watermarkValue(watermark, value) : value;
  };
  return [...columns.map((column) => `${sql(column)} DESC NULLS LAST`), `${contentHash(plan, side)} DESC`].join(", ");
}

/** Identities as one array, so that any number of them is one hashed look-up. */
function identityList(identities: string[]): string {
  return `unnest(${literal(`{${identities.join(",")}}`)}::bigint[])`;
}

/** The key's columns over the source's row `s`, where every one of them is taken as it stands; else null. */
function plainKey(plan: LoadPlan): string[] | null {
  const columns = plan.write.key.map((name) => plan.read.columns.find((column) => column.name === name));
  return columns.every((column) => column?.source != null)
    ? columns.map((column) => identifier(column?.source ?? ""))
    : null;
}

/**
 * Rows past the watermark and those without one; where a key may stand on several rows, also those that share a key with
 * a row without one, so that every run chooses the same of them.
 */
function due(plan: LoadPlan, value: string): string {
  const { read, write } = plan;
  const past = pastWatermark(read, value);
  const key = plainKey(plan);
  if (!read.watermark?.nullable || write.keyGuaranteed || !key?.length) return past;
  const [outer, inner] = [key.map((name) => `s.${name}`), key.map((name) => `n.${name}`)];
  const without = [
    `${watermarkValue(read.watermark, `n.${identifier(read.watermark.column)}`)} IS NULL`,
    ...condition(read),
  ];
  return `(${past} OR (${outer.join(", ")}) IN (SELECT ${inner.join(", ")} FROM ${origin(read)} n${where(without)}))`;
}

/**
 * The source's rows before anything is shaped, less those that a proof leaves out; their hashes are the parameter $1.
 * `latest`: of each key only the latest row, though the condition hold for another one only.
 */
function sourceOrigin(plan: LoadPlan, conditions: string[], without: Without | null, latest = false): string {
  const { read } = plan;
  const inside = [...condition(read), ...(latest ? [] : conditions)];
  if (!without && !latest) return `${origin(read)} s${where(inside)}`;
  if (without?.contents.length)
    inside.push(
      `NOT EXISTS (SELECT 1 FROM unnest($1::bigint[]) x(content) WHERE x.content = ${contentHash(plan, "source")})`,
    );
  const plain = plainKey(plan);
  if (latest && conditions.length && plain)
    inside.push(
      `(${plain.map((column) => `s.${column}`).join(", ")}) IN (${keysWhere(plan, plain.map((column) => `s.${column}`).join(", "), conditions)})`,
    );
  const rows = `SELECT s.* FROM ${origin(read)} s${where(inside)}`;
  // The fence keeps an expression from being tried on a row that is left out because it fails there.
  if (!without?.duplicates && !latest) return `(${rows} ${fence}) s`;
  const key = plan.read.columns
    .filter((column) => plan.write.key.includes(column.name))
    .map(shapedValue)
    .join(", ");
  const touched =
    latest && conditions.length && !plain ? ` WHERE (${key}) IN (${keysWhere(plan, key, conditions)})` : "";
  return `(SELECT DISTINCT ON (${key}) s.* FROM (${rows} ${fence}) s${touched} ORDER BY ${key}, ${latestFirst(plan, "source")}) s`;
}

/** The keys of which some row meets conditions. */
function keysWhere({ read }: LoadPlan, key: string, conditions: string[]): string {
  return `SELECT ${key} FROM ${origin(read)} s${where([...condition(read), ...conditions])}`;
}

/** The conditions of a window over the source's row, and those over the warehouse's columns. */
function windowConditions(
  plan: LoadPlan,
  window: Window,
  column: (name: string) => string,
): { inside: string[]; outside: string | null } {
  const { slicing } = plan.prove;
  switch (window.kind) {
    case "all":
    case "changed":
    case "delta":
      return { inside: [], outside: null };
    case "since":
      return { inside: [due(plan, window.value)], outside: null };
    case "identities":
      return {
        inside: [`${identityHash(plan, "source")} IN (SELECT * FROM ${identityList(window.identities)})`],
        outside: null,
      };
    case "interval": {
      if (window.on === "source")
        return {
          inside: [between(sourceValue(plan, window.column), window.type, window.zone, window.from, window.to)],
          outside: null,
        };
      return { inside: [], outside: between(column(window.column), window.type, window.zone, window.from, window.to) };
    }
    case "slice":
      return { inside: [], outside: slicing ? inSlices(slicing, [window.slice], column(slicing.column)) : "true" };
    case "keys":
      return {
        inside: [],
        outside: keyPredicate(
          keyColumns(plan).map(({ name, type }) => ({ name, type, sql: column(name) })),
          window.keys,
        ),
      };
  }
}

/** A source column's value; the watermark's as what it states. */
const sourceValue = ({ read: { watermark } }: LoadPlan, column: string) =>
  watermark?.column === column ? watermarkValue(watermark, identifier(column)) : identifier(column);

/** What a read may leave out. */
export interface Reading {
  window?: Window;
  /** rejected rows that a proof leaves out */
  without?: Without | null;
  /** only so many rows, the latest by watermark */
  limit?: number | null;
  /** of each key only the row that is the latest of all */
  latest?: boolean;
}

/**
 * The source's rows under the warehouse's column names and types: `SELECT "id", "fare"::numeric(12,2) AS "price" FROM …`.
 * What the pairing does to a value stands only here, so that reading and proving see the same rows.
 */
export function sourceRows(
  given: LoadPlan,
  { window = { kind: "all" }, without = null, limit = null, latest = false }: Reading = {},
): string {
  const plan = forWindow(given, window);
  const { inside, outside } = windowConditions(plan, window, identifier);
  const from = `${sourceOrigin(plan, inside, without, latest)}${limited(plan.read, limit)}`;
  const rows = plan.shape ? shapedRows(plan, from) : pairedRows(plan, from);
  return outside ? `SELECT * FROM (${rows}) r WHERE ${outside}` : rows;
}

function pairedRows(plan: LoadPlan, from: string): string {
  const columns = stagedColumns(plan).map((column) =>
    column.cast || column.name !== column.source
      ? `${rawValue(column)} AS ${identifier(column.name)}`
      : rawValue(column),
  );
  return `SELECT ${columns.join(", ")} FROM ${from}`;
}

function rawSelect(plan: LoadPlan, from: string): string {
  const columns = stagedColumns(plan).map((column) =>
    column.cast ? `${rawValue(column)} AS ${identifier(column.name)}` : rawValue(column),
  );
  return `SELECT ${columns.join(", ")} FROM ${from}`;
}

function shapedRows(plan: LoadPlan, from: string): string {
  const columns = plan.read.columns.map((column) => `${shapedValue(column)} AS ${identifier(column.name)}`);
  return `SELECT ${columns.join(", ")} FROM (${rawSelect(plan, from)}) s`;
}

/** The end of a limited read: the latest rows by watermark first. */
function limited({ watermark }: ReadRequest, limit: number | null): string {
  if (limit === null) return "";
  return `${watermark ? ` ORDER BY ${watermarkValue(watermark, `s.${identifier(watermark.column)}`)} DESC NULLS LAST` : ""} LIMIT ${Math.trunc(limit)}`;
}

/**
 * The rows of a window as they are staged: the source's own columns where a shape follows, else the warehouse's. `direct`: as
 * a new target takes them, those of a history with the time from when each is so.
 */
export function stagedRows(given: LoadPlan, window: Window, limit: number | null = null, direct = false): string {
  const plan = forWindow(given, window);
  const { history } = plan.write;
  if (direct && history?.since)
    return `SELECT r.*, r.${identifier(history.since.written ?? "")}::timestamptz AS ${identifier(history.from)} FROM (${stagedRows(plan, window, limit)}) r`;
  if (!plan.shape) return sourceRows(plan, { window, limit });
  const value = (name: string) => {
    const column = plan.read.columns.find((candidate) => candidate.name === name);
    return column ? shapedValue(column) : identifier(name);
  };
  const { inside, outside } = windowConditions(plan, window, value);
  const rows = rawSelect(plan, `${sourceOrigin(plan, inside, null)}${limited(plan.read, limit)}`);
  if (!outside) return rows;
  // A row whose value can't be told for certain is read too, rather than failing the read; the check settles it.
  const told = windowColumns(plan, window)
    .filter((column) => !keeps(column.type, column.given))
    .map((column) => `coalesce(${conversion(`(${column.expression})`, column.given, column.type).certain}, true)`);
  return `SELECT s.* FROM (${rows}) s WHERE ${told.length ? `CASE WHEN ${told.join(" AND ")} THEN ${outside} ELSE true END` : outside}`;
}

/** The warehouse columns that a window's condition looks at. */
function windowColumns(plan: LoadPlan, window: Window): PlannedColumn[] {
  const names =
    window.kind === "keys"
      ? plan.write.key
      : window.kind === "slice"
        ? [plan.prove.slicing?.column]
        : window.kind === "interval"
          ? [window.column]
          : [];
  return plan.read.columns.filter((column) => names.includes(column.name));
}

/** The key's columns with their types; a load without a key is told apart by all its columns. */
export function keyColumns(plan: LoadPlan): { name: string; type: string }[] {
  const { key } = plan.write;
  return key.length
    ? plan.read.columns
        .filter((column) => key.includes(column.name))
        .sort((a, b) => key.indexOf(a.name) - key.indexOf(b.name))
    : plan.read.columns;
}

/** The rows of a window as a binary COPY stream. `direct`: with what a new target takes beside them */
export function copyOut(plan: LoadPlan, window: Window, limit: number | null = null, direct = false): string {
  return `COPY (${stagedRows(plan, window, limit, direct)}) TO STDOUT (FORMAT binary)`;
}

/** The zone in which the source's server tells local time, whatever this session has set. */
const ownZone = "(SELECT reset_val FROM pg_settings WHERE name = 'TimeZone')";

/** When a reading began that is of no one moment, in the watermark's type; undefined where that says nothing. */
function beginning({ type, notAfter }: NonNullable<ReadRequest["watermark"]>): string | undefined {
  if (notAfter === undefined || typeFamily(type) !== "moment") return undefined;
  const moment = typedLiteral(notAfter, "timestamptz");
  return baseType(type) === "timestamp with time zone" ? moment : `timezone('UTC', ${moment})::${type}`;
}

/**
 * The highest watermark among the rows of a window, as text, never past the source's own clock: a row dated in the
 * future must not carry the watermark over rows still to come. NaN and infinities don't count either.
 */
export function highWater(given: LoadPlan, window: Window): string | null {
  const plan = forWindow(given, window);
  const watermark = plan.read.watermark;
  if (!watermark) return null;
  const value = watermarkValue(watermark, `s.${identifier(watermark.column)}`);
  const inside = condition(plan.read);
  if (window.kind === "since") inside.push(pastWatermark(plan.read, window.value));
  // What is read from a text is read once; an index serves a column as it is.
  const computed = !keeps(watermark.type, watermark.given);
  const rows = computed
    ? `(SELECT ${value} AS value FROM ${origin(plan.read)} s${where(inside)} ${fence})`
    : origin(plan.read);
  const column = computed ? "s.value" : value;
  const family = typeFamily(watermark.type);
  const finite = [
    // NaN is greater than every number, infinity too.
    ...(family === "numeric" ? [`${column} > '-Infinity' AND ${column} < 'Infinity'`] : []),
    ...(family === "moment" ? [`isfinite(${column})`] : []),
  ];
  const clock: Record<string, string> = {
    date: `timezone(${ownZone}, now())::date`,
    "timestamp without time zone": `timezone(${ownZone}, now())`,
    "timestamp with time zone": "now()",
  };
  const caps = [clock[baseType(watermark.type)], beginning(watermark)].filter((cap) => cap !== undefined);
  const highest = `max(${column})`;
  return `SELECT ${caps.length ? `least(${[highest, ...caps].join(", ")})` : highest}::text AS value FROM ${rows} s${where(computed ? finite : [...inside, ...finite])} HAVING count(${column}) > 0`;
}

/** The latest rows under the warehouse's names, every value as text, for a person to look at. */
export function previewRows(plan: LoadPlan, window: Window, limit: number): string {
  const values = plan.read.columns.map(
    (column) => `left(r.${identifier(column.name)}::text, 300) AS ${identifier(column.name)}`,
  );
  return `SELECT ${values.join(", ")} FROM (${sourceRows(plan, { window, limit })}) r`;
}

/** How many of some source rows carry a watermark past the one loaded, and how many an earlier one. */
export function keysPastWatermark(plan: LoadPlan, keys: string[][], value: string): string | null {
  const watermark = plan.read.watermark;
  if (!watermark) return null;
  const names = keyColumns(plan).map((column) => {
    const planned = plan.read.columns.find((candidate) => candidate.name === column.name);
    return { ...column, ...(planned ? { sql: shapedValue(planned) } : {}) };
  });
  const at = typedLiteral(value, watermark.type);
  const column = watermarkValue(watermark, `s.${identifier(watermark.column)}`);
  const finite =
    typeFamily(watermark.type) === "moment"
      ? ` AND isfinite(${column})`
      : typeFamily(watermark.type) === "numeric"
        ? ` AND ${column} < 'Infinity'`
        : "";
  return `SELECT count(*) FILTER (WHERE ${column} > ${at})::text AS past, count(*) FILTER (WHERE (${column} > ${at}) IS NOT TRUE)::text AS before, max(${at} - ${column}) FILTER (WHERE ${column} <= ${at}${finite})::text AS late FROM ${origin(plan.read)} s WHERE ${keyPredicate(names, keys)}`;
}

/** Hashes of the source rows that have some keys, to tell which rejected rows still stand there. */
export function contentsOfKeys(plan: LoadPlan, keys: string[][]): string {
  const names = keyColumns(plan).map((column) => {
    const planned = plan.read.columns.find((candidate) => candidate.name === column.name);
    return { ...column, ...(planned ? { sql: shapedValue(planned) } : {}) };
  });
  return `SELECT DISTINCT ${contentHash(plan, "source")}::text AS content FROM ${origin(plan.read)} s${where([...condition(plan.read), keyPredicate(names, keys)])}`;
}
