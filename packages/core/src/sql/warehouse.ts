import { type LoadPlan, type PlannedColumn, stagedColumns, type Window } from "../plan/plan.ts";
import { keeps } from "./convert.ts";
import { formatTableName, identifier, identifiers, qualified, type TableName } from "./identifier.ts";
import { literal, typedLiteral } from "./literal.ts";
import { keyColumns, stagedRows } from "./read.ts";
import { rejectedTable } from "./reject.ts";
import { sliceExpression } from "./slice.ts";
import { baseType, comparable, shortType, typeFamily } from "./type.ts";

/** Undercoat's own schema in a warehouse: what it needs to know there, in the same transaction as the rows. */
export const houseSchema = "undercoat";

/** A lock's first number: 'unde'. */
const lockSpace = 1970169957;

/** Made once for each warehouse; every statement may be repeated. Sessions that come at once do it one after another. */
export const furnish = `
SELECT pg_advisory_xact_lock(${lockSpace}, 0);
CREATE SCHEMA IF NOT EXISTS undercoat;
CREATE TABLE IF NOT EXISTS undercoat.watermark (
  target text PRIMARY KEY, pipeline text NOT NULL, load text NOT NULL, fingerprint text NOT NULL,
  value text NOT NULL, run uuid NOT NULL, at timestamptz NOT NULL DEFAULT now());
CREATE TABLE IF NOT EXISTS undercoat.tally (
  run uuid NOT NULL, pipeline text NOT NULL, load text NOT NULL, target text NOT NULL,
  read bigint NOT NULL, new bigint NOT NULL, changed bigint NOT NULL, same bigint NOT NULL, rejected bigint NOT NULL, deleted bigint NOT NULL,
  watermark text, proof json NOT NULL, at timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (run, load),
  CHECK (read = new + changed + same + rejected));
CREATE TABLE IF NOT EXISTS undercoat.known (
  target text PRIMARY KEY, pipeline text NOT NULL, load text NOT NULL, columns json NOT NULL, swept_at timestamptz);
${rejectedTable};
COMMENT ON SCHEMA undercoat IS 'What Undercoat has loaded here: watermarks, and each run''s tally and proof'`;

/** True ('t') where `furnish` has been run. */
export const isFurnished = "SELECT to_regclass('undercoat.tally') IS NOT NULL AND to_regclass('undercoat.rejected') IS NOT NULL AND to_regclass('undercoat.known') IS NOT NULL AS furnished";

/** A lock's second number: the target's hash. */
const lockKey = "$1::text";

export const tryLock = `SELECT pg_try_advisory_lock(${lockSpace}, hashtext(${lockKey})) AS locked`;
export const awaitLock = `SELECT pg_advisory_lock(${lockSpace}, hashtext(${lockKey}))`;

/** Who holds a target's lock, by the name its session gave itself. */
export const lockHolder = `SELECT a.application_name AS holder FROM pg_locks l JOIN pg_stat_activity a USING (pid)
WHERE l.locktype = 'advisory' AND l.granted AND l.classid = ${lockSpace} AND l.objid::bigint = (hashtext(${lockKey})::bigint & 4294967295) AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database()) LIMIT 1`;

export const readWatermark = "SELECT value, fingerprint FROM undercoat.watermark WHERE target = $1 AND pipeline = $2 AND load = $3";

export const keepWatermark = `INSERT INTO undercoat.watermark (target, pipeline, load, fingerprint, value, run) VALUES ($1, $2, $3, $4, $5, $6)
ON CONFLICT (target) DO UPDATE SET pipeline = excluded.pipeline, load = excluded.load, fingerprint = excluded.fingerprint, value = excluded.value, run = excluded.run, at = now()`;

/** The source's columns as the last load knew them, and whether rows gone from the source are due to be looked for. Parameters: target, pipeline, load, interval or null. */
export const readKnown = "SELECT columns::text, coalesce(swept_at + $4::interval <= now(), true) AS sweep FROM undercoat.known WHERE target = $1 AND pipeline = $2 AND load = $3";

