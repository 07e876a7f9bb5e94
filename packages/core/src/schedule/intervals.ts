import { Temporal } from "temporal-polyfill";

/** Into what an interval is cut. */
export type IntervalUnit = "day" | "week" | "month";

/** Days from (included) to (excluded), as dates. */
export interface DayInterval {
  from: string;
  to: string;
}

/** More parts than this are not cut: the interval is surely another than was meant. */
const most = 5000;

function dayOf(text: string): Temporal.PlainDate {
  try {
    if (/^\d{4}-\d{2}-\d{2}$/.test(text)) return Temporal.PlainDate.from(text, { overflow: "reject" });
  } catch {
    // Told below.
  }
  throw new RangeError(`${text} is not a day; write one like 2026-01-31`);
}

/**
 * Cuts an interval at the beginnings of days, weeks (Mondays) or months; the first and the last part may be shorter.
 * @throws RangeError where an end is no day, nothing lies between them, or it would be too many parts
 */
export function cutInterval({ from, to }: DayInterval, by: IntervalUnit): DayInterval[] {
  const [first, end] = [dayOf(from), dayOf(to)];
  if (Temporal.PlainDate.compare(first, end) >= 0)
    throw new RangeError(`Nothing lies between ${from} and ${to}: the end is not included`);
  const next = (day: Temporal.PlainDate) =>
    by === "day"
      ? day.add({ days: 1 })
      : by === "week"
        ? day.add({ days: 8 - day.dayOfWeek })
        : day.with({ day: 1 }).add({ months: 1 });
  const parts: DayInterval[] = [];
  for (let day = first; Temporal.PlainDate.compare(day, end) < 0; ) {
    const after = next(day);
    const till = Temporal.PlainDate.compare(after, end) < 0 ? after : end;
    parts.push({ from: day.toString(), to: till.toString() });
    if (parts.length > most) throw new RangeError(`That is more than ${most} parts; cut it into weeks or months`);
    day = till;
  }
  return parts;
}
