import type { LoadPlan } from "../../plan/plan.ts";
import { identifier, identifiers, qualified, type TableName } from "../identifier.ts";
import { comparable, differs, marker, matches, written } from "../target.ts";
import type { WriteMode, WriteStep } from "./mode.ts";

/** How many accepted rows the target knows by their key; an index answers it. A key that stands there more than once counts once. */
export function knownByKey(plan: LoadPlan, rows: TableName): string {
  return `SELECT count(*)::text AS known FROM ${qualified(rows)} s WHERE EXISTS (SELECT 1 FROM ${qualified(plan.write.target)} t WHERE ${matches(plan)})`;
}

/** Adds the accepted rows whose key the target lacks. */
export function insertNew(plan: LoadPlan, rows: TableName): WriteStep {
  const names = written(plan).map((column) => column.name);
  return {
    message: "rows are added",
    sql: `INSERT INTO ${qualified(plan.write.target)} (${identifiers(names)}) SELECT ${identifiers(names, "s")} FROM ${qualified(rows)} s WHERE NOT EXISTS (SELECT 1 FROM ${qualified(plan.write.target)} t WHERE ${matches(plan)})`,
    counts: "new",
  };
}

/** Rows are matched by their key: those that differ are rewritten, and no others; those the target lacks are added. */
export const upsert: WriteMode = {
  known: knownByKey,
  steps(plan, rows) {
    const set = [
      ...comparable(plan).map((column) => `${identifier(column.name)} = s.${identifier(column.name)}`),
      ...marker(plan).map((column) => `${identifier(column.name)} = NULL`),
    ];
    const update: WriteStep[] = set.length
      ? [
          {
            message: "rows are changed",
            sql: `UPDATE ${qualified(plan.write.target)} t SET ${set.join(", ")} FROM ${qualified(rows)} s WHERE ${matches(plan)} AND ${differs(plan)}`,
            counts: "changed",
          },
        ]
      : [];
    return [...update, insertNew(plan, rows)];
  },
  weigh: (plan, rows, lacking) =>
    `SELECT count(*)::text AS known, count(*) FILTER (WHERE ${differs(plan, lacking)})::text AS changed, '0' AS deleted FROM ${qualified(rows)} s JOIN ${qualified(plan.write.target)} t ON ${matches(plan)}`,
  tally(accepted, known, counted) {
    const unknown = accepted - known;
    if (unknown < 0n || counted.changed > known || (counted.new ?? unknown) !== unknown) return null;
    return { new: unknown, changed: counted.changed, same: known - counted.changed, deleted: 0n };
  },
};
