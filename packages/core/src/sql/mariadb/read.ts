import { Temporal } from "temporal-polyfill";
import {
  identityColumns,
  type LoadPlan,
  lineColumns,
  type StagedColumn,
  stagedColumns,
  type Without,
} from "../../plan/plan.ts";
import type { Window } from "../../plan/window.ts";
import { runsOn } from "../hash.ts";
import type { TableName } from "../identifier.ts";
import { typeFamily } from "../type.ts";
import { inSlices, timeOf } from "./slice.ts";
import { hex, identifier, isQuoted, literal, noDay, portableText, readText, valueIn, type ZeroDates } from "./text.ts";
import { isDated, type MariaColumn } from "./type.ts";
import { ownValues } from "./values.ts";

/** The columns of what is read, by name, and what is done with days that no calendar has. */
export interface MariaRows {
  columns: ReadonlyMap<string, MariaColumn>;
  zeroDates: ZeroDates;
}

export const qualified = ({ schema, table }: TableName): string => `${identifier(schema)}.${identifier(table)}`;

/** A query in brackets; the line break ends a trailing comment. */
export const subquery = (query: string): string => `(${ownValues(query).trim().replace(/;\s*$/, "")}\n)`;

/** Where the rows come from, as `s`. */
export function origin({ read }: Pick<LoadPlan, "read">, columns: Iterable<string>): string {
  if (read.table) return `${qualified(read.table)} s`;
  if (!read.union) return `${subquery(read.query ?? "")} s`;
  const { tables, origin: mark } = read.union;
  const names = [...columns].filter((name) => name !== mark).map(identifier);
  return `(${tables.map(({ mark: text, table }) => `SELECT ${literal(text)} AS ${identifier(mark)}, ${names.join(", ")} FROM ${qualified(table)}`).join(" UNION ALL ")}) s`;
}

function columnOf({ columns }: MariaRows, name: string): MariaColumn {
  const found = columns.get(name);
  if (!found) throw new RangeError(`There is no column ${name}`);
  return found;
}

/** The columns whose values may be a day that no calendar has, where a row is turned away for it. */
const dated = (rows: MariaRows, names: readonly string[]): string[] =>
  rows.zeroDates === "null" ? [] : names.filter((name) => isDated(columnOf(rows, name)));

/** What a row can't be taken for, as text; an empty one where nothing is. */
function faultOf(rows: MariaRows, staged: readonly StagedColumn[]): string {
  const faults = dated(
    rows,
    staged.map(({ source }) => source),
  ).map((name) => {
    const sql = `s.${identifier(name)}`;
    return `IF(${noDay(sql)}, CONCAT(${literal(`${name} holds `)}, CAST(${sql} AS CHAR), ', which is no day'), NULL)`;
  });
  return faults.length ? `CONCAT_WS('; ', ${faults.join(", ")})` : "''";
}

/** Whether any row of what is read can't be taken, as `found`; null where none of its columns could be the reason. */
export function anyFault(from: string, rows: MariaRows): string | null {
  const faults = dated(rows, [...rows.columns.keys()]).map((name) => noDay(`s.${identifier(name)}`));
  return faults.length ? `SELECT EXISTS (SELECT 1 FROM ${from} WHERE ${faults.join(" OR ")}) AS found` : null;
}

/** The columns that are staged and read, without those that tell of lines. */
export function ownColumns(plan: LoadPlan): StagedColumn[] {
  const staged = stagedColumns(plan);
  return plan.shape?.lines ? staged.slice(0, -lineColumns.length) : staged;
}

/** A hash of texts alike on both sides; see rowHash. Each is told with the warehouse's type of its value. */
export function textHash(values: readonly { text: string; type: string }[]): string {
  const lengths = values.filter(({ type }) => runsOn(type)).map(({ text }) => `IFNULL(LENGTH(${text}), '')`);
  const texts = values.map(({ text }) => `IFNULL(${text}, '')`);
  return `CAST(CONV(LEFT(MD5(CONCAT_WS('|', ${[...lengths, ...texts].join(", ")})), 16), 16, -10) AS SIGNED)`;
}