/** Parameters: target, pipeline, load, columns, whether rows gone from the source were looked for. */
export const keepKnown = `INSERT INTO undercoat.known (target, pipeline, load, columns, swept_at) VALUES ($1, $2, $3, $4, CASE WHEN $5 = 't' THEN now() END)
ON CONFLICT (target) DO UPDATE SET pipeline = excluded.pipeline, load = excluded.load, columns = excluded.columns, swept_at = coalesce(excluded.swept_at, undercoat.known.swept_at)`;

export const keepTally = `INSERT INTO undercoat.tally (run, pipeline, load, target, read, new, changed, same, rejected, deleted, watermark, proof)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)`;

/** What a run left in the warehouse, for a run whose worker died before it could say so. */
export const readTally = "SELECT load, read, new, changed, same, rejected, deleted, watermark, proof FROM undercoat.tally WHERE run = $1";

export const createSchema = (schema: string) => `CREATE SCHEMA IF NOT EXISTS ${identifier(schema)}`;

/** Makes a schema at once, apart from any load's transaction, so that loads into one new schema need not wait for each other. */
export const makeSchema = (schema: string) => `SELECT pg_advisory_xact_lock(${lockSpace}, 0); ${createSchema(schema)}`;

function definitions(columns: readonly { name: string; type: string }[], notNull: readonly string[]): string {
  return columns.map((column) => `${identifier(column.name)} ${column.type}${notNull.includes(column.name) ? " NOT NULL" : ""}`).join(", ");
}

/** The column that holds when a row was found gone from the source. */
function marker(plan: LoadPlan): { name: string; type: string }[] {
  return plan.deletions?.how === "mark" ? [{ name: plan.deletions.column, type: "timestamp with time zone" }] : [];
}

/** The target as a load makes it: its columns; key columns can't be null. The key itself comes after the rows, where building it once is cheaper. */
export function createTarget(plan: LoadPlan): string {
  return `CREATE TABLE ${qualified(plan.target)} (${definitions([...plan.read.columns, ...marker(plan)], plan.key)})`;
}

/** A change of the target's columns before rows are written, in words and as SQL. */
export interface TargetChange {
  message: string;
  sql: string;
}

/** What must be changed at a target for a load's rows: made where it is not there, columns it lacks added, columns whose source was widened widened. */
export function targetChanges(plan: LoadPlan, existing: readonly { name: string; declared: string }[] | null, widened: readonly string[]): TargetChange[] {
  const target = formatTableName(plan.target);
  if (!existing) return [{ message: `the schema ${plan.target.schema} is made where it is missing`, sql: createSchema(plan.target.schema) }, { message: `${target} is made`, sql: createTarget(plan) }];
  const held = new Map(existing.map((column) => [column.name, column.declared]));
  const added = [...plan.read.columns, ...marker(plan)].filter((column) => !held.has(column.name));
  const wider = plan.read.columns.filter((column) => column.source !== null && widened.includes(column.source) && held.has(column.name) && held.get(column.name) !== column.type && keeps(column.type, held.get(column.name) ?? ""));
  return [
    ...added.map((column) => ({ message: `${target} gets the column ${column.name}`, sql: `ALTER TABLE ${qualified(plan.target)} ADD COLUMN ${identifier(column.name)} ${column.type}` })),
    ...wider.map((column) => ({ message: `${target}.${column.name} is widened to ${shortType(column.type)}`, sql: `ALTER TABLE ${qualified(plan.target)} ALTER COLUMN ${identifier(column.name)} TYPE ${column.type}` })),
  ];
}

export function addKey(plan: LoadPlan): string {
  return `ALTER TABLE ${qualified(plan.target)} ADD PRIMARY KEY (${identifiers(plan.key)})`;
}

/** The stage of a load; made and dropped inside the load's transaction, so that no failure can leave it behind. */
export function stageName(plan: LoadPlan, run: number, what: "stage" | "shaped" = "stage"): TableName {
  return { schema: houseSchema, table: `${what}_${run}_${plan.load}`.slice(0, 63) };
}

export function createStage(plan: LoadPlan, stage: TableName): string {
  return `CREATE UNLOGGED TABLE ${qualified(stage)} (${definitions(stagedColumns(plan), [])})`;
}

