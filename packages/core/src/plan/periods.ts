import {
  againFrom,
  cutPeriods,
  dayAfter,
  declaredDays,
  lateDays,
  periodEnd,
  periodStart,
  periodsOf,
  wholePeriods,
} from "../http/periods.ts";
import type { Load } from "../pipeline/pipeline.ts";
import type { Scope } from "../run/run.ts";
import type { DayInterval } from "../schedule/intervals.ts";
import type { Slicing } from "../sql/slice.ts";
import { PlanError } from "./error.ts";
import type { LoadPlan, PlannedColumn, ReadRequest, Span } from "./plan.ts";

/** Plans a report that is asked for period by period; null for a load of anything else. @throws PlanError */
export function plannedPeriods(
  { from: reading, into, proof }: Load,
  columns: readonly PlannedColumn[],
  now: number,
  zone: string,
): { read: NonNullable<ReadRequest["periods"]>; span: Span; slicing: Slicing } | null {
  const periods = periodsOf(reading);
  if (!periods) return null;
  const { column: source, unit, again } = periods;
  const column = columns.find((one) => one.source === source);
  if (column?.type !== "date")
    throw new PlanError(
      column
        ? `${column.name} holds the first day of each row's ${unit}, so it is a date`
        : `The ${unit} of a row tells which part of the report it is of, so ${source} must be a column of the load`,
      ["columns"],
    );
  const { name } = column;
  if (into.mode !== "replace" && into.mode !== "upsert")
    throw new PlanError(`Each ${unit} of a report takes the place of its own rows: its mode is replace or upsert`, [
      "into",
      "mode",
    ]);
  if (into.key && !into.key.includes(name))
    throw new PlanError(`Each ${unit} of a report has rows of its own, so the key names ${name} too`, ["into", "key"]);
  if (proof?.by && (proof.by.column !== name || proof.by.slice !== unit))
    throw new PlanError(`A report is proved as it is asked for: by: { column: ${name}, slice: ${unit} }`, [
      "proof",
      "by",
    ]);
  const { from: first, to } = declaredDays(periods, now, zone);
  const from = first === null ? null : periodStart(first, unit);
  return {
    read: { column: source, unit, again, from, to },
    span: { column: name, from, to: periodEnd(to, unit) },
    slicing: { column: name, type: column.type, unit, zone: "UTC" },
  };
}

/** The first and the last period of which a target holds rows; null where it holds none. */
export type Standing = { first: string; last: string } | null;

/** True for work on some of a report's periods: these take the place of their own rows, as in every run. */
export const isOfPeriods = ({ from }: Pick<Load, "from">, { kind }: Scope): boolean =>
  periodsOf(from) !== null && (kind === "interval" || kind === "slice");

/**
 * A report's plan for a scope: of which periods it asks. Any other plan stays as it is.
 * @param stored the last period that was asked for, null where it is not known
 * @throws PlanError where nothing says from when
 */
export function withinPeriods(plan: LoadPlan, scope: Scope, stored: string | null, standing: Standing): LoadPlan {
  const { periods } = plan.read;
  const { span } = plan.write;
  if (!periods || !span) return plan;
  const { from, to } = daysOf(periods, scope, stored, standing);
  if (from >= to)
    throw new PlanError(`The report is asked for no day: it begins ${from} and ends before ${to}`, [
      "from",
      "parameters",
    ]);
  const whole = wholePeriods({ from, to }, periods.unit);
  try {
    cutPeriods(whole, periods.unit);
  } catch (error) {
    if (error instanceof RangeError) throw new PlanError(error.message, ["from", "parameters", "split"]);
    throw error;
  }
  return {
    ...plan,
    read: { ...plan.read, periods: { ...periods, from: whole.from, to } },
    write: { ...plan.write, span: { ...span, ...whole } },
  };
}

/** A report's plan for its last few periods, for somebody to look at. Any other stays as it is. */
export function lately(plan: LoadPlan): LoadPlan {
  const { periods } = plan.read;
  return periods ? withinPeriods(plan, { kind: "interval", ...lateDays(periods, periods.unit) }, null, null) : plan;
}

/** The days of a report that a scope is about. */
function daysOf(
  periods: NonNullable<ReadRequest["periods"]>,
  scope: Scope,
  stored: string | null,
  standing: Standing,
): DayInterval {
  const { from, to, unit } = periods;
  const day = (text: string) => text.slice(0, 10);
  if (scope.kind === "interval") {
    const midnight = /^\d{4}-\d\d-\d\d([T ]00:00(:00(\.0+)?)?)?$/.test(scope.to);
    return wholePeriods({ from: day(scope.from), to: midnight ? day(scope.to) : dayAfter(day(scope.to)) }, unit);
  }
  if (scope.kind === "slice" && scope.slice !== null)
    return wholePeriods({ from: day(scope.slice), to: dayAfter(day(scope.slice)) }, unit);
  const due = scope.kind === "due";
  const begin = from ?? (due ? standing?.last : standing?.first) ?? null;
  if (begin === null)
    throw new PlanError(
      "Nothing says from when the report is asked for: it goes on from what is loaded, and nothing is yet. Load an interval first, or write a day in place of :from, such as today-P1Y",
      ["from", "parameters"],
    );
  const since = from === null ? begin : stored;
  if (!due || since === null || (from !== null && periods.again === null)) return { from: begin, to };
  const again = againFrom(since, periods);
  return { from: from === null || again > begin ? again : begin, to };
}

/** The periods that a report's plan asks for, the earliest first; none of any other plan. */
export const partsOf = ({ read: { periods } }: LoadPlan): DayInterval[] =>
  periods?.from ? cutPeriods({ from: periods.from, to: periods.to }, periods.unit) : [];

/** The slices of their proof: each period is one. */
export const periodSlices = (plan: LoadPlan): string[] => partsOf(plan).map(({ from }) => from);
