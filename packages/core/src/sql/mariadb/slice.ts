import { Temporal } from "temporal-polyfill";
import type { Slicing } from "../slice.ts";
import { baseType } from "../type.ts";
import { literal } from "./text.ts";

/** Seconds since 1970 from which a zone's clock is so many seconds ahead of UTC, in order; the first counts from the beginning. */
type Clock = { from: number; ahead: number }[];

const clocks = new Map<string, Clock>();

/** What a TIMESTAMP of MariaDB can hold, and somewhat more. */
const first = Temporal.Instant.from("1969-12-31T00:00:00Z");
const last = Temporal.Instant.from("2106-02-08T00:00:00Z");

/** A zone's clock as it changes, over all that a TIMESTAMP can hold. A server may know no zones, so they are told to it. */
function clockOf(zone: string): Clock {
  const known = clocks.get(zone);
  if (known) return known;
  const seconds = (moment: Temporal.ZonedDateTime) => ({
    from: moment.epochMilliseconds / 1000,
    ahead: moment.offsetNanoseconds / 1e9,
  });
  const clock: Clock = [];
  let moment: Temporal.ZonedDateTime | null = first.toZonedDateTimeISO(zone);
  while (moment && moment.epochMilliseconds < last.epochMilliseconds) {
    clock.push(seconds(moment));
    moment = moment.getTimeZoneTransition("next");
  }
  clocks.set(zone, clock);
  return clock;
}

/** A moment's local time in a zone; the session's own is UTC. */
function local(sql: string, zone: string): string {
  const clock = clockOf(zone);
  if (clock.length === 1) return clock[0]?.ahead ? `(${sql} + INTERVAL ${clock[0].ahead} SECOND)` : sql;
  const [, ...changes] = clock;
  const at = `INTERVAL(UNIX_TIMESTAMP(${sql}), ${changes.map(({ from }) => from).join(", ")})`;
  return `(${sql} + INTERVAL ELT(1 + ${at}, ${clock.map(({ ahead }) => ahead).join(", ")}) SECOND)`;
}

const zoned = (type: string) => baseType(type) === "timestamp with time zone";

/** The start of the slice that a value falls into, as text: a day, or a local time where slices are hours. */
export function sliceStart({ type, unit, zone }: Slicing, sql: string): string {
  const at = zoned(type) ? local(sql, zone) : sql;
  switch (unit) {
    case "hour":
      return `DATE_FORMAT(${at}, '%Y-%m-%d %H:00:00')`;
    case "day":
      return `DATE_FORMAT(${at}, '%Y-%m-%d')`;
    case "week":
      return `DATE_FORMAT(${at} - INTERVAL WEEKDAY(${at}) DAY, '%Y-%m-%d')`;
    case "month":
      return `DATE_FORMAT(${at}, '%Y-%m-01')`;
    case "year":
      return `DATE_FORMAT(${at}, '%Y-01-01')`;
    case "origin":
      throw new RangeError("Slices of an origin are asked of what was received");
  }
}

const days = { hour: 1, day: 1, week: 7, month: 31, year: 366, origin: 0 };
const written = /^\d{4}-\d\d-\d\d( \d\d:\d\d:\d\d)?$/;

/** True for values in some slices; more of the column's range is named first, so that an index serves. */
export function inSlices(slicing: Slicing, slices: readonly (string | null)[], sql: string): string {
  const dated = slices.filter((slice): slice is string => slice !== null).toSorted();
  const parts: string[] = [];
  const [low, high] = [dated[0], dated.at(-1)];
  if (low !== undefined && high !== undefined) {
    const time = (text: string, step: string) => `CAST(${literal(text)} AS DATETIME) ${step}`;
    const bounds = dated.every((slice) => written.test(slice))
      ? `${sql} >= ${time(low, "- INTERVAL 2 DAY")} AND ${sql} < ${time(high, `+ INTERVAL ${days[slicing.unit] + 2} DAY`)} AND `
      : "";
    parts.push(`${bounds}${sliceStart(slicing, sql)} IN (${dated.map(literal).join(", ")})`);
  }
  if (dated.length < slices.length) parts.push(`${sql} IS NULL`);
  return parts.length ? `(${parts.map((part) => `(${part})`).join(" OR ")})` : "FALSE";
}

const offset = /([zZ]|[-+]\d{1,2}(:?\d{2})?)$/;

/** A moment as a person or a watermark gives it, in the clock of a column: a zoned one in UTC. @throws RangeError for what is none */
export function timeOf(text: string, type: string, zone: string): string {
  const [day = "", clock = "00:00"] = text.trim().split(/[T ](.*)/s);
  const told = offset.exec(clock);
  const bare = told ? clock.slice(0, told.index) : clock;
  const plain = Temporal.PlainDateTime.from(`${day}T${bare.trim() || "00:00"}`);
  if (!zoned(type)) return plain.toString().replace("T", " ");
  if (!told) {
    const moment = plain.toZonedDateTime(zone, { disambiguation: "later" }).withTimeZone("UTC");
    return moment.toPlainDateTime().toString().replace("T", " ");
  }
  const shift = /^z$/i.test(told[0])
    ? "+00:00"
    : told[0].replace(/^([-+])(\d)$/, "$10$2").replace(/^([-+]\d\d)$/, "$1:00");
  const instant = Temporal.Instant.from(`${plain.toString()}${shift}`);
  return instant.toZonedDateTimeISO("UTC").toPlainDateTime().toString().replace("T", " ");
}
