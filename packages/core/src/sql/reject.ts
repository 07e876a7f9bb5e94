import { type LoadPlan, lineColumns, stagedColumns } from "../plan/plan.ts";
import { hiddenValue } from "../run/rejected.ts";
import { identifier, qualified, type TableName } from "./identifier.ts";
import { literal } from "./literal.ts";
import { contentHash, identityHash, keyColumns, shapedValue } from "./read.ts";
import { toldOf } from "./told.ts";

/** The faults that a load has found, by the place of their row in the stage; the first one of a row counts. */
export const createFaults =
  "CREATE TEMP TABLE fault (place tid NOT NULL, code text NOT NULL, col text, reason text NOT NULL, value text, stops boolean NOT NULL) ON COMMIT DROP";

/** Faults by reason, the most frequent first. */
export const faultReasons =
  "SELECT code, col, reason, count(*)::text AS rows, bool_or(stops) AS stops, (array_agg(left(value, 200)) FILTER (WHERE value IS NOT NULL))[1:3]::text AS examples FROM pg_temp.fault GROUP BY code, col, reason ORDER BY count(*) DESC, reason";

const message = `f.reason || coalesce(': "' || left(f.value, 300) || '"', '')`;

/** A staged row as JSON whose members are texts, so that every value is kept to the letter. */
function original(plan: LoadPlan): string {
  const object = (columns: readonly { name: string }[]) =>
    `json_object(ARRAY[${columns.map((column) => literal(column.name)).join(", ")}]::text[], ARRAY[${columns.map((column) => `s.${identifier(column.name)}::text`).join(", ")}]::text[])`;
  const columns = stagedColumns(plan);
  if (!plan.shape?.lines) return object(columns);
  const own = columns.slice(0, -lineColumns.length);
  return `CASE WHEN s."undercoat fault" IS NULL THEN ${object(own)} ELSE ${object(lineColumns.slice(2))} END`;
}

/** The first faulty rows of each reason, with what they hold. */
export function faultExamples(plan: LoadPlan, stage: TableName, limit: number): string {
  const ranked = "SELECT f.*, row_number() OVER (PARTITION BY f.reason ORDER BY f.place) AS rank FROM pg_temp.fault f";
  return `SELECT ${message} AS message, ${original(plan)}::text AS original FROM (${ranked}) f JOIN ${qualified(stage)} s ON s.ctid = f.place ORDER BY f.rank, f.reason LIMIT ${Math.trunc(limit)}`;
}

/**
 * Writes the faulty rows to the list with what they held, in full for the first `keep` of them. `covered` tells that
 * another row of the same key was accepted, so that the target's row stands for that one.
 * Parameters: run, number, pipeline, load, target.
 */
export function keepRejected(plan: LoadPlan, stage: TableName): string {
  const { key, rejects } = plan.write;
  const values = keyValues(plan)
    .map((value) => `(${value})::text`)
    .join(", ");
  const made = key.length
    ? `CASE WHEN f.code = 'duplicate' OR f.col IS NULL OR f.col NOT IN (${key.map(literal).join(", ")}) THEN ARRAY[${values}] END`
    : "NULL::text[]";
  const rows = `SELECT f.*, ${identityHash(plan, "stage")} AS identity, ${contentHash(plan, "stage")} AS content, ${made} AS key, CASE WHEN row_number() OVER () <= ${rejects.keep} THEN ${original(plan)} END AS original, ${message} AS message, ${plan.shape?.lines ? 's."undercoat file"' : "NULL::text"} AS file
FROM pg_temp.fault f JOIN ${qualified(stage)} s ON s.ctid = f.place`;
  const clean = `SELECT ARRAY[${values}] AS key FROM ${qualified(stage)} s WHERE NOT EXISTS (SELECT 1 FROM pg_temp.fault f WHERE f.place = s.ctid)`;
  const accepted = plan.write.keyGuaranteed || key.length === 0 ? "false" : `coalesce(r.key IN (${clean}), false)`;
  return `INSERT INTO undercoat.rejected (run, number, pipeline, load, target, code, col, reason, message, identity, content, key, covered, original, file)
SELECT $1::uuid, $2::int, $3, $4, $5, r.code, r.col, r.reason, r.message, r.identity, r.content, r.key, ${accepted}, r.original, r.file FROM (${rows}) r`;
}

/** The key's values over the staged row `s`, in the key's order. */
export function keyValues(plan: LoadPlan): string[] {
  return keyColumns(plan).map(({ name }) => {
    const column = plan.read.columns.find((candidate) => candidate.name === name);
    return plan.shape && column ? shapedValue(column) : `s.${identifier(name)}`;
  });
}