/** A staged column's value over `s` as text; null where the server can't print it as it is staged. */
function stagedText(rows: MariaRows, { source, type }: StagedColumn): string | null {
  const column = columnOf(rows, source);
  return portableText(column, valueIn(column, rows.zeroDates), type);
}

function stagedHash(plan: LoadPlan, rows: MariaRows, staged: readonly StagedColumn[]): string {
  const lines = new Set(lineColumns.map(({ name }) => name));
  return textHash(
    staged.map((column) => ({
      // A row that is one has nothing in the columns that tell of lines.
      text: plan.shape?.lines && lines.has(column.name) ? "NULL" : (stagedText(rows, column) ?? "NULL"),
      type: column.type,
    })),
  );
}

const contentHash = (plan: LoadPlan, rows: MariaRows) => stagedHash(plan, rows, stagedColumns(plan));

/**
 * True where the server can answer for a load's rows: every column is taken as it stands and has a text that both sides
 * print alike, and no figure needs what only one of them can compute.
 */
export function answersFor(plan: LoadPlan, rows: MariaRows): boolean {
  // Texts are told apart here by collations.
  if (plan.prove.slicing?.unit === "origin") return false;
  const plain = plan.read.columns.every(({ source, missing, type }) => {
    if (missing) return true;
    const column = source === null ? undefined : rows.columns.get(source);
    return column !== undefined && portableText(column, "x", type) !== null;
  });
  const byName = new Map(plan.read.columns.map((column) => [column.name, column]));
  const summed = plan.prove.figures.every(({ column, measure }) => {
    const { type = "", source = null } = byName.get(column ?? "") ?? {};
    const kind = rows.columns.get(source ?? "")?.kind;
    return (
      column === null ||
      measure === "count" ||
      (!["float", "double", "uuid", "bytes"].includes(kind ?? "") && typeFamily(type) !== "other") ||
      (kind === "time" && measure !== "sum")
    );
  });
  const keyed = plan.write.key.every((name) => {
    const kind = rows.columns.get(byName.get(name)?.source ?? "")?.kind;
    return kind !== undefined && !["float", "double", "json", "time", "other"].includes(kind);
  });
  const staged = ownColumns(plan).every((column) => stagedText(rows, column) !== null);
  const { history, keyGuaranteed } = plan.write;
  return plain && summed && keyed && staged && (history === null || keyGuaranteed);
}

/** A number as SQL. @throws RangeError for what is none */
function number(text: string): string {
  if (!/^-?\d+(\.\d+)?$/.test(text)) throw new RangeError(`${text} is no number`);
  return text;
}

/** A value of a column's own kind, of the text that the warehouse gives it, for an index to serve. */
function valueLiteral(column: MariaColumn, text: string, type: string, zone = "UTC"): string {
  switch (column.kind) {
    case "integer":
    case "decimal":
      return number(text);
    case "date":
      return `CAST(${literal(timeOf(text, type, zone).slice(0, 10))} AS DATE)`;
    case "datetime":
    case "timestamp":
      return `CAST(${literal(timeOf(text, type, zone))} AS DATETIME(6))`;
    case "bytes":
      return `UNHEX(${literal(text.replace(/^\\x/, ""))})`;
    case "bit":
      return `CONV(${literal(text)}, 2, 10)`;
    case "text":
      // In the column's own order, so that its index serves; which bytes it has is asked beside it.
      return `_utf8mb4 X'${hex(text)}'`;
    default:
      return literal(text);
  }
}