/** Where shaped rows wait to be matched with the target's. */
export function createShaped(plan: LoadPlan, shaped: TableName): string {
  return `CREATE UNLOGGED TABLE ${qualified(shaped)} (${definitions(plan.read.columns, [])})`;
}

/** Drops a stage and the functions made for its rows. */
export const dropStage = (stage: TableName) => `DROP TABLE ${qualified(stage)} CASCADE`;

/** Begins the transaction of a load whose source is the same database: what it reads is one moment. */
export const beginInside = "BEGIN ISOLATION LEVEL REPEATABLE READ";

/** Reads and stages in one statement, where the source is the same database. */
export function takeInside(plan: LoadPlan, window: Window, table: TableName): string {
  return `INSERT INTO ${qualified(table)} (${identifiers(stagedColumns(plan).map((column) => column.name))}) ${stagedRows(plan, window)}`;
}

/** Functions of some names that may change something or answer differently each time. Parameter: names as an array. */
export const volatileFunctions = "SELECT DISTINCT proname AS name FROM pg_proc WHERE proname = ANY($1::text[]) AND provolatile = 'v' ORDER BY 1";

/** Takes a binary COPY stream. A table made in this very transaction takes its rows frozen: nothing has to visit them again. */
export function copyIn(plan: LoadPlan, table: TableName): string {
  return `COPY ${qualified(table)} (${identifiers(stagedColumns(plan).map((column) => column.name))}) FROM STDIN (FORMAT binary, FREEZE)`;
}

function matches(plan: LoadPlan): string {
  return plan.key.map((name) => `t.${identifier(name)} = s.${identifier(name)}`).join(" AND ");
}

function values(plan: LoadPlan): PlannedColumn[] {
  return plan.read.columns.filter((column) => !plan.key.includes(column.name));
}

/** A target's column as the load sees it: null where the target is yet to get it. */
function heldValue(column: { name: string; type: string }, lacking: ReadonlySet<string>): string {
  return lacking.has(column.name) ? `NULL::${column.type}` : `t.${identifier(column.name)}`;
}

/** True where a staged row says something else than the target's; nulls and NaN compare as values. A row marked as gone is one that has come back. */
function differs(plan: LoadPlan, lacking: ReadonlySet<string> = new Set()): string {
  const columns = values(plan);
  const back = marker(plan).map((column) => ` OR ${heldValue(column, lacking)} IS NOT NULL`);
  if (columns.length === 0) return `(false${back.join("")})`;
  const row = (value: (column: PlannedColumn) => string) => `ROW(${columns.map((column) => comparable(value(column), column.type)).join(", ")})`;
  const compared = `${row((column) => heldValue(column, lacking))} IS DISTINCT FROM ${row((column) => `s.${identifier(column.name)}`)}`;
  return back.length ? `(${compared}${back.join("")})` : compared;
}

/** How many staged rows the target knows by their key, before anything is written; an index answers it. */
export function countKnown(plan: LoadPlan, stage: TableName): string {
  return `SELECT count(*)::text AS known FROM ${qualified(stage)} s WHERE EXISTS (SELECT 1 FROM ${qualified(plan.target)} t WHERE ${matches(plan)})`;
}

/** Rewrites the target's rows that a staged row changes, and no other. */
export function updateChanged(plan: LoadPlan, stage: TableName): string {
  const set = [...values(plan).map((column) => `${identifier(column.name)} = s.${identifier(column.name)}`), ...marker(plan).map((column) => `${identifier(column.name)} = NULL`)];
  return `UPDATE ${qualified(plan.target)} t SET ${set.join(", ")} FROM ${qualified(stage)} s WHERE ${matches(plan)} AND ${differs(plan)}`;
}

/** How many staged rows are known by their key and how many of those differ, without writing. `lacking`: the load's columns that the target is yet to get. */
export function weigh(plan: LoadPlan, stage: TableName, lacking: ReadonlySet<string>): string {
  return `SELECT count(*)::text AS known, count(*) FILTER (WHERE ${differs(plan, lacking)})::text AS changed FROM ${qualified(stage)} s JOIN ${qualified(plan.target)} t ON ${matches(plan)}`;
}

