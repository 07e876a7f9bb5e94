import { Cron } from "croner";
import cronstrue from "cronstrue";
import { Temporal } from "temporal-polyfill";
import type { Given } from "../parameter/resolve.ts";
import type { Pipeline, Schedule } from "../pipeline/pipeline.ts";
import { durationSeconds, durationWords } from "./duration.ts";

/** True for a zone of the IANA list. */
export function isZone(name: string): boolean {
  try {
    new Intl.DateTimeFormat("en", { timeZone: name });
    return true;
  } catch {
    return false;
  }
}

/** Every schedule of a pipeline. */
export const schedulesOf = ({ schedule, schedules = [] }: Pick<Pipeline, "schedule" | "schedules">): Schedule[] => [
  ...(schedule ? [schedule] : []),
  ...schedules,
];

/** True for a schedule whose times are looks for files: a run begins only where one has come. */
export const waitsForFiles = (schedule: Schedule): boolean => "when" in schedule && schedule.when === "arrived";

/** What tells a schedule from others of its pipeline: when it starts what, whatever else is said of it. */
export function scheduleName(schedule: Schedule): string {
  const { every, cron, after, on, when, zone, values, set, do: does } = schedule as Schedule & Record<string, unknown>;
  return JSON.stringify({ every, cron, after, on, when, zone, values, set, does });
}

const zoneOf = ({ zone = "UTC" }: Schedule) => zone;

/** The first moment of a day in a zone, in milliseconds since the epoch. */
const dayBegins = (day: string, zone: string) =>
  Temporal.PlainDate.from(day).toZonedDateTime(zone).toInstant().epochMilliseconds;

/**
 * The next `count` moments strictly after `after`. Plain intervals fall on whole multiples of themselves since the
 * epoch, so they neither drift nor depend on when the server started, and a clock change does not move them; cron
 * times are wall-clock times in the zone. What follows another pipeline has no time of its own.
 * @param begun how often it has started something already
 * @returns milliseconds since the epoch, ascending; empty while paused and when it has come to its end
 */
export function nextTimes(schedule: Schedule, after: number, count = 1, begun = 0): number[] {
  if (schedule.paused || "after" in schedule) return [];
  const zone = zoneOf(schedule);
  const earliest = schedule.from ? Math.max(after, dayBegins(schedule.from, zone) - 1) : after;
  const end = schedule.until
    ? dayBegins(Temporal.PlainDate.from(schedule.until).add({ days: 1 }).toString(), zone)
    : Number.POSITIVE_INFINITY;
  const most = schedule.times === undefined ? count : Math.min(count, Math.max(0, schedule.times - begun));
  return timesAfter(schedule, earliest, most).filter((time) => time < end);
}

function timesAfter(schedule: Schedule, after: number, count: number): number[] {
  if (count === 0 || "after" in schedule) return [];
  if ("every" in schedule) {
    const step = durationSeconds(schedule.every) * 1000;
    const first = (Math.floor(after / step) + 1) * step;
    return Array.from({ length: count }, (_, at) => first + at * step);
  }
  const cron = new Cron(schedule.cron, { timezone: zoneOf(schedule), paused: true });
  const times = cron.nextRuns(count, new Date(after)).map((date) => date.getTime());
  cron.stop();
  return times;
}

/** What a schedule runs with: one of these for each run. */
export const scheduledGivens = ({ values, set }: Schedule): Given[] =>
  (values ?? [null]).map((name) => ({ set: name, ...(set ? { settings: set } : {}) }));

/** True while a schedule that follows another pipeline may start something. */
export function isOpenAt(schedule: Schedule, now: number, begun: number): boolean {
  const zone = zoneOf(schedule);
  return (
    !schedule.paused &&
    (schedule.times === undefined || begun < schedule.times) &&
    (schedule.from === undefined || now >= dayBegins(schedule.from, zone)) &&
    (schedule.until === undefined ||
      now < dayBegins(Temporal.PlainDate.from(schedule.until).add({ days: 1 }).toString(), zone))
  );
}

/** `every 15 minutes`, `nightly at 02:00`, `after fleet-register was proved`: a schedule as a sentence's part. */
export function scheduleWords(schedule: Schedule | undefined): string {
  if (!schedule) return "runs when you say so";
  const when =
    "after" in schedule
      ? `after ${schedule.after} ${schedule.on === "proved" ? "was proved" : "finished"}`
      : "every" in schedule
        ? `every ${durationWords(schedule.every).replace(/^1 /, "")}`
        : cronWords(schedule.cron);
  const looked = waitsForFiles(schedule) ? `when a file arrives, looked for ${when}` : when;
  const does = { run: "", prove: "proved ", sweep: "looks for rows gone " }[schedule.do ?? "run"];
  const sets = schedule.values
    ? ` with ${schedule.values.length > 2 ? `${schedule.values.length} sets` : schedule.values.join(" and ")}`
    : "";
  const settings = schedule.set
    ? ` with ${Object.entries(schedule.set)
        .map(([address, text]) => `${address} ${text}`)
        .join(", ")}`
    : "";
  const told = `${does}${looked}${sets}${settings}`;
  return schedule.paused ? `paused (${told})` : told;
}

/** All of a pipeline's schedules as a sentence's part. */
export function schedulesWords(schedules: readonly Schedule[]): string {
  const [first] = schedules;
  if (schedules.length < 2) return scheduleWords(first);
  return schedules.length === 2
    ? schedules.map(scheduleWords).join("; ")
    : `${scheduleWords(first)} and ${schedules.length - 1} more schedules`;
}

function cronWords(cron: string): string {
  const daily = /^(\d{1,2}) (\d{1,2}) \* \* \*$/.exec(cron.trim());
  if (daily) {
    const hour = Number(daily[2]);
    const time = `${String(hour).padStart(2, "0")}:${String(daily[1]).padStart(2, "0")}`;
    return `${hour < 5 ? "nightly" : "daily"} at ${time}`;
  }
  const told = cronstrue.toString(cron, { use24HourTimeFormat: true });
  return told.charAt(0).toLowerCase() + told.slice(1);
}
