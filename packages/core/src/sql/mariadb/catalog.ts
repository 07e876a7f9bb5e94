import type { TableName } from "../identifier.ts";
import { qualified } from "./read.ts";
import { identifier, literal } from "./text.ts";
import { isDated, type MariaColumn } from "./type.ts";

/** What a session of ours is set to, and found to be, written as the server tells it: so that both sides print alike, and nothing is written. */
const settings: Record<string, string> = {
  sql_mode:
    "NO_UNSIGNED_SUBTRACTION,NO_BACKSLASH_ESCAPES,STRICT_TRANS_TABLES,ERROR_FOR_DIVISION_BY_ZERO,NO_ENGINE_SUBSTITUTION",
  time_zone: "+00:00",
  tx_isolation: "REPEATABLE-READ",
  lc_time_names: "en_US",
};

export const settleSession = [
  "SET NAMES utf8mb4 COLLATE utf8mb4_nopad_bin",
  `SET SESSION ${Object.entries(settings)
    .map(([name, value]) => `${name} = '${value}'`)
    .join(
      ", ",
    )}, tx_read_only = 1, max_statement_time = 0, sql_select_limit = DEFAULT, big_tables = 0, div_precision_increment = 4`,
];

/** Lets a session write that was to read alone. */
export const letWrite = "SET SESSION tx_read_only = 0";

/** Gives `settled`, 1 where the session is as it was set. */
export const settledSession = `SELECT ${Object.entries(settings)
  .map(([name, value]) => `(@@SESSION.${name} = '${value}')`)
  .join(" AND ")} AND @@SESSION.tx_read_only = 1 AND @@SESSION.sql_select_limit > 18446744073709551614 AS settled`;

/** From here on the session reads one moment, and its clock stands. */
export const beginSnapshot = [
  "SET timestamp = UNIX_TIMESTAMP(SYSDATE(6))",
  "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY",
];

export const serverFacts =
  "SELECT VERSION() AS version, CURRENT_USER() AS name, DATABASE() AS `database`, @@max_allowed_packet AS packet, CONNECTION_ID() AS id";
export const clock = "SELECT CONCAT(UTC_TIMESTAMP(6), '+00') AS moment";
/** Which server and database this is, wherever it listens. */
export const identity =
  "SELECT CONCAT(@@server_id, '/', @@hostname, ':', @@datadir, '/', IFNULL(DATABASE(), '')) AS identity";
export const kill = (id: string): string => `KILL ${Math.trunc(Number(id))}`;
export const handshake = "SHOW SESSION STATUS WHERE Variable_name IN ('Ssl_version', 'Ssl_cipher')";

const own = "TABLE_SCHEMA NOT IN ('information_schema', 'performance_schema', 'mysql', 'sys')";

/** Every table and view that this user sees. */
export const datasets = `SELECT TABLE_SCHEMA AS \`schema\`, TABLE_NAME AS name, IF(TABLE_TYPE LIKE '%VIEW%', 'view', 'table') AS kind,
  TABLE_ROWS AS \`rows\`, IF(TABLE_TYPE LIKE '%VIEW%', NULL, DATA_LENGTH + INDEX_LENGTH) AS bytes, NULLIF(IF(TABLE_TYPE LIKE '%VIEW%', '', TABLE_COMMENT), '') AS comment
FROM information_schema.TABLES WHERE ${own} AND TABLE_TYPE IN ('BASE TABLE', 'VIEW', 'SYSTEM VERSIONED') ORDER BY 1, 2`;

const of = ({ schema, table }: TableName) => `TABLE_SCHEMA = ${literal(schema)} AND TABLE_NAME = ${literal(table)}`;

/** A table's engine and estimate; no row where this user sees none. */
export const findTable = (table: TableName): string =>
  `SELECT IFNULL(ENGINE, '') AS engine, IFNULL(TABLE_ROWS, 0) AS \`rows\`, IF(TABLE_TYPE LIKE '%VIEW%', 1, 0) AS view FROM information_schema.TABLES WHERE ${of(table)}`;

