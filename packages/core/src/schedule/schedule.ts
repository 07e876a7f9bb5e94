import { Cron } from "croner";
import cronstrue from "cronstrue";
import type { Schedule } from "../pipeline/pipeline.ts";
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

/**
 * The next `count` moments strictly after `after`. Plain intervals fall on whole multiples of themselves since the
 * epoch, so they neither drift nor depend on when the server started, and a clock change does not move them; cron
 * times are wall-clock times in the zone.
 * @returns milliseconds since the epoch, ascending; empty while paused.
 */
export function nextTimes(schedule: Schedule, after: number, count = 1): number[] {
  if (schedule.paused) return [];
  if ("every" in schedule) {
    const step = durationSeconds(schedule.every) * 1000;
    const first = (Math.floor(after / step) + 1) * step;
    return Array.from({ length: count }, (_, at) => first + at * step);
  }
  const cron = new Cron(schedule.cron, { timezone: schedule.zone ?? "UTC", paused: true });
  const times = cron.nextRuns(count, new Date(after)).map((date) => date.getTime());
  cron.stop();
  return times;
}

/** `every 15 minutes`, `nightly at 02:00`: a schedule as a sentence's part. */
export function scheduleWords(schedule: Schedule | undefined): string {
  if (!schedule) return "runs when you say so";
  const told =
    "every" in schedule ? `every ${durationWords(schedule.every).replace(/^1 /, "")}` : cronWords(schedule.cron);
  return schedule.paused ? `paused (${told})` : told;
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
