import type { HistoryShape } from "../history/shape.ts";
import type { LoadPlan } from "../plan/plan.ts";
import { identifier, qualified, type TableName } from "./identifier.ts";
import { currentRows } from "./target.ts";
import { holdsAt } from "./version.ts";

/** Rows that are shown of those that find no version, or several. */
const shown = 20;

/** The facts of a load, each with the number of versions that it finds. */
function facts({ prove, write }: LoadPlan, shape: HistoryShape, rows: TableName | null): string {
  const within = prove.within ?? { dimension: write.target, key: [], at: "" };
  const at = `t.${identifier(within.at)}::timestamptz`;
  const same = shape.key.map((name, place) => `d.${identifier(name)} = t.${identifier(within.key[place] ?? name)}`);
  const versions = `(SELECT count(*) FROM ${qualified(within.dimension)} d WHERE ${[...same, holdsAt(shape, "d", at)].join(" AND ")})`;
  const key = `ARRAY[${within.key.map((name) => `t.${identifier(name)}::text`).join(", ")}]`;
  return `SELECT ${key} AS key, (${at})::text AS at, ${versions} AS found FROM ${qualified(rows ?? write.target)} t`;
}

/** How many facts there are and how many find not exactly one version; of a table of rows, or of the target's current ones. */
export function countAstray(plan: LoadPlan, shape: HistoryShape, rows: TableName | null): string {
  return `SELECT count(*)::text AS rows, (count(*) FILTER (WHERE f.found <> 1))::text AS astray FROM (${facts(plan, shape, rows)}${current(plan, rows)}) f`;
}

/** The first facts that find not exactly one version. */
export function astray(plan: LoadPlan, shape: HistoryShape, rows: TableName | null): string {
  return `SELECT to_json(f.key)::text AS key, f.at, f.found::text AS found FROM (${facts(plan, shape, rows)}${current(plan, rows)}) f WHERE f.found <> 1 LIMIT ${shown}`;
}

function current(plan: LoadPlan, rows: TableName | null): string {
  const conditions = rows ? [] : currentRows(plan);
  return conditions.length ? ` WHERE ${conditions.join(" AND ")}` : "";
}
