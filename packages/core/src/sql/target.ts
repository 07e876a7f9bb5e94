import type { HistoryPlan } from "../history/plan.ts";
import type { LoadPlan, PlannedColumn } from "../plan/plan.ts";
import { keeps } from "./convert.ts";
import { createSchema } from "./house.ts";
import { formatTableName, identifier, identifiers, qualified, type TableName } from "./identifier.ts";
import { literal, typedLiteral } from "./literal.ts";
import { keyColumns } from "./read.ts";
import { differ, equalIsSame } from "./same.ts";
import { sliceStart } from "./slice.ts";
import { shortType, typeFamily } from "./type.ts";
import { flag, isOpen, moment, momentsTable, numbersSequence, openEnd, versionColumns } from "./version.ts";

/** Column definitions of a table. */
export function definitions(columns: readonly { name: string; type: string }[], notNull: readonly string[]): string {
  return columns
    .map((column) => `${identifier(column.name)} ${column.type}${notNull.includes(column.name) ? " NOT NULL" : ""}`)
    .join(", ");
}

/** The column that holds when a row was found gone from the source. */
export function marker(plan: LoadPlan): { name: string; type: string }[] {
  const { deletions } = plan.write;
  return deletions?.how === "mark" ? [{ name: deletions.column, type: "timestamp with time zone" }] : [];
}

/** The columns that a load keeps in its target beside those it reads. */
export function ownColumns(plan: LoadPlan): { name: string; type: string }[] {
  const { history } = plan.write;
  return [...marker(plan), ...(history ? versionColumns(plan, history) : [])];
}

/** The target as a load makes it: its columns; key columns can't be null. The key itself comes after the rows, where building it once is cheaper. */
export function createTarget(plan: LoadPlan): string {
  const { target, key, history } = plan.write;
  const notNull = history ? [...key, history.from] : key;
  const own = ownColumns(plan).map((column) => {
    const value = history?.direct ? defaultOf(plan, history, column.name) : null;
    return value === null ? column : { ...column, type: `${column.type} DEFAULT ${value}` };
  });
  return `CREATE TABLE ${qualified(target)} (${definitions([...plan.read.columns, ...own], notNull)})`;
}

/** What a history's own column holds in rows that a new target takes as they come; null where they bring it, or nothing. */
export function defaultOf(plan: LoadPlan, history: HistoryPlan, column: string): string | null {
  switch (column) {
    case history.from:
      return history.since ? null : moment(plan);
    case history.to:
      return history.end === null ? null : openEnd(history);
    case history.current.column:
      return flag(history, true);
    case history.change:
      return "'new'";
    case history.surrogate?.column:
      return `nextval(${literal(qualified(numbersSequence(plan.write.target)))})`;
    default:
      return null;
  }
}

/** A condition for the target's rows `t` that are the load's own, where it shares the table; rows without a column that tells are none of its. */
export function ownRows({ write: { part, span } }: LoadPlan, lacking: ReadonlySet<string> = new Set()): string[] {
  const day = span && `t.${identifier(span.column)}`;
  return [
    ...(part ? [part.reads.some((name) => lacking.has(name)) ? "false" : part.sql] : []),
    ...(day && span
      ? [
          lacking.has(span.column)
            ? "false"
            : [
                ...(span.from === null ? [] : [`${day} >= ${typedLiteral(span.from, "date")}`]),
                `${day} < ${typedLiteral(span.to, "date")}`,
              ].join(" AND "),
        ]
      : []),
  ];
}

/** Conditions for the target's rows `t` that say what the source says now: not marked as gone, and of versions the open ones. */
export function currentRows(plan: LoadPlan, lacking: ReadonlySet<string> = new Set()): string[] {
  const { history } = plan.write;
  return [
    ...ownRows(plan, lacking),
    ...marker(plan)
      .filter((column) => !lacking.has(column.name))
      .map((column) => `t.${identifier(column.name)} IS NULL`),
    ...(history && !lacking.has(history.to) ? [isOpen(history, "t")] : []),
  ];
}

/** A change of the target's columns before rows are written, in words and as SQL. */
export interface TargetChange {
  message: string;
  sql: string;
}

