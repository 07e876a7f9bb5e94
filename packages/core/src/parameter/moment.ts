import { Temporal } from "temporal-polyfill";

/** A text that is no date, time or span of time. */
export class MomentError extends Error {}

const anchors = ["now", "today", "week", "month", "quarter", "year"] as const;
type Anchor = (typeof anchors)[number];

/** The beginning of what an anchor names, in the moment's zone: the present moment, or the start of the current day, week (from Monday), month, quarter or year. */
function begin(anchor: Anchor, now: Temporal.ZonedDateTime): Temporal.ZonedDateTime {
  if (anchor === "now") return now;
  const day = now.toPlainDate();
  const first: Record<Exclude<Anchor, "now">, Temporal.PlainDate> = {
    today: day,
    week: day.subtract({ days: day.dayOfWeek - 1 }),
    month: day.with({ day: 1 }),
    quarter: day.with({ day: 1, month: day.month - ((day.month - 1) % 3) }),
    year: day.with({ day: 1, month: 1 }),
  };
  return first[anchor].toZonedDateTime(now.timeZoneId);
}

const relative = /^(now|today|week|month|quarter|year)((?:[+-]P[0-9A-Z.]+)*)$/;

/** True for a moment that is told from the present one: `today-P1Y`. */
export const isRelative = (text: string): boolean => relative.test(text.trim());

/**
 * A moment told from the present one: an anchor with ISO 8601 durations added or taken, one after another, by the calendar
 * of the zone: a day before a clock change is a day of the calendar, and a year before 29 February is 28 February.
 * @returns null where the text begins with no anchor
 * @throws MomentError where it does, and is wrong
 */
function fromNow(text: string, now: number, zone: string): Temporal.ZonedDateTime | null {
  const [, anchor, steps = ""] = relative.exec(text) ?? [];
  if (!anchor) {
    if (anchors.some((name) => text.startsWith(name)))
      throw new MomentError(`${text} is not a moment; write one like today-P1Y or month-P1M+P1D`);
    return null;
  }
  const present = Temporal.Instant.fromEpochMilliseconds(now).toZonedDateTimeISO(zone);
  return [...steps.matchAll(/([+-])(P[0-9A-Z.]+)/g)].reduce(
    (moment, [, sign, iso = ""]) => {
      const span = spanOf(iso);
      return sign === "-" ? moment.subtract(span) : moment.add(span);
    },
    begin(anchor as Anchor, present),
  );
}

function spanOf(iso: string): Temporal.Duration {
  try {
    return Temporal.Duration.from(iso);
  } catch {
    throw new MomentError(`${iso} is not an ISO 8601 duration; write one like P1D or PT6H`);
  }
}

/** A date as `2026-11-27`, from one, or from a moment told from the present one in a zone. @throws MomentError */
export function readDate(text: string, now: number, zone: string): string {
  const given = text.trim();
  const moment = fromNow(given, now, zone);
  if (moment) return moment.toPlainDate().toString();
  try {
    if (/^\d{4,6}-\d{2}-\d{2}$/.test(given)) return Temporal.PlainDate.from(given, { overflow: "reject" }).toString();
  } catch {
    // Told below: no such day.
  }
  throw new MomentError(`${text} is not a date; write one like 2026-01-31, or today-P1Y`);
}

/**
 * A moment in UTC as `2026-11-27T06:30:00Z`, from one with a zone, from a local one of `zone` (a time that the clock passes
 * over is an hour later, one that comes twice is the first), from a date, or told from the present one. @throws MomentError
 */
export function readMoment(text: string, now: number, zone: string): string {
  const given = text.trim();
  const moment = fromNow(given, now, zone);
  if (moment) return moment.toInstant().toString();
  try {
    if (/(?:Z|[+-]\d{2}(?::?\d{2})?)$/i.test(given.replace(/^\d{4,6}-\d{2}-\d{2}/, "")))
      return Temporal.Instant.from(given.replace(/([+-]\d{2})$/, "$1:00")).toString();
    if (/^\d{4,6}-\d{2}-\d{2}/.test(given))
      return Temporal.PlainDateTime.from(given, { overflow: "reject" })
        .toZonedDateTime(zone, { disambiguation: "compatible" })
        .toInstant()
        .toString();
  } catch {
    // Told below: no such time.
  }
  throw new MomentError(`${text} is not a time; write one like 2026-01-31T06:00Z, or now-PT6H`);
}

/** A span of time as ISO 8601 has it. @throws MomentError */
export function readSpan(text: string): string {
  const given = text.trim();
  const span = spanOf(given.replace(/^[+-]/, ""));
  return given.startsWith("-") ? span.negated().toString() : span.toString();
}
