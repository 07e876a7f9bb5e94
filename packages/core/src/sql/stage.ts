import { type LoadPlan, stagedColumns } from "../plan/plan.ts";
import type { Window } from "../plan/window.ts";
import { houseSchema } from "./house.ts";
import { identifier, identifiers, qualified, type TableName } from "./identifier.ts";
import { stagedRows } from "./read.ts";
import { definitions } from "./target.ts";
import { sinceName } from "./version.ts";

/** What a table of a load's own holds: rows as they were received, those of the window, or those that passed. */
type StageUse = "received" | "stage" | "shaped";

/** The stage of a load; made and dropped inside the load's transaction, so that no failure can leave it behind. */
export function stageName(plan: LoadPlan, run: number, what: StageUse = "stage"): TableName {
  return { schema: houseSchema, table: `${what}_${run}_${plan.load}`.slice(0, 63) };
}

/** A stage that only this session sees, for looking at rows without writing anything. */
export function lookingName(what: StageUse = "stage"): TableName {
  return { schema: "pg_temp", table: `undercoat_${what}` };
}

/** A stage is not logged: it lives no longer than its transaction. */
const created = (table: TableName) =>
  table.schema === "pg_temp"
    ? `CREATE TEMP TABLE ${identifier(table.table)}`
    : `CREATE UNLOGGED TABLE ${qualified(table)}`;

export function createStage(plan: LoadPlan, stage: TableName): string {
  return `${created(stage)} (${definitions(stagedColumns(plan), [])})`;
}

/** Where shaped rows wait to be matched with the target's; those of a history with the time from when each is so. */
export function createShaped(plan: LoadPlan, shaped: TableName): string {
  const { history } = plan.write;
  const dated =
    history?.since && !history.since.written ? [{ name: sinceName(history), type: history.since.type }] : [];
  return `${created(shaped)} (${definitions([...plan.read.columns, ...dated], [])})`;
}

/** Tells the planner what keys have been staged; without, it may read a whole target to match a few rows. A small sample will do. */
export function learnKeys(plan: LoadPlan, table: TableName): string[] {
  return [
    "SET LOCAL default_statistics_target = 20",
    `ANALYZE ${qualified(table)} (${identifiers(plan.write.key)})`,
    "SET LOCAL default_statistics_target = DEFAULT",
  ];
}

/** Drops a stage and the functions made for its rows. */
export const dropStage = (stage: TableName) => `DROP TABLE ${qualified(stage)} CASCADE`;

/** The columns that rows bring to a table: those staged, and to a history's new target the time from when each is so. */
function brought(plan: LoadPlan, table: TableName): string {
  const { history, target } = plan.write;
  const direct = history?.direct && history.since && table === target;
  return identifiers([...stagedColumns(plan).map((column) => column.name), ...(direct ? [history.from] : [])]);
}

/** Reads and stages in one statement, where the source is the same database. */
export function takeInside(plan: LoadPlan, window: Window, table: TableName, limit: number | null): string {
  return `INSERT INTO ${qualified(table)} (${brought(plan, table)}) ${stagedRows(plan, window, limit, table === plan.write.target)}`;
}

/** Takes a COPY stream. A table made in this very transaction takes its rows frozen: nothing has to visit them again. */
export function copyIn(plan: LoadPlan, table: TableName, format: "binary" | "csv"): string {
  return `COPY ${qualified(table)} (${brought(plan, table)}) FROM STDIN (FORMAT ${format}, FREEZE)`;
}

/** Rows that a COPY of this session's backend has taken so far. */
export const copyProgress =
  "SELECT tuples_processed::text AS rows, bytes_processed::text AS bytes FROM pg_stat_progress_copy WHERE pid = $1";