/** What of a load's list is still open: its rows, the hashes of the source rows to leave out, and whether any is an earlier row of a key. Parameters: target, the parts that it is about as an array or null for all. */
export const openRejected =
  "SELECT count(*)::text AS rows, coalesce(bool_or(code = 'duplicate'), false) AS duplicates, (array_agg(DISTINCT content) FILTER (WHERE code <> 'duplicate'))::text AS contents FROM undercoat.rejected WHERE target = $1 AND left_run IS NULL AND ($2::text[] IS NULL OR file = ANY($2::text[]))";

export const anyOpenRejected =
  "SELECT EXISTS (SELECT 1 FROM undercoat.rejected WHERE target = $1 AND left_run IS NULL) AS any";

/** Takes every open row of a target off the list: the whole dataset has been read again. Parameters: run, target. */
export const closeAll =
  "UPDATE undercoat.rejected SET left_run = $1::uuid, left_at = now() WHERE target = $2 AND left_run IS NULL";

/** Takes the open rows of some files off the list: they have been read again, or are gone. Parameters: run, target, files as an array. */
export const closeFiles =
  "UPDATE undercoat.rejected SET left_run = $1::uuid, left_at = now() WHERE target = $2 AND left_run IS NULL AND file = ANY($3::text[])";

/** Whether an open row of a file that is none of some was turned away because its key stands in another too, as `shared`. Parameters: target, files as an array. */
export const sharedKeys =
  "SELECT EXISTS (SELECT 1 FROM undercoat.rejected WHERE target = $1 AND left_run IS NULL AND code = 'duplicate' AND file <> ALL($2::text[])) AS shared";

/** Takes the open rows that have been read again, exactly as they were or under a key that is theirs alone, off the list. Parameters: run, target. */
export function closeRead(plan: LoadPlan, stage: TableName): string {
  const again =
    plan.write.key.length && plan.write.keyGuaranteed
      ? `r.identity = ${identityHash(plan, "stage")}`
      : `r.content = ${contentHash(plan, "stage")}`;
  return `UPDATE undercoat.rejected r SET left_run = $1::uuid, left_at = now() FROM ${qualified(stage)} s WHERE r.target = $2 AND r.left_run IS NULL AND ${again}`;
}

/** The newest open rows whose key is known: whether they still stand at the source can be asked by it. Parameters: target, limit. */
export const openKeys =
  "SELECT DISTINCT to_json(key)::text AS key FROM (SELECT key FROM undercoat.rejected WHERE target = $1 AND left_run IS NULL AND key IS NOT NULL ORDER BY id DESC LIMIT $2::int) k";

/** Takes off the list the open rows of some keys that the source no longer has as they were. Parameters: run, target, keys as JSON, hashes that still stand. */
export const closeGone =
  "UPDATE undercoat.rejected SET left_run = $1::uuid, left_at = now() WHERE target = $2 AND left_run IS NULL AND to_json(key)::text = ANY($3::text[]) AND NOT content = ANY($4::bigint[])";

/** Takes chosen rows off the list. Parameters: run, target, ids as an array. */
export const closeChosen =
  "UPDATE undercoat.rejected SET left_run = $1::uuid, left_at = now() WHERE target = $2 AND left_run IS NULL AND id = ANY($3::bigint[])";

/** The open rows of a target that are to be loaded again. Parameters: target, ids as an array or null for all. */
export const chosenRejected =
  "SELECT id::text, identity::text, to_json(key)::text AS key FROM undercoat.rejected WHERE target = $1 AND left_run IS NULL AND ($2::bigint[] IS NULL OR id = ANY($2::bigint[])) ORDER BY id LIMIT 100000";

/** A filter of the list, as its page asks for it. */
export interface RejectedFilter {
  pipeline?: string;
  load?: string;
  target?: string;
  run?: number;
  reason?: string;
  /** part of the message or of the values */
  text?: string;
  /** rows that have left the list too */
  all?: boolean;
  /** columns whose values are not shown, nor searched, by `pipeline/load` */
  hidden?: Record<string, string[]>;
}

/** A row's values without those that are hidden, and its message without a value where it has such. */
function visible(hidden: string): [original: string, message: string] {
  const names = `(${hidden}::jsonb -> (pipeline || '/' || load))`;
  const shown = `CASE WHEN ${names} ? o.key THEN ${literal(hiddenValue)} ELSE o.value END`;
  return [
    `(CASE WHEN original IS NULL OR ${names} IS NULL THEN original ELSE (SELECT json_object_agg(o.key, ${shown}) FROM json_each_text(original) o) END)`,
    `(CASE WHEN ${names} IS NULL THEN message ELSE reason END)`,
  ];
}

/** A filter as SQL: its condition with its parameters, and a row's values and message as they may be seen. */
interface Filtered {
  where: string;
  values: string[];
  original: string;
  message: string;
}