/** What must be changed at a target for a load's rows: made where it is not there, columns it lacks added, columns whose source was widened widened. */
export function targetChanges(
  plan: LoadPlan,
  existing: readonly { name: string; declared: string }[] | null,
  widened: readonly string[],
): TargetChange[] {
  const table = plan.write.target;
  const target = formatTableName(table);
  if (!existing)
    return [
      { message: `the schema ${table.schema} is made where it is missing`, sql: createSchema(table.schema) },
      { message: `${target} is made`, sql: createTarget(plan) },
    ];
  const held = new Map(existing.map((column) => [column.name, column.declared]));
  const added = [...plan.read.columns, ...ownColumns(plan)].filter((column) => !held.has(column.name));
  const wider = plan.read.columns.filter(
    (column) =>
      column.source !== null &&
      widened.includes(column.source) &&
      held.has(column.name) &&
      held.get(column.name) !== column.type &&
      keeps(column.type, held.get(column.name) ?? ""),
  );
  return [
    ...added.map((column) => ({
      message: `${target} gets the column ${column.name}`,
      sql: `ALTER TABLE ${qualified(table)} ADD COLUMN ${identifier(column.name)} ${column.type}`,
    })),
    ...wider.map((column) => ({
      message: `${target}.${column.name} is widened to ${shortType(column.type)}`,
      sql: `ALTER TABLE ${qualified(table)} ALTER COLUMN ${identifier(column.name)} TYPE ${column.type}`,
    })),
  ];
}

/** What tells a target's rows apart: the key, and of a history also from when a version is valid. */
export function identifying(plan: LoadPlan): string[] {
  const { key, history } = plan.write;
  return history ? [...key, history.from] : key;
}

export function addKey(plan: LoadPlan): string {
  return `ALTER TABLE ${qualified(plan.write.target)} ADD PRIMARY KEY (${identifiers(identifying(plan))})`;
}

/** The columns that a load writes; one that the source has lost for a while keeps the values it has. */
export function written(plan: LoadPlan): PlannedColumn[] {
  return plan.read.columns.filter((column) => !column.missing);
}

/** True where two rows have one key. */
export function sameKey(plan: LoadPlan, left: string, right: string): string {
  return plan.write.key.map((name) => `${left}.${identifier(name)} = ${right}.${identifier(name)}`).join(" AND ");
}

/** True where the target's row `t` is the one that the staged row `s` speaks of. `lacking`: columns that the target is yet to get. */
export function matches(plan: LoadPlan, lacking: ReadonlySet<string> = new Set()): string {
  const { history } = plan.write;
  const open = history && !lacking.has(history.to) ? [isOpen(history, "t")] : [];
  return [sameKey(plan, "t", "s"), ...open].join(" AND ");
}

/** The columns in which two rows of one key can differ: all but those of the key whose equal values are the same, and those that keep their first value. */
export function comparable(plan: LoadPlan): PlannedColumn[] {
  const { key, history } = plan.write;
  return written(plan).filter(
    (column) => (!key.includes(column.name) || !equalIsSame(column.type)) && history?.roles.get(column.name) !== "keep",
  );
}

/** A target's column as the load sees it: null where the target is yet to get it. */
export function heldValue(column: { name: string; type: string }, lacking: ReadonlySet<string>): string {
  return lacking.has(column.name) ? `NULL::${column.type}` : `t.${identifier(column.name)}`;
}

/** True where a staged row is not the same as the target's. A row marked as gone is one that has come back. `lacking`: columns that the target is yet to get. */
export function differs(plan: LoadPlan, lacking: ReadonlySet<string> = new Set()): string {
  const compared = differ(
    comparable(plan),
    (column) => heldValue(column, lacking),
    (column) => `s.${identifier(column.name)}`,
  );
  const back = marker(plan).map((column) => `${heldValue(column, lacking)} IS NOT NULL`);
  return `(${[compared, ...back].join(" OR ")})`;
}

/** The first staged rows that are new to the target, as text. */
export function newExamples(plan: LoadPlan, stage: TableName, target: boolean, limit: number): string {
  const unknown =
    target && plan.write.key.length
      ? ` WHERE NOT EXISTS (SELECT 1 FROM ${qualified(plan.write.target)} t WHERE ${sameKey(plan, "t", "s")})`
      : "";
  return `SELECT ${plan.read.columns.map((column, at) => `left(s.${identifier(column.name)}::text, 300) AS c${at}`).join(", ")} FROM ${qualified(stage)} s${unknown} LIMIT ${Math.trunc(limit)}`;
}

