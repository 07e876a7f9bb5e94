import type { TableName } from "../sql/identifier.ts";
import type { LoadPlan } from "./plan.ts";

/** A plan whose source is a table of rows as they were received, which hold its staged columns. */
export function asReceived(plan: LoadPlan, table: TableName): LoadPlan {
  return {
    ...plan,
    read: { ...plan.read, table, query: null, union: null, where: null, files: null, spans: null, periods: null },
    shape: plan.shape && { ...plan.shape, raw: plan.shape.raw.map((column) => ({ ...column, cast: false })) },
  };
}
