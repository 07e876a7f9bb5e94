import { type LoadPlan, type PlannedColumn, stagedColumns } from "../plan/plan.ts";
import { identifier, identifiers, qualified, type TableName } from "./identifier.ts";
import { literal } from "./literal.ts";
import { rejectedTable } from "./reject.ts";
import { sliceExpression } from "./slice.ts";
import { baseType, comparable } from "./type.ts";

/** Undercoat's own schema in a warehouse: what it needs to know there, in the same transaction as the rows. */
export const houseSchema = "undercoat";

/** Made once for each warehouse; every statement may be repeated. */
export const furnish = `
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
${rejectedTable};
COMMENT ON SCHEMA undercoat IS 'What Undercoat has loaded here: watermarks, and each run''s tally and proof'`;

/** True ('t') where `furnish` has been run. */
export const isFurnished = "SELECT to_regclass('undercoat.tally') IS NOT NULL AND to_regclass('undercoat.rejected') IS NOT NULL AS furnished";

/** A key's pair of numbers for an advisory lock: 'unde' as a number, and the target's hash. */
const lockSpace = 1970169957;
const lockKey = "$1::text";

export const tryLock = `SELECT pg_try_advisory_lock(${lockSpace}, hashtext(${lockKey})) AS locked`;
export const awaitLock = `SELECT pg_advisory_lock(${lockSpace}, hashtext(${lockKey}))`;

/** Who holds a target's lock, by the name its session gave itself. */
export const lockHolder = `SELECT a.application_name AS holder FROM pg_locks l JOIN pg_stat_activity a USING (pid)
WHERE l.locktype = 'advisory' AND l.granted AND l.classid = ${lockSpace} AND l.objid::bigint = (hashtext(${lockKey})::bigint & 4294967295) AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database()) LIMIT 1`;

export const readWatermark = "SELECT value, fingerprint FROM undercoat.watermark WHERE target = $1 AND pipeline = $2 AND load = $3";

export const keepWatermark = `INSERT INTO undercoat.watermark (target, pipeline, load, fingerprint, value, run) VALUES ($1, $2, $3, $4, $5, $6)
ON CONFLICT (target) DO UPDATE SET pipeline = excluded.pipeline, load = excluded.load, fingerprint = excluded.fingerprint, value = excluded.value, run = excluded.run, at = now()`;

export const keepTally = `INSERT INTO undercoat.tally (run, pipeline, load, target, read, new, changed, same, rejected, deleted, watermark, proof)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12)`;

/** What a run left in the warehouse, for a run whose worker died before it could say so. */
export const readTally = "SELECT load, read, new, changed, same, rejected, deleted, watermark, proof FROM undercoat.tally WHERE run = $1";

export const createSchema = (schema: string) => `CREATE SCHEMA IF NOT EXISTS ${identifier(schema)}`;

function definitions(columns: readonly { name: string; type: string }[], notNull: readonly string[]): string {
  return columns.map((column) => `${identifier(column.name)} ${column.type}${notNull.includes(column.name) ? " NOT NULL" : ""}`).join(", ");
}

/** The target as a load makes it: its columns; key columns can't be null. The key itself comes after the rows, where building it once is cheaper. */
export function createTarget(plan: LoadPlan): string {
  return `CREATE TABLE ${qualified(plan.target)} (${definitions(plan.read.columns, plan.key)})`;
}

export function addKey(plan: LoadPlan): string {
  return `ALTER TABLE ${qualified(plan.target)} ADD PRIMARY KEY (${identifiers(plan.key)})`;
}

export function addColumn(target: TableName, column: PlannedColumn): string {
  return `ALTER TABLE ${qualified(target)} ADD COLUMN ${identifier(column.name)} ${column.type}`;
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

/** True where a staged row says something else than the target's; nulls and NaN compare as values. */
function differs(plan: LoadPlan): string {
  const columns = values(plan);
  if (columns.length === 0) return "false";
  const row = (prefix: string) => `ROW(${columns.map((column) => comparable(`${prefix}.${identifier(column.name)}`, column.type)).join(", ")})`;
  return `${row("t")} IS DISTINCT FROM ${row("s")}`;
}

/** How many staged rows the target knows by their key, before anything is written; an index answers it. */
export function countKnown(plan: LoadPlan, stage: TableName): string {
  return `SELECT count(*)::text AS known FROM ${qualified(stage)} s WHERE EXISTS (SELECT 1 FROM ${qualified(plan.target)} t WHERE ${matches(plan)})`;
}

/** Rewrites the target's rows that a staged row changes, and no other. */
export function updateChanged(plan: LoadPlan, stage: TableName): string {
  const set = values(plan).map((column) => `${identifier(column.name)} = s.${identifier(column.name)}`);
  return `UPDATE ${qualified(plan.target)} t SET ${set.join(", ")} FROM ${qualified(stage)} s WHERE ${matches(plan)} AND ${differs(plan)}`;
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
  const names = identifiers(plan.read.columns.map((column) => column.name));
  const compared = plan.read.columns.map((column) => `${comparable(identifier(column.name), column.type)} AS ${identifier(column.name)}`).join(", ");
  const restored = plan.read.columns.map((column) => `d.${identifier(column.name)}${baseType(column.type) === "json" ? `::${column.type}` : ""}`).join(", ");
  const mark = plan.read.columns.find((column) => column.source === plan.read.watermark?.column);
  const name = mark ? identifier(mark.name) : null;
  const near = name ? ` WHERE ${name} >= (SELECT min(${name}) FROM ${qualified(stage)}) OR ${name} IS NULL` : "";
  return `INSERT INTO ${qualified(plan.target)} (${names}) SELECT ${restored} FROM (SELECT ${compared} FROM ${qualified(stage)} EXCEPT ALL SELECT ${compared} FROM ${qualified(plan.target)}${near}) d`;
}

export const deleteAll = (target: TableName) => `DELETE FROM ${qualified(target)}`;

export function insertAll(plan: LoadPlan, stage: TableName): string {
  const names = identifiers(plan.read.columns.map((column) => column.name));
  return `INSERT INTO ${qualified(plan.target)} (${names}) SELECT ${names} FROM ${qualified(stage)}`;
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
