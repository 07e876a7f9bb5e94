import { identifier, identifiers, qualified, type TableName } from "./identifier.ts";

/** The first rows of a dataset, every value as text cut at 300 characters. */
export function firstRows(table: TableName, columns: readonly string[], limit: number): string {
  const values = columns.map((name) => `left(r.${identifier(name)}::text, 300) AS ${identifier(name)}`);
  return `SELECT ${values.join(", ")} FROM (SELECT ${identifiers(columns)} FROM ${qualified(table)} LIMIT ${Math.trunc(limit)}) r`;
}

/** The two ends of an indexed column, which the index answers without reading the table. */
export function columnEnds(table: TableName, column: string): string {
  const name = identifier(column);
  return `SELECT min(${name})::text AS earliest, max(${name})::text AS latest FROM ${qualified(table)}`;
}

/** How fine a time column's values are, over at most `limit` rows; also its ends there. */
export function columnGrain(table: TableName, column: string, limit: number): string {
  const value = "v::timestamp";
  return `SELECT count(*)::text AS sampled, min(v)::text AS earliest, max(v)::text AS latest, bool_or(v IS NULL) AS nulls,
  CASE WHEN bool_and(date_trunc('day', ${value}) = ${value}) THEN 'day' WHEN bool_and(date_trunc('hour', ${value}) = ${value}) THEN 'hour'
    WHEN bool_and(date_trunc('minute', ${value}) = ${value}) THEN 'minute' WHEN bool_and(date_trunc('second', ${value}) = ${value}) THEN 'second'
    WHEN bool_and(date_trunc('milliseconds', ${value}) = ${value}) THEN 'millisecond' WHEN count(v) > 0 THEN 'microsecond' END AS grain
FROM (SELECT ${identifier(column)} AS v FROM ${qualified(table)} LIMIT ${Math.trunc(limit)}) s`;
}

/** A describe-only form of a query: its columns and no rows. */
export function emptyResult(subquery: string): string {
  return `SELECT * FROM ${subquery} q LIMIT 0`;
}

/** A describe-only form of a condition over the rows `s` of a table or subquery. */
export function conditionOver(relation: string, condition: string): string {
  return `SELECT (${condition}\n) AS value FROM ${relation} s LIMIT 0`;
}

/** A table's rows with the column that says where each came from, as a subquery. */
export function marked(table: TableName, origin: string): string {
  return `(SELECT NULL::text AS ${identifier(origin)}, t.* FROM ${qualified(table)} t)`;
}

/** A describe-only form of an expression over a row `s` of stated columns. */
export function typedNothing(columns: readonly { name: string; type: string }[], expression: string): string {
  return `SELECT (${expression}\n) AS value FROM (SELECT ${columns.map((column) => `NULL::${column.type} AS ${identifier(column.name)}`).join(", ")}) s LIMIT 0`;
}