/** True for rows of some keys, texts by their bytes. */
export function keyPredicate(columns: { column: MariaColumn; type: string }[], keys: readonly string[][]): string {
  if (keys.length === 0 || columns.length === 0) return "FALSE";
  const one = (key: readonly string[]) =>
    columns
      .map(({ column, type }, at) => {
        const [sql, text] = [`s.${identifier(column.name)}`, key[at] ?? ""];
        const value = valueLiteral(column, text, type);
        return column.kind === "text"
          ? `${sql} = ${value} AND ${readText(column, sql)} = ${literal(text)}`
          : `${sql} = ${value}`;
      })
      .join(" AND ");
  return `(${keys.map((key) => `(${one(key)})`).join(" OR ")})`;
}

/** The key's columns at the source. */
export function keyOf(plan: LoadPlan, rows: MariaRows): { column: MariaColumn; type: string }[] {
  return plan.write.key.map((name) => {
    const planned = plan.read.columns.find((column) => column.name === name);
    return { column: columnOf(rows, planned?.source ?? ""), type: planned?.type ?? "text" };
  });
}

/** A watermark less its look-back. */
function past(rows: MariaRows, watermark: NonNullable<LoadPlan["read"]["watermark"]>, value: string): string {
  const column = columnOf(rows, watermark.column);
  const at = valueLiteral(column, value, watermark.type);
  const { lookBack } = watermark;
  if (lookBack === null) return at;
  if (!lookBack.startsWith("P")) return `${at} - ${number(lookBack)}`;
  const { years, months, weeks, days, hours, minutes, seconds } = Temporal.Duration.from(lookBack);
  const back = [
    `INTERVAL ${years * 12 + months} MONTH`,
    `INTERVAL ${weeks * 7 + days} DAY`,
    `INTERVAL ${(hours * 60 + minutes) * 60 + seconds} SECOND`,
  ];
  // Before the first day there is none; then everything is read.
  return `IFNULL(${at} - ${back.join(" - ")}, CAST('0001-01-01' AS DATETIME))`;
}

/** Rows past the watermark, those without one, and those that share a key with such a row where a key may stand on several. */
function due(plan: LoadPlan, rows: MariaRows, value: string): string {
  const { read, write } = plan;
  if (!read.watermark) return "TRUE";
  const sql = `s.${identifier(read.watermark.column)}`;
  const later = `${sql} >= ${past(rows, read.watermark, value)}`;
  if (!read.watermark.nullable) return later;
  const either = `(${later} OR ${sql} IS NULL)`;
  if (write.keyGuaranteed || write.key.length === 0) return either;
  const names = write.key.flatMap((name) => plan.read.columns.find((column) => column.name === name)?.source ?? []);
  if (names.length < write.key.length) return either;
  const inner = names.map((name) => `s.${identifier(name)}`).join(", ");
  return `(${either} OR (${inner}) IN (SELECT ${inner} FROM ${origin(plan, rows.columns.keys())} WHERE ${[`${sql} IS NULL`, ...condition(plan)].join(" AND ")}))`;
}

const condition = ({ read }: LoadPlan): string[] => (read.where ? [`(${ownValues(read.where)}\n)`] : []);

/** The source column that a warehouse column takes. */
function sourceOf(plan: LoadPlan, rows: MariaRows, name: string): MariaColumn {
  return columnOf(rows, plan.read.columns.find((column) => column.name === name)?.source ?? "");
}

function windowConditions(plan: LoadPlan, rows: MariaRows, window: Window): string[] {
  switch (window.kind) {
    case "all":
    case "changed":
    case "delta":
      return [];
    case "since":
      return [due(plan, rows, window.value)];
    case "identities":
      return [
        `${stagedHash(plan, rows, identityColumns(plan))} IN (${window.identities.map((one) => number(one)).join(", ") || "NULL"})`,
      ];
    case "interval": {
      const { type, zone, from, to } = window;
      const column = window.on === "source" ? columnOf(rows, window.column) : sourceOf(plan, rows, window.column);
      const sql = valueIn(column, rows.zeroDates);
      return [
        `${sql} >= ${valueLiteral(column, from, type, zone)} AND ${sql} < ${valueLiteral(column, to, type, zone)}`,
      ];
    }
    case "slice": {
      const { slicing } = plan.prove;
      if (!slicing) return [];
      return [inSlices(slicing, [window.slice], valueIn(sourceOf(plan, rows, slicing.column), rows.zeroDates))];
    }
    case "keys":
      return [keyPredicate(keyOf(plan, rows), window.keys)];
  }
}

