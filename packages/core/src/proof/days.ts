import type { SliceUnit } from "../pipeline/pipeline.ts";

const dayBefore = (day: string, count: number) =>
  new Date(Date.parse(`${day}T00:00:00Z`) - count * 86_400_000).toISOString().slice(0, 10);

/** True where a slice holds a day, or lies in it. `start` is the slice's text, `day` a date of ISO 8601. */
export function meets(unit: SliceUnit, start: string, day: string): boolean {
  switch (unit) {
    case "week":
      return start <= day && start > dayBefore(day, 7);
    case "month":
      return start.slice(0, 7) === day.slice(0, 7);
    case "origin":
      return false;
    case "year":
      return start.slice(0, 4) === day.slice(0, 4);
    default:
      return start.slice(0, 10) === day;
  }
}

/** The text from which on slices may hold some days, whatever their unit. */
export const earliestFor = (day: string) => dayBefore(day, 366);
