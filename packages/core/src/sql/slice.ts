import type { LoadPlan } from "../plan/plan.ts";
import { columnType } from "../plan/plan.ts";
import { identifier } from "./identifier.ts";
import { literal, typedLiteral } from "./literal.ts";
import { baseType } from "./type.ts";

/** The local time of the slice column, in which slices are cut. */
function localTime(plan: LoadPlan): string {
  const by = plan.by;
  if (!by) return "NULL::timestamp";
  const column = identifier(by.column);
  const base = baseType(columnType(plan, by.column));
  return base === "timestamp with time zone" ? `timezone(${literal(by.zone ?? "UTC")}, ${column})` : `${column}::timestamp`;
}

/** The start of the slice a row falls into: a date, or a timestamp where slices are hours; NULL without slices. */
export function sliceExpression(plan: LoadPlan): string {
  if (!plan.by) return "NULL::date";
  if (plan.by.slice === "day" && columnType(plan, plan.by.column) === "date") return identifier(plan.by.column);
  const start = `date_trunc(${literal(plan.by.slice)}, ${localTime(plan)})`;
  return plan.by.slice === "hour" ? start : `${start}::date`;
}

/** True for the rows of one slice; a range over the bare column, so that an index serves. `column` is its SQL where it goes by another name. */
export function slicePredicate(plan: LoadPlan, slice: string | null, column = identifier(plan.by?.column ?? "none")): string {
  if (!plan.by) return "true";
  if (slice === null) return `${column} IS NULL`;
  const type = columnType(plan, plan.by.column);
  if (slice.includes("infinity")) return `${column} = ${typedLiteral(slice, type)}`;
  const start = typedLiteral(slice, "timestamp");
  const end = `${start} + interval '1 ${plan.by.slice}'`;
  const bound = (moment: string) => (baseType(type) === "timestamp with time zone" ? `timezone(${literal(plan.by?.zone ?? "UTC")}, ${moment})` : moment);
  return `${column} >= ${bound(start)} AND ${column} < ${bound(end)}`;
}