/** Conditions as they stand behind FROM. */
export const where = (conditions: readonly string[]): string =>
  conditions.length ? ` WHERE ${conditions.join(" AND ")}` : "";

/**
 * The rows of a window as `s`, with their conditions; less those that can't be taken, and those that a proof leaves out:
 * these are known by their content, and of a key that stands several times only the latest row counts.
 */
export function accepted(
  plan: LoadPlan,
  rows: MariaRows,
  window: Window,
  without: Without | null,
): { from: string; conditions: string[] } {
  const conditions = [...condition(plan), ...windowConditions(plan, rows, window)];
  if (plan.shape?.lines) conditions.push(`${faultOf(rows, ownColumns(plan))} = ''`);
  if (without?.contents.length)
    conditions.push(`${contentHash(plan, rows)} NOT IN (${without.contents.map(number).join(", ")})`);
  const from = origin(plan, rows.columns.keys());
  if (!without?.duplicates) return { from, conditions };
  const key = keyOf(plan, rows).map(({ column }) => readText(column, `s.${identifier(column.name)}`));
  const latest = [
    ...(plan.read.watermark ? [`s.${identifier(plan.read.watermark.column)} DESC`] : []),
    `${contentHash(plan, rows)} DESC`,
  ];
  const ranked = `SELECT s.*, ROW_NUMBER() OVER (PARTITION BY ${key.join(", ")} ORDER BY ${latest.join(", ")}) AS ${identifier("undercoat rank")} FROM ${from}${where(conditions)}`;
  return { from: `(${ranked}) s`, conditions: [`s.${identifier("undercoat rank")} = 1`] };
}

/** A window's rows as staged, each a line of a CSV, as `line`. `limit`: only so many, the latest by watermark. */
export function lines(plan: LoadPlan, rows: MariaRows, window: Window, limit: number | null = null): string {
  const staged = ownColumns(plan);
  const quoted = (text: string) => `IFNULL(CONCAT('"', REPLACE(${text}, '"', '""'), '"'), '')`;
  const fields = staged.map(({ source, missing }: StagedColumn & { missing?: boolean }) => {
    const column = rows.columns.get(source);
    if (!column || missing) return "''";
    const value = valueIn(column, rows.zeroDates);
    const sql = readText(column, value);
    if (plan.shape?.lines && isDated(column) && rows.zeroDates === "reject")
      return `IF(${noDay(value)}, '', IFNULL(${sql}, ''))`;
    return isQuoted(column) ? quoted(sql) : `IFNULL(${sql}, '')`;
  });
  if (plan.shape?.lines) {
    const fault = faultOf(rows, staged);
    const told = staged.map(({ source }) => `IFNULL(CAST(s.${identifier(source)} AS CHAR), '')`);
    const line = `IF(${fault} = '', '', ${quoted(`CONCAT_WS(', ', ${told.join(", ")})`)})`;
    const place = `IF(${fault} = '', '', ${quoted(literal(plan.read.table ? plan.read.table.table : "query"))})`;
    fields.push("''", `IF(${fault} = '', '', ${quoted(fault)})`, place, line);
  }
  const latest =
    limit !== null && plan.read.watermark ? ` ORDER BY s.${identifier(plan.read.watermark.column)} DESC` : "";
  return `SELECT CONCAT_WS(',', ${fields.join(", ")}) AS line FROM ${origin(plan, rows.columns.keys())}${where([...condition(plan), ...windowConditions(plan, rows, window)])}${latest}${limit === null ? "" : ` LIMIT ${Math.trunc(limit)}`}`;
}