/** How many staged rows a target without a key lacks. */
export function weighMissing(plan: LoadPlan, stage: TableName): string {
  return `SELECT count(*)::text AS new FROM (${missingRows(plan, stage)}) d`;
}

/** The first staged rows that are new to the target, as text. */
export function newExamples(plan: LoadPlan, stage: TableName, target: boolean, limit: number): string {
  const unknown = target && plan.key.length ? ` WHERE NOT EXISTS (SELECT 1 FROM ${qualified(plan.target)} t WHERE ${matches(plan)})` : "";
  return `SELECT ${plan.read.columns.map((column, at) => `left(s.${identifier(column.name)}::text, 300) AS c${at}`).join(", ")} FROM ${qualified(stage)} s${unknown} LIMIT ${Math.trunc(limit)}`;
}

/** The first staged rows that change the target's, as text: what comes (c…) and what stands there (t…). */
export function changedExamples(plan: LoadPlan, stage: TableName, lacking: ReadonlySet<string>, limit: number): string {
  const columns = plan.read.columns.flatMap((column, at) => [`left(s.${identifier(column.name)}::text, 300) AS c${at}`, `left(${heldValue(column, lacking)}::text, 300) AS t${at}`]);
  return `SELECT ${columns.join(", ")} FROM ${qualified(stage)} s JOIN ${qualified(plan.target)} t ON ${matches(plan)} WHERE ${differs(plan, lacking)} LIMIT ${Math.trunc(limit)}`;
}

/** Rows of the target in all, those marked as gone left out. */
export function countTarget(plan: LoadPlan): string {
  return `SELECT count(*)::text AS rows FROM ${qualified(plan.target)} t${marker(plan).map((column) => ` WHERE t.${identifier(column.name)} IS NULL`).join("")}`;
}

/** Removes or marks the target's rows of some keys, and tells how many of which slice; a parameter for each key column, an array of texts. */
export function dropGone(plan: LoadPlan): string {
  const keys = keyColumns(plan);
  const given = `unnest(${keys.map((column, at) => `$${at + 1}::text[]::${column.type}[]`).join(", ")}) AS g(${keys.map((_, at) => `k${at}`).join(", ")})`;
  const same = keys.map((column, at) => `t.${identifier(column.name)} = g.k${at}`).join(" AND ");
  const [mark] = marker(plan);
  const change = mark
    ? `UPDATE ${qualified(plan.target)} t SET ${identifier(mark.name)} = now() FROM ${given} WHERE ${same} AND t.${identifier(mark.name)} IS NULL`
    : `DELETE FROM ${qualified(plan.target)} t USING ${given} WHERE ${same}`;
  return `WITH gone AS (${change} RETURNING ${sliceExpression(plan)} AS slice) SELECT slice::text, count(*)::text AS rows FROM gone GROUP BY slice`;
}

/** How many staged rows came after the watermark had passed them and were news all the same, and by how much at most; null where it can't be told. */
export function lateRows(plan: LoadPlan, stage: TableName, stored: string): string | null {
  const watermark = plan.read.watermark;
  const column = plan.read.columns.find((candidate) => candidate.source === watermark?.column && candidate.type === watermark?.type);
  if (!watermark || !column || plan.key.length === 0) return null;
  const name = `s.${identifier(column.name)}`;
  const at = typedLiteral(stored, watermark.type);
  return `SELECT count(*)::text AS rows, max(${at} - ${name})::text AS most FROM ${qualified(stage)} s LEFT JOIN ${qualified(plan.target)} t ON ${matches(plan)} WHERE ${name} < ${at}${typeFamily(watermark.type) === "moment" ? ` AND isfinite(${name})` : ""} AND (t.${identifier(plan.key[0] ?? "")} IS NULL OR ${differs(plan)})`;
}

/** Adds the staged rows whose key the target lacks. */
export function insertNew(plan: LoadPlan, stage: TableName): string {
  const names = plan.read.columns.map((column) => column.name);
  return `INSERT INTO ${qualified(plan.target)} (${identifiers(names)}) SELECT ${identifiers(names, "s")} FROM ${qualified(stage)} s WHERE NOT EXISTS (SELECT 1 FROM ${qualified(plan.target)} t WHERE ${matches(plan)})`;
}