export const tableColumns = (table: TableName): string =>
  `SELECT c.COLUMN_NAME AS name, c.COLUMN_TYPE AS declared, IF(c.DATA_TYPE = 'longtext' AND EXISTS (SELECT 1 FROM information_schema.CHECK_CONSTRAINTS k WHERE k.CONSTRAINT_SCHEMA = c.TABLE_SCHEMA AND k.TABLE_NAME = c.TABLE_NAME AND k.CONSTRAINT_NAME = c.COLUMN_NAME AND k.CHECK_CLAUSE LIKE 'json_valid(%'), 'json', c.DATA_TYPE) AS kind,
  c.CHARACTER_MAXIMUM_LENGTH AS length, c.NUMERIC_PRECISION AS \`precision\`, COALESCE(c.DATETIME_PRECISION, c.NUMERIC_SCALE) AS scale, c.IS_NULLABLE = 'NO' AS not_null,
  IFNULL(c.GENERATION_EXPRESSION, '') <> '' AS generated, c.COLUMN_DEFAULT IS NOT NULL OR c.EXTRA LIKE '%auto_increment%' AS has_default, NULLIF(c.COLUMN_COMMENT, '') AS comment
FROM information_schema.COLUMNS c WHERE ${of(table).replaceAll("TABLE_", "c.TABLE_")} ORDER BY c.ORDINAL_POSITION`;

/** The columns of each index, in their order; one of a column's beginning only counts as none. */
export const tableIndexes = (table: TableName): string =>
  `SELECT INDEX_NAME AS name, NON_UNIQUE = 0 AS is_unique, GROUP_CONCAT(HEX(COLUMN_NAME) ORDER BY SEQ_IN_INDEX) AS columns FROM information_schema.STATISTICS WHERE ${of(table)} GROUP BY INDEX_NAME, NON_UNIQUE HAVING SUM(SUB_PART IS NOT NULL) = 0 ORDER BY INDEX_NAME = 'PRIMARY' DESC, INDEX_NAME`;

export const readableTables = `SELECT COUNT(*) AS tables FROM information_schema.TABLES WHERE ${own}`;

/** Which of some names are routines of the server's own databases. */
export const routines = (names: readonly string[]): string =>
  `SELECT CONCAT(ROUTINE_SCHEMA, '.', ROUTINE_NAME) AS name FROM information_schema.ROUTINES WHERE ROUTINE_TYPE = 'FUNCTION' AND ROUTINE_NAME IN (${names.map(literal).join(", ")}) ORDER BY 1 LIMIT 1`;

export const firstRows = (
  table: TableName,
  columns: readonly { name: string; text: string }[],
  limit: number,
): string =>
  `SELECT ${columns.map(({ name, text }) => `LEFT(${text}, 300) AS ${identifier(name)}`).join(", ")} FROM ${qualified(table)} s LIMIT ${Math.trunc(limit)}`;

/** A column's ends and how fine its values are, over at most so many rows; all of them where `limit` is null, for which an index serves. */
export function columnRange(
  table: TableName,
  column: MariaColumn,
  text: (sql: string) => string,
  limit: number | null,
): string {
  const sql = `s.${identifier(column.name)}`;
  const usable = isDated(column) ? ` WHERE ${sql} >= '1000-01-01'` : "";
  const from = `${qualified(table)} s${usable}`;
  if (limit === null)
    return `SELECT ${text("low")} AS earliest, ${text("high")} AS latest FROM (SELECT MIN(${sql}) AS low, MAX(${sql}) AS high FROM ${from}) e`;
  const all = (test: string) => `SUM(IF(${test}, 0, 1)) = 0`;
  return `SELECT ${text("low")} AS earliest, ${text("high")} AS latest, n AS sampled, grain FROM (SELECT MIN(v) AS low, MAX(v) AS high, COUNT(*) AS n,
  CASE WHEN COUNT(v) = 0 THEN NULL WHEN ${all("TIME(v) = 0")} THEN 'day' WHEN ${all("MINUTE(v) = 0 AND SECOND(v) = 0 AND MICROSECOND(v) = 0")} THEN 'hour' WHEN ${all("SECOND(v) = 0 AND MICROSECOND(v) = 0")} THEN 'minute'
    WHEN ${all("MICROSECOND(v) = 0")} THEN 'second' WHEN ${all("MICROSECOND(v) MOD 1000 = 0")} THEN 'millisecond' ELSE 'microsecond' END AS grain
FROM (SELECT ${sql} AS v FROM ${from} LIMIT ${Math.trunc(limit)}) r) e`;
}