/** The first staged rows that change the target's, as text: what comes (c…) and what stands there (t…). */
export function changedExamples(plan: LoadPlan, stage: TableName, lacking: ReadonlySet<string>, limit: number): string {
  const columns = plan.read.columns.flatMap((column, at) => [
    `left(s.${identifier(column.name)}::text, 300) AS c${at}`,
    `left(${heldValue(column, lacking)}::text, 300) AS t${at}`,
  ]);
  return `SELECT ${columns.join(", ")} FROM ${qualified(stage)} s JOIN ${qualified(plan.write.target)} t ON ${matches(plan, lacking)} WHERE ${differs(plan, lacking)} LIMIT ${Math.trunc(limit)}`;
}

/** Rows of the target that say what the source says now. */
export function countTarget(plan: LoadPlan, lacking: ReadonlySet<string> = new Set()): string {
  const current = currentRows(plan, lacking);
  return `SELECT count(*)::text AS rows FROM ${qualified(plan.write.target)} t${current.length ? ` WHERE ${current.join(" AND ")}` : ""}`;
}

/** The first and the last period, of a report, of which the target holds rows of the load's own; nulls where it holds none. */
export function standingPeriods(plan: LoadPlan): string {
  const { span, target } = plan.write;
  const own = ownRows({ ...plan, write: { ...plan.write, span: null } });
  const day = `t.${identifier(span?.column ?? "")}`;
  return `SELECT min(${day})::text AS first, max(${day})::text AS last FROM ${qualified(target)} t WHERE ${[`isfinite(${day})`, ...own].join(" AND ")}`;
}

/** Removes or marks the target's rows of some keys, or ends their versions, and tells how many of which slice; a parameter for each key column, an array of texts. */
export function dropGone(plan: LoadPlan): string {
  const { target, history } = plan.write;
  const keys = keyColumns(plan);
  const given = `unnest(${keys.map((_, at) => `$${at + 1}::text[]`).join(", ")}) AS g(${keys.map((_, at) => `k${at}`).join(", ")})`;
  const same = keys.map((column, at) => `t.${identifier(column.name)} = g.k${at}::${column.type}`).join(" AND ");
  const [mark] = marker(plan);
  const { slicing } = plan.prove;
  const slice = slicing ? sliceStart(slicing, `t.${identifier(slicing.column)}`) : "NULL";
  const told = "SELECT slice::text, count(*)::text AS rows FROM gone GROUP BY slice";
  if (history) {
    const ended = closeGone(plan, history, given, same);
    return `WITH gone AS (${ended.close} RETURNING ${identifiers(plan.write.key, "t")}, t.${identifier(history.to)} AS "undercoat at", ${slice} AS slice), kept AS (${ended.keep}) ${told}`;
  }
  const change = mark
    ? `UPDATE ${qualified(target)} t SET ${identifier(mark.name)} = now() FROM ${given} WHERE ${same} AND t.${identifier(mark.name)} IS NULL`
    : `DELETE FROM ${qualified(target)} t USING ${given} WHERE ${same}`;
  return `WITH gone AS (${change} RETURNING ${slice} AS slice) ${told}`;
}

/** Ends the open versions of keys found gone, and keeps that they were. One that is yet to begin ends as soon as it does. */
function closeGone(plan: LoadPlan, history: HistoryPlan, given: string, same: string): { close: string; keep: string } {
  const { target, key } = plan.write;
  const set = [
    `${identifier(history.to)} = greatest(${moment(plan)}, t.${identifier(history.from)} + interval '1 microsecond')`,
    `${identifier(history.current.column)} = ${flag(history, false)}`,
    ...(history.change ? [`${identifier(history.change)} = 'deleted'`] : []),
  ];
  return {
    close: `UPDATE ${qualified(target)} t SET ${set.join(", ")} FROM ${given} WHERE ${same} AND ${isOpen(history, "t")}`,
    keep: `INSERT INTO ${qualified(momentsTable(target))} (${identifiers(key)}, "undercoat at", "undercoat gone") SELECT ${identifiers(key)}, "undercoat at", true FROM gone ON CONFLICT DO NOTHING`,
  };
}

