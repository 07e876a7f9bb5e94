import { Temporal } from "temporal-polyfill";
import { isRelative, MomentError, readDate } from "../parameter/moment.ts";
import type { From } from "../pipeline/pipeline.ts";
import { cutInterval, type DayInterval, type IntervalUnit } from "../schedule/intervals.ts";

/** Reports that an application gives by date: a part for each day, week or month, each asked for by itself. */

/** How the parts of a report are asked for. */
export interface Periods {
  /** the column that holds the first day of each row's period */
  column: string;
  unit: IntervalUnit;
  /** the parameters that say from which day and to which, and what was written for them */
  from: { parameter: string; text: string };
  to: { parameter: string; text: string };
  /** true where the application counts the last day among those asked for */
  ends: "included" | "excluded";
  /** how far back periods that are loaded are asked for again, as an ISO 8601 duration; null for all */
  again: string | null;
}

/** What is asked for; `from` is null where that is from where the last load ended. */
export interface Declared {
  from: string | null;
  to: string;
}

/** True for what stands for an end of the interval that is loaded. */
const open = (text: string) => text === ":from" || text === ":to";

/** How a load's report is split, null where it is none. */
export function periodsOf({ parameters = {}, period = {} }: Pick<From, "parameters" | "period">): Periods | null {
  const { split, ...others } = parameters;
  if (split === undefined) return null;
  const bound = (name: "from" | "to") => {
    const parameter = period[name] ?? Object.keys(others).find((one) => others[one] === `:${name}`) ?? name;
    return { parameter, text: others[parameter] ?? "" };
  };
  return {
    column: period.column ?? "period",
    unit: split as IntervalUnit,
    from: bound("from"),
    to: bound("to"),
    ends: period.ends ?? "excluded",
    again: period.again ?? null,
  };
}

/** What is wrong with how a report is split; null where nothing is. */
export function periodsProblem(from: Pick<From, "parameters" | "period">): string | null {
  const periods = periodsOf(from);
  if (!periods)
    return from.period ? "A period needs a report that is split: parameters: { from, to, split: day }" : null;
  if (!["day", "week", "month"].includes(periods.unit))
    return `A report is split by day, week or month, not by ${periods.unit}`;
  for (const name of ["from", "to"] as const)
    if (periods[name].text === "")
      return `A report that is split says ${name} when: ${periods[name].parameter}: ${name === "from" ? "today-P1Y" : "today"}, or :${name}`;
  // What a parameter of the pipeline says is looked at once it has a value.
  const [first, end] = [periods.from.text, periods.to.text].map((text) => (/^:\w+$/.test(text) ? null : text));
  try {
    const [begin, until] = [first, end].map((text) => (text == null ? null : readDate(text, 0, "UTC")));
    const alike = first != null && end != null && isRelative(first) === isRelative(end);
    return alike && begin != null && until != null && begin >= until
      ? `Nothing lies between ${first} and ${end}: the end is not included`
      : null;
  } catch (error) {
    if (error instanceof MomentError) return error.message;
    throw error;
  }
}

/** The day behind a day. */
export const dayAfter = (day: string): string => dayOf(day).add({ days: 1 }).toString();

const dayOf = (text: string) => Temporal.PlainDate.from(text.slice(0, 10));

/** The first day of the period that a day lies in; of a week that is Monday. */
export function periodStart(day: string, unit: IntervalUnit): string {
  const date = dayOf(day);
  if (unit === "day") return date.toString();
  return (unit === "week" ? date.subtract({ days: date.dayOfWeek - 1 }) : date.with({ day: 1 })).toString();
}

/** The first day behind the period that the day before `day` lies in, so that a beginning stays as it is. */
export function periodEnd(day: string, unit: IntervalUnit): string {
  const start = periodStart(dayOf(day).subtract({ days: 1 }).toString(), unit);
  return dayOf(start)
    .add(unit === "day" ? { days: 1 } : unit === "week" ? { days: 7 } : { months: 1 })
    .toString();
}

/** Whole periods that hold an interval of days. */
export const wholePeriods = ({ from, to }: DayInterval, unit: IntervalUnit): DayInterval => ({
  from: periodStart(from, unit),
  to: periodEnd(to, unit),
});

/**
 * The days that a report is asked for now.
 * @param now milliseconds since the epoch
 * @throws MomentError where a text is no date
 */
export function declaredDays({ from, to }: Periods, now: number, zone: string): Declared {
  const today = readDate("today", now, zone);
  return {
    from: open(from.text) ? null : readDate(from.text, now, zone),
    // Up to now: the day that it is counts, though it is not over.
    to: open(to.text) ? dayAfter(today) : readDate(to.text, now, zone),
  };
}

/** The beginning of the periods that are asked for again, of one that has been loaded and those so far before it. */
export const againFrom = (period: string, { again, unit }: Pick<Periods, "again" | "unit">): string =>
  periodStart(again === null ? period : dayOf(period).subtract(again).toString(), unit);

/** A report's periods within some days, the earliest first; of one that goes beyond them the first days are asked for. */
export function cutPeriods(days: DayInterval, unit: IntervalUnit): DayInterval[] {
  return days.from < days.to ? cutInterval(days, unit) : [];
}

/** The days that a report's records are looked for in: those that are declared, or the last few where they are not. */
export const lookedFor = (declared: Declared, unit: IntervalUnit): DayInterval =>
  declared.from === null ? lateDays(declared, unit) : { from: periodStart(declared.from, unit), to: declared.to };

/** What is asked for one period: the parameters with its days in the places of the report's ends, and without the word that splits it. */
export function forPeriod(from: From, { from: first, to: end }: DayInterval): From {
  const periods = periodsOf(from);
  if (!periods) return from;
  const { split: _, ...parameters } = from.parameters ?? {};
  const last = periods.ends === "included" ? dayOf(end).subtract({ days: 1 }).toString() : end;
  return { ...from, parameters: { ...parameters, [periods.from.parameter]: first, [periods.to.parameter]: last } };
}

/** The last few periods of a report's days, by which somebody sees what its rows are made of. */
export function lateDays({ from, to }: Declared, unit: IntervalUnit): DayInterval {
  const reach = { day: { days: 5 }, week: { weeks: 4 }, month: { months: 3 } }[unit];
  const late = dayOf(to).subtract(reach).toString();
  return { from: periodStart(from !== null && from > late ? from : late, unit), to };
}
