import { identifier } from "../sql/identifier.ts";
import { literal } from "../sql/literal.ts";
import { PlanError } from "./error.ts";
import type { LoadPlan } from "./plan.ts";

/** The warehouse column that holds the file of each row; null where none does. */
export function fileColumn({ read }: LoadPlan): string | null {
  return read.columns.find(({ source }) => source !== null && source === read.origin)?.name ?? null;
}

/**
 * The column by which it is told whether a key stands in several files; null where none is kept, or where the file is part
 * of the key, so that it can't.
 */
export function sharingColumn(plan: LoadPlan): string | null {
  const column = fileColumn(plan);
  return column === null || plan.write.key.includes(column) || plan.write.key.length === 0 ? null : column;
}

/** True where the files that changed can be loaded without the others: what is gone from one is known by its column, or stays. */
export function takesChanges(plan: LoadPlan): boolean {
  return plan.write.mode !== "replace" && (plan.write.deletions === null || fileColumn(plan) !== null);
}

/** A plan for the rows of some files alone. */
export function ofFiles(plan: LoadPlan, files: readonly string[]): LoadPlan {
  const column = fileColumn(plan);
  if (column === null) throw new PlanError("No column holds the file of a row");
  const own = `(t.${identifier(column)} = ANY (${literal(`{${files.map((name) => `"${name.replace(/["\\]/g, "\\$&")}"`).join(",")}}`)}::text[]))`;
  const { part } = plan.write;
  return {
    ...plan,
    write: {
      ...plan.write,
      part: {
        text: part?.text ?? "",
        sql: part ? `(${part.sql} AND ${own})` : own,
        reads: [...(part?.reads ?? []), column],
      },
    },
  };
}
