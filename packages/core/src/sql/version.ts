import { type HistoryPlan, planColumns } from "../history/plan.ts";
import type { LoadPlan, PlannedColumn } from "../plan/plan.ts";
import { houseSchema } from "./house.ts";
import { formatTableName, identifier, type TableName } from "./identifier.ts";
import { literal, typedLiteral } from "./literal.ts";
import { baseType, isArray, typeFamily } from "./type.ts";

/** What a version is in SQL: its columns, when it is the open one, and when a row opens another. */

const timestamptz = "timestamp with time zone";

/** The history of a load that keeps one. @throws Error where it does not; only that mode's own statements ask. */
export function historyOf(plan: LoadPlan): HistoryPlan {
  if (!plan.write.history) throw new Error("The load keeps no history");
  return plan.write.history;
}

/** The columns that a history adds to those of the load. */
export function versionColumns(plan: LoadPlan, history: HistoryPlan): { name: string; type: string }[] {
  const held = new Map(plan.read.columns.map((column) => [column.name, column.type]));
  return [
    ...[...history.previous].map(([name, before]) => ({ name: before, type: held.get(name) ?? "text" })),
    { name: history.from, type: timestamptz },
    { name: history.to, type: timestamptz },
    { name: history.current.column, type: history.current.type },
    ...(history.change ? [{ name: history.change, type: "text" }] : []),
    ...(history.surrogate ? [{ name: history.surrogate.column, type: "bigint" }] : []),
  ];
}

/** What the end of an open version holds. */
export const openEnd = (history: Validity) => typedLiteral(history.end, timestamptz);

/** True for a version that has not ended; `row` is its alias. */
export function isOpen(history: Validity, row: string): string {
  const to = `${row}.${identifier(history.to)}`;
  return history.end === null ? `${to} IS NULL` : `${to} = ${openEnd(history)}`;
}

/** The columns that say when a version is valid, and what tells that it has not ended. */
type Validity = Pick<HistoryPlan, "from" | "to" | "end">;

/** True where a moment (SQL) falls into a version. */
export function holdsAt(history: Validity, row: string, moment: string): string {
  const [from, to] = [history.from, history.to].map((name) => `${row}.${identifier(name)}`);
  return `${from} <= ${moment} AND ${history.end === null ? `(${to} IS NULL OR ${moment} < ${to})` : `${moment} < ${to}`}`;
}

export function flag(history: HistoryPlan, current: boolean): string {
  return typedLiteral(current ? history.current.yes : history.current.no, history.current.type);
}

/** A text in the form in which what is ignored is gone. */
function folded(sql: string, { ignore, collation }: HistoryPlan["compare"]): string {
  let text = `${sql}::text`;
  if (ignore.has("space")) text = `btrim(${text}, E' \\t\\n\\r')`;
  if (ignore.has("accents")) text = `regexp_replace(normalize(${text}, NFD), '[\\u0300-\\u036f]', '', 'g')`;
  if (ignore.has("case")) text = `lower(${text} COLLATE ${identifier(collation)})`;
  return `${text} COLLATE "C"`;
}

/** True where one value in place of another opens a version: numbers, times and documents by value, texts by their bytes less what is ignored. */
function changes(history: HistoryPlan, column: PlannedColumn, before: string, after: string): string {
  const compared = (sql: string) => {
    if (isArray(column.type)) return sql;
    if (typeFamily(column.type) === "text") return folded(sql, history.compare);
    return baseType(column.type) === "json" ? `${sql}::text COLLATE "C"` : sql;
  };
  return `${compared(before)} IS DISTINCT FROM ${compared(after)}`;
}

/** True where a row's values in place of another's open a version. */
export function opens(plan: LoadPlan, before: (name: string) => string, after: (name: string) => string): string {
  const history = historyOf(plan);
  const all = planColumns(plan, "version").map((column) =>
    changes(history, column, before(column.name), after(column.name)),
  );
  return all.length ? `(${all.join(" OR ")})` : "false";
}

/** The names of the columns whose change opens a version, as an array of texts. */
export function openers(plan: LoadPlan, before: (name: string) => string, after: (name: string) => string): string {
  const history = historyOf(plan);
  const each = planColumns(plan, "version").map(
    (column) =>
      `CASE WHEN ${changes(history, column, before(column.name), after(column.name))} THEN ${literal(column.name)} END`,
  );
  return `array_remove(ARRAY[${each.join(", ")}]::text[], NULL)`;
}

/**
 * Where the moments of a history stand at which the source said of a key what its version says already, and those at which
 * a key was found gone. With them the same changes give the same history in whatever order they come.
 */
export function momentsTable(target: TableName): TableName {
  const name = formatTableName(target);
  // FNV-1a, twice: two long names of targets must not share a table.
  const hash = (seed: number) => {
    let value = seed;
    for (const byte of new TextEncoder().encode(name)) value = Math.imul(value ^ byte, 16_777_619) >>> 0;
    return value.toString(16).padStart(8, "0");
  };
  return { schema: houseSchema, table: `moments_${hash(2_166_136_261)}${hash(84_696_351)}` };
}

/** The read's moment; never at or before one that this history has used, though the source's clock be set back. */
export function moment(plan: LoadPlan): string {
  const history = historyOf(plan);
  const at = typedLiteral(history.moment, timestamptz);
  // A table that is yet to be made has no past.
  if (history.fresh) return at;
  const used = `(SELECT h.moment + interval '1 microsecond' FROM undercoat.history h WHERE h.target = ${literal(formatTableName(plan.write.target))})`;
  return `greatest(${at}, ${used})`;
}

/**
 * Where it stands what each run did to a history that the source dates: by key and time, the run's moment and what it did
 * there. What a new target took as it came has one row without a key.
 */
export function deedsTable(target: TableName): TableName {
  return { schema: houseSchema, table: momentsTable(target).table.replace("moments", "deeds") };
}

/** Numbers the versions of a new target that takes rows as they come. */
export function numbersSequence(target: TableName): TableName {
  return { schema: houseSchema, table: momentsTable(target).table.replace("moments", "numbers") };
}

/** The column of the staged rows that says from when each is so, under a name that no source gives a column where the load does not write it. */
export const sinceName = (history: HistoryPlan) => history.since?.written ?? "undercoat since";