/**
 * Adds the staged rows that a target without a key lacks, counted as a multiset: a row that the look-back reads
 * again is not doubled, and one that really stands twice at the source stands twice here. Of the target only the rows
 * from the stage's lowest watermark on are looked at.
 */
export function insertMissing(plan: LoadPlan, stage: TableName): string {
  return `INSERT INTO ${qualified(plan.target)} (${identifiers(plan.read.columns.map((column) => column.name))}) ${missingRows(plan, stage)}`;
}

function missingRows(plan: LoadPlan, stage: TableName): string {
  const compared = plan.read.columns.map((column) => `${comparable(identifier(column.name), column.type)} AS ${identifier(column.name)}`).join(", ");
  const restored = plan.read.columns.map((column) => `d.${identifier(column.name)}${baseType(column.type) === "json" ? `::${column.type}` : ""}`).join(", ");
  const mark = plan.read.columns.find((column) => column.source === plan.read.watermark?.column);
  const name = mark ? identifier(mark.name) : null;
  const near = name ? ` WHERE ${name} >= (SELECT min(${name}) FROM ${qualified(stage)}) OR ${name} IS NULL` : "";
  return `SELECT ${restored} FROM (SELECT ${compared} FROM ${qualified(stage)} EXCEPT ALL SELECT ${compared} FROM ${qualified(plan.target)}${near}) d`;
}

export const deleteAll = (target: TableName) => `DELETE FROM ${qualified(target)}`;

export function insertAll(plan: LoadPlan, stage: TableName): string {
  const names = identifiers(plan.read.columns.map((column) => column.name));
  return `INSERT INTO ${qualified(plan.target)} (${names}) SELECT ${names} FROM ${qualified(stage)}`;
}

/** The statements by which a load's mode writes staged rows, in words and as SQL. */
export function applySteps(plan: LoadPlan, stage: TableName): TargetChange[] {
  const gone = plan.deletions ? [{ message: `rows gone from the source are ${plan.deletions.how === "mark" ? "marked" : "removed"}`, sql: dropGone(plan) }] : [];
  if (plan.mode === "replace") return [{ message: "earlier rows go", sql: deleteAll(plan.target) }, { message: "rows take their place", sql: insertAll(plan, stage) }];
  if (plan.key.length === 0) return [{ message: "new rows are added", sql: insertMissing(plan, stage) }];
  const update = plan.mode === "append" ? [] : [{ message: "changed rows are updated", sql: updateChanged(plan, stage) }];
  return [...update, { message: "new rows are added", sql: insertNew(plan, stage) }, ...gone];
}

/** The slices that the staged rows fall into, and those that the target's rows of the same keys fall into now. */
export function touchedSlices(plan: LoadPlan, stage: TableName): string {
  const staged = `SELECT ${sliceExpression(plan)} AS slice FROM ${qualified(stage)}`;
  if (plan.key.length === 0) return `SELECT DISTINCT slice::text FROM (${staged}) a`;
  const column = identifier(plan.by?.column ?? "");
  const held = `SELECT ${sliceExpression(plan)} AS slice FROM (SELECT t.${column} FROM ${qualified(plan.target)} t JOIN ${qualified(stage)} s ON ${matches(plan)}) h`;
  return `SELECT DISTINCT slice::text FROM (${staged} UNION ALL ${held}) a`;
}

/** The server's estimate of a table's rows, without reading it. */
export const estimatedRows = (target: TableName) => `SELECT greatest(reltuples, 0)::bigint::text AS rows FROM pg_class WHERE oid = ${literal(qualified(target))}::regclass`;

/** Rows that a COPY of this session's backend has taken so far. */
export const copyProgress = "SELECT tuples_processed::text AS rows, bytes_processed::text AS bytes FROM pg_stat_progress_copy WHERE pid = $1";

export const backend = "SELECT pg_backend_pid() AS pid";
export const cancelBackend = "SELECT pg_terminate_backend($1)";
