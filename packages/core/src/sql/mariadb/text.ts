import { baseType, limits } from "../type.ts";
import { isDated, type MariaColumn } from "./type.ts";

/** Quotes a name for MariaDB, whatever its sql_mode. */
export function identifier(name: string): string {
  return `\`${name.replaceAll("`", "``")}\``;
}

/** A text's bytes in UTF-8, in hexadecimal digits. */
export const hex = (text: string): string =>
  Array.from(new TextEncoder().encode(text), (byte) => byte.toString(16).padStart(2, "0")).join("");

/** A text as SQL of MariaDB that means it whatever the server's sql_mode and character set are; compared by its bytes. */
export const literal = (text: string): string => `(_utf8mb4 X'${hex(text)}' COLLATE utf8mb4_nopad_bin)`;

/** What is done with a day that no calendar has, such as 0000-00-00. */
export type ZeroDates = "reject" | "null";

/** True for a day that no calendar has: year, month or day 0, or past its month's end; never for a null. */
export function noDay(sql: string): string {
  return `(${sql} IS NOT NULL AND (TO_DAYS(${sql}) IS NULL OR ${sql} < '0001-01-01' OR (DAYOFMONTH(${sql}) > 28 AND DATE(${sql}) > LAST_DAY(${sql}))))`;
}

/** A column's value over the source's row `s`; a day that no calendar has is null where that is the choice. */
export function valueIn(column: MariaColumn, zeroDates: ZeroDates): string {
  const sql = `s.${identifier(column.name)}`;
  return zeroDates === "null" && isDated(column) ? `IF(${noDay(sql)}, NULL, ${sql})` : sql;
}

const trimmed = (text: string) => `TRIM(TRAILING '.' FROM TRIM(TRAILING '0' FROM ${text}))`;

/** A time's text without zeros at the end of its fraction, as PostgreSQL prints it. */
const clock = (sql: string, scale: number | null) => (scale ? trimmed(`CAST(${sql} AS CHAR)`) : `CAST(${sql} AS CHAR)`);

/** A text's bytes in UTF-8, compared by them. */
const characters = (sql: string) => `CONVERT(${sql} USING utf8mb4) COLLATE utf8mb4_nopad_bin`;

/** A value as PostgreSQL's text of the warehouse type that holds it: what it is read as. */
export function readText(column: MariaColumn, sql: string): string {
  switch (column.kind) {
    case "integer":
    case "decimal":
      // As it is printed, but for zeros before it, and the four digits of a year.
      return /zerofill|^year/.test(column.declared) ? `(${sql} + 0)` : sql;
    case "float":
    case "double":
      // As a double, a float is printed to its last digit.
      return `(${sql} + 0e0)`;
    case "bit":
      return `LPAD(BIN(${sql} + 0), ${column.length ?? 1}, '0')`;
    case "text":
    case "json":
      return characters(sql);
    case "bytes":
      return `CONCAT(_utf8mb4 X'5c78', LOWER(HEX(${sql})))`;
    case "date":
    case "uuid":
      return `CAST(${sql} AS CHAR)`;
    case "datetime":
    case "time":
      return clock(sql, column.scale);
    case "timestamp":
      return `CONCAT(${clock(sql, column.scale)}, '+00')`;
    case "other":
      return characters(`CAST(${sql} AS CHAR)`);
  }
}

/** True for what a CSV must quote. */
export const isQuoted = ({ kind }: MariaColumn): boolean => kind === "text" || kind === "json" || kind === "other";

/**
 * The bits of a double as a whole number (IEEE 754), the same as PostgreSQL's `float8send` gives, by arithmetic that is
 * exact: scaling by powers of two. The logarithm may fall on the wrong side of a whole number, which is put right.
 */
function bits(sql: string): string {
  const whole = (by: string) => `CAST(${by} AS SIGNED)`;
  const two52 = "4503599627370496";
  const normal = (value: string, shift: number) => {
    const exponent = `FLOOR(LOG2(${value}))`;
    const mantissa = `${value} * POW(2, 52 - ${exponent})`;
    const made = (e: string, m: string) => `${whole(`${e} + ${1023 + shift}`)} * ${two52} + ${whole(m)} - ${two52}`;
    return `CASE WHEN ${mantissa} < ${two52} THEN ${made(`${exponent} - 1`, `2 * (${mantissa})`)} WHEN ${mantissa} >= 2 * ${two52} THEN ${made(`${exponent} + 1`, `(${mantissa}) / 2`)} ELSE ${made(exponent, mantissa)} END`;
  };
  const size = `ABS(${sql} + 0e0)`;
  const small = `(${size} * POW(2, 600))`;
  const sized = `CASE WHEN ${size} = 0 THEN 0 WHEN ${size} < 2.2250738585072014e-308 THEN ${whole(`${small} * POW(2, 474)`)} WHEN ${size} < 1e-280 THEN ${normal(small, -600)} WHEN ${size} > 1e280 THEN ${normal(`(${size} * POW(2, -200))`, 200)} ELSE ${normal(size, 0)} END`;
  return `(IF(${sql} < 0 OR (${sql} = 0 AND CAST(${sql} AS CHAR) LIKE '-%'), -9223372036854775807 - 1, 0) + ${sized})`;
}

const wholes = new Set(["smallint", "integer", "bigint"]);

/**
 * The text by which a value is known as the same on both sides, where it stands in the warehouse as `type`; null where the
 * server can't print it so. See portableText, which gives the warehouse's.
 */
export function portableText(column: MariaColumn, sql: string, type: string): string | null {
  const base = baseType(type);
  const [, scale = null] = base === "numeric" ? limits(type) : [];
  switch (column.kind) {
    case "integer":
    case "decimal": {
      if (wholes.has(base)) return column.kind === "integer" ? readText(column, sql) : `CAST(${sql} AS DECIMAL(65,0))`;
      if (base !== "numeric") return null;
      const wanted = limits(type).length === 0 ? (column.scale ?? 0) : (scale ?? 0);
      if (wanted < 0 || wanted > 38) return null;
      return wanted === (column.scale ?? 0) ? readText(column, sql) : `CAST(${sql} AS DECIMAL(65,${wanted}))`;
    }
    case "float":
    case "double":
      return base === "real" || base === "double precision" ? bits(sql) : null;
    case "bit":
      return base === "bit" || base === "bit varying" || base === "text" ? readText(column, sql) : null;
    case "text":
    case "other":
      return base === "text" || base === "character varying" ? readText(column, sql) : null;
    case "json":
      return base === "json" || base === "text" ? readText(column, sql) : null;
    case "bytes":
      return base === "bytea" ? readText(column, sql) : null;
    case "date":
      return base === "date" ? readText(column, sql) : null;
    case "datetime":
      return base === "timestamp without time zone" ? readText(column, sql) : null;
    case "timestamp":
      return base === "timestamp with time zone" ? readText(column, sql) : null;
    case "time":
      return base === "interval" ? readText(column, sql) : null;
    case "uuid":
      return base === "uuid" || base === "text" ? readText(column, sql) : null;
  }
}