/** The highest watermark of a window's rows that lies not in the future, as `value`. */
export function highWater(plan: LoadPlan, rows: MariaRows, window: Window): string | null {
  const { watermark } = plan.read;
  if (!watermark) return null;
  const column = columnOf(rows, watermark.column);
  const sql = valueIn(column, rows.zeroDates);
  const now: Record<string, string> = {
    date: "UTC_DATE()",
    datetime: "UTC_TIMESTAMP(6)",
    timestamp: "UTC_TIMESTAMP(6)",
  };
  const cap = now[column.kind];
  const usable = isDated(column) && rows.zeroDates === "reject" ? [`NOT ${noDay(sql)}`] : [];
  const conditions = [...condition(plan), ...windowConditions(plan, rows, window), ...usable];
  const highest = cap ? `IF(m > ${cap}, ${cap}, m)` : "m";
  const shown = readText({ ...column, scale: column.kind === "decimal" ? column.scale : column.scale && 6 }, highest);
  return `SELECT ${shown} AS value FROM (SELECT MAX(${sql}) AS m FROM ${origin(plan, rows.columns.keys())}${where(conditions)}) h WHERE m IS NOT NULL`;
}

/** The latest rows under the warehouse's names, every value as text, for a person to look at. */
export function preview(plan: LoadPlan, rows: MariaRows, window: Window, limit: number): string {
  const values = plan.read.columns.map(({ name, source }) => {
    const column = source === null ? undefined : rows.columns.get(source);
    return `${column ? `LEFT(${readText(column, valueIn(column, rows.zeroDates))}, 300)` : "NULL"} AS ${identifier(name)}`;
  });
  const latest = plan.read.watermark ? ` ORDER BY s.${identifier(plan.read.watermark.column)} DESC` : "";
  return `SELECT ${values.join(", ")} FROM ${origin(plan, rows.columns.keys())}${where([...condition(plan), ...windowConditions(plan, rows, window)])}${latest} LIMIT ${Math.trunc(limit)}`;
}

/** Seconds as days and a time of day: a TIME holds no more than 34 days. */
const lateBy = (seconds: string) =>
  `IF(${seconds} >= 86400, CONCAT(${seconds} DIV 86400, ' days ', SEC_TO_TIME(${seconds} MOD 86400)), CAST(SEC_TO_TIME(${seconds}) AS CHAR))`;

/** How many rows of some keys carry a watermark past the one loaded, and how many an earlier one, and by how much at most. */
export function lateness(plan: LoadPlan, rows: MariaRows, keys: string[][], value: string): string | null {
  const { watermark } = plan.read;
  if (!watermark) return null;
  const column = columnOf(rows, watermark.column);
  const sql = `s.${identifier(watermark.column)}`;
  const at = valueLiteral(column, value, watermark.type);
  const by = isDated(column)
    ? lateBy(`MAX(IF(${sql} <= ${at}, TIMESTAMPDIFF(SECOND, ${sql}, ${at}), NULL))`)
    : `CAST(MAX(IF(${sql} <= ${at}, ${at} - ${sql}, NULL)) AS CHAR)`;
  return `SELECT COALESCE(SUM(${sql} > ${at}), 0) AS past, COALESCE(SUM(IF(${sql} > ${at}, 0, 1)), 0) AS \`before\`, ${by} AS late FROM ${origin(plan, rows.columns.keys())} WHERE ${keyPredicate(keyOf(plan, rows), keys)}`;
}

/** Hashes of the rows that have some keys, as `content`. */
export function contents(plan: LoadPlan, rows: MariaRows, keys: string[][]): string {
  return `SELECT DISTINCT ${contentHash(plan, rows)} AS content FROM ${origin(plan, rows.columns.keys())}${where([...condition(plan), keyPredicate(keyOf(plan, rows), keys)])}`;
}