/** How many staged rows came after the watermark had passed them and were news all the same, and by how much at most; null where it can't be told. */
export function lateRows(plan: LoadPlan, stage: TableName, stored: string): string | null {
  const watermark = plan.read.watermark;
  const column = plan.read.columns.find(
    (candidate) => candidate.source === watermark?.column && candidate.type === watermark?.type,
  );
  const [first] = plan.write.key;
  if (!watermark || !column || first === undefined) return null;
  const name = `s.${identifier(column.name)}`;
  const at = typedLiteral(stored, watermark.type);
  const finite =
    typeFamily(watermark.type) === "moment"
      ? ` AND isfinite(${name})`
      : typeFamily(watermark.type) === "numeric"
        ? ` AND ${name} > '-Infinity'`
        : "";
  return `SELECT count(*)::text AS rows, max(${at} - ${name})::text AS most FROM ${qualified(stage)} s LEFT JOIN ${qualified(plan.write.target)} t ON ${matches(plan)} WHERE ${name} < ${at}${finite} AND (t.${identifier(first)} IS NULL OR ${differs(plan)})`;
}

/** Slices that are told one by one; where more are touched, all are. */
export const mostSlices = 1000;

/** The slices that staged rows fall into, at most one more than `mostSlices`; without slices one row where there is any. */
export function slicesOf({ prove: { slicing } }: LoadPlan, stage: TableName): string {
  return slicing
    ? `SELECT DISTINCT (${sliceStart(slicing)})::text AS slice FROM ${qualified(stage)} LIMIT ${mostSlices + 1}`
    : `SELECT NULL AS slice FROM ${qualified(stage)} LIMIT 1`;
}

/**
 * The slices that the staged rows which are news fall into, and those that the target's rows of the same keys fall into
 * now; at most one more than `mostSlices`. Without slices one row where there is any news.
 */
export function touchedSlices(plan: LoadPlan, stage: TableName): string {
  const { slicing } = plan.prove;
  const { key, target } = plan.write;
  const [first] = key;
  if (first === undefined) return slicesOf(plan, stage);
  const unknown = `t.${identifier(first)} IS NULL`;
  const news = `FROM ${qualified(stage)} s LEFT JOIN ${qualified(target)} t ON ${matches(plan)} WHERE ${unknown} OR ${differs(plan)}`;
  if (!slicing) return `SELECT NULL AS slice ${news} LIMIT 1`;
  const start = (row: string) => sliceStart(slicing, `${row}.${identifier(slicing.column)}`);
  return `SELECT DISTINCT slice::text FROM (SELECT unnest(ARRAY[${start("s")}, CASE WHEN ${unknown} THEN ${start("s")} ELSE ${start("t")} END]) AS slice ${news}) a LIMIT ${mostSlices + 1}`;
}

/** Whether a staged row's key stands in the target for a file that is none of some, as `shared`. Parameter: files as an array. */
export function keysOfOthers(plan: LoadPlan, stage: TableName, column: string): string {
  const own = ["true", ...currentRows(plan)].join(" AND ");
  return `SELECT EXISTS (SELECT 1 FROM ${qualified(stage)} s JOIN ${qualified(plan.write.target)} t ON ${matches(plan)} WHERE ${own} AND t.${identifier(column)} <> ALL($1::text[])) AS shared`;
}

/** The server's estimate of a table's rows, without reading it; null where it was never counted. */
export const estimatedRows = (target: TableName) =>
  `SELECT CASE WHEN reltuples >= 0 THEN reltuples::bigint ELSE pg_relation_size(oid) / 100 END::text AS rows FROM pg_class WHERE oid = ${literal(qualified(target))}::regclass`;

/** What at a target only writing tells of: triggers, checks, exclusions and references, generated and identity columns. Parameter: the target's regclass text. */
export const writingTells = `SELECT EXISTS (SELECT 1 FROM pg_trigger WHERE tgrelid = $1::regclass) OR EXISTS (SELECT 1 FROM pg_constraint WHERE conrelid = $1::regclass AND contype IN ('c', 'f', 'x'))
  OR EXISTS (SELECT 1 FROM pg_rewrite WHERE ev_class = $1::regclass) OR (SELECT count(*) FROM pg_index WHERE indrelid = $1::regclass AND indisunique) > 1
  OR EXISTS (SELECT 1 FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid WHERE a.attrelid = $1::regclass AND a.attnum > 0 AND NOT a.attisdropped AND (a.attgenerated <> '' OR a.attidentity <> '' OR t.typtype = 'd')) AS tells`;

/** One row where some key stands more than once among rows that are yet to be written. */
export function repeatedKey(plan: LoadPlan, rows: TableName): string {
  return `SELECT 1 AS found FROM ${qualified(rows)} GROUP BY ${identifiers(plan.write.key)} HAVING count(*) > 1 LIMIT 1`;
}