/** With `inline` the values stand quoted in the condition, for where no parameter can be bound. */
function filtered(filter: RejectedFilter, inline = false): Filtered {
  const values: string[] = [];
  const bind = (value: string) => (inline ? literal(value) : `$${values.push(value)}`);
  const conditions = [filter.all ? "true" : "left_run IS NULL"];
  const [original, message] = Object.keys(filter.hidden ?? {}).length
    ? visible(literal(JSON.stringify(filter.hidden)))
    : ["original", "message"];
  if (filter.pipeline !== undefined) conditions.push(`pipeline = ${bind(filter.pipeline)}`);
  if (filter.load !== undefined) conditions.push(`load = ${bind(filter.load)}`);
  if (filter.target !== undefined) conditions.push(`target = ${bind(filter.target)}`);
  if (filter.run !== undefined) conditions.push(`number = ${bind(String(filter.run))}::int`);
  if (filter.reason !== undefined) conditions.push(`reason = ${bind(filter.reason)}`);
  if (filter.text) {
    const text = bind(filter.text);
    conditions.push(
      `(strpos(lower(${message}), lower(${text})) > 0 OR strpos(lower(${original}::text), lower(${text})) > 0)`,
    );
  }
  return { where: conditions.join(" AND "), values, original, message };
}

/** Rejected rows, the latest first. */
export function listRejected(filter: RejectedFilter, limit: number, offset = 0): { sql: string; values: string[] } {
  const { where, values, original, message } = filtered(filter);
  // What an application answered may hold what it was told.
  const hidden = literal(JSON.stringify(filter.hidden ?? {}));
  const why = `CASE WHEN ${hidden}::jsonb ? (t.pipeline || '/' || t.load) THEN NULL ELSE t.message END`;
  const columns = `id::text, number::text, pipeline, load, target, code, col, reason, ${message} AS message, to_json(key)::text AS key, ${original}::text AS original, to_char(at, 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') AS at, left_run IS NOT NULL AS gone, (${toldOf(why)})::text AS told`;
  return {
    sql: `SELECT ${columns} FROM undercoat.rejected WHERE ${where} ORDER BY rejected.id DESC LIMIT ${Math.trunc(limit)} OFFSET ${Math.trunc(offset)}`,
    values,
  };
}

/** The runs, loads and numbers of all rejected rows that are on the list still and that a filter lets through, up to a bound. */
export function rejectedIds(filter: RejectedFilter, most: number): { sql: string; values: string[] } {
  const { where, values } = filtered({ ...filter, all: false });
  return {
    sql: `SELECT pipeline, load, number::text AS run, id::text FROM undercoat.rejected WHERE ${where} ORDER BY rejected.id LIMIT ${Math.trunc(most)}`,
    values,
  };
}

/** How many rejected rows each load has for each reason, the most frequent first. */
export function countRejected(filter: RejectedFilter): { sql: string; values: string[] } {
  const { where, values } = filtered(filter);
  return {
    sql: `SELECT pipeline, load, target, reason, count(*)::text AS rows, max(number)::text AS run FROM undercoat.rejected WHERE ${where} GROUP BY pipeline, load, target, reason ORDER BY count(*) DESC, reason`,
    values,
  };
}

/** The columns that the kept values of some rejected rows have: of each load those of its latest row, each name once. */
export function originalColumns(filter: RejectedFilter): { sql: string; values: string[] } {
  const { where, values } = filtered(filter);
  return {
    sql: `SELECT k.name FROM (SELECT DISTINCT ON (pipeline, load) pipeline, load, original FROM undercoat.rejected WHERE ${where} AND original IS NOT NULL ORDER BY pipeline, load, id DESC) o, json_object_keys(o.original) WITH ORDINALITY AS k(name, place) GROUP BY k.name ORDER BY min(o.pipeline || '/' || o.load), min(k.place)`,
    values,
  };
}

/** Rejected rows as CSV with a head; the values they held stand in columns of their own. */
export function exportRejected(filter: RejectedFilter, columns: readonly string[]): string {
  const { where, original, message } = filtered(filter, true);
  // A cell that a spreadsheet would take for a formula is marked as text.
  const cell = (sql: string) => `CASE WHEN ${sql} ~ '^([=@\\t\\r]|[-+][^0-9.])' THEN '''' || (${sql}) ELSE ${sql} END`;
  const values = columns.map((name) => `, ${cell(`(${original}->>${literal(name)})`)} AS ${identifier(name)}`).join("");
  return `COPY (SELECT number AS "undercoat run", pipeline AS "undercoat pipeline", load AS "undercoat load", code AS "undercoat code", col AS "undercoat column", ${cell(message)} AS "undercoat message"${values} FROM undercoat.rejected WHERE ${where} ORDER BY id) TO STDOUT (FORMAT csv, HEADER true)`;
}
