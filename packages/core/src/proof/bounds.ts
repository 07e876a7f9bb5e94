import { Temporal } from "temporal-polyfill";
import type { Slicing } from "../sql/slice.ts";
import { baseType } from "../sql/type.ts";

const lengths = {
  hour: { hours: 1 },
  day: { days: 1 },
  week: { weeks: 1 },
  month: { months: 1 },
  year: { years: 1 },
} as const;

/**
 * Where a slice begins and ends (excluded), in ISO 8601: days of a date, instants of a moment. Of a local time that comes
 * twice or never, that is where the clock of the slicing's zone has it.
 * @param slice its first day or hour as text
 * @returns null where it has no such bounds: an origin, a time without a zone, a year that is no ordinary one
 */
export function sliceBounds(
  { type, unit, zone }: Pick<Slicing, "type" | "unit" | "zone">,
  slice: string,
): { from: string; to: string } | null {
  if (unit === "origin" || !/^\d{4}-\d\d-\d\d([ T][\d:]+)?$/.test(slice)) return null;
  const start = Temporal.PlainDateTime.from(slice.replace(" ", "T"));
  const ends = [start, start.add(lengths[unit])];
  if (type === "date") {
    const [from = "", to = ""] = ends.map((end) => end.toPlainDate().toString());
    return { from, to };
  }
  if (baseType(type) !== "timestamp with time zone") return null;
  const [from = "", to = ""] = ends.map((end) =>
    (unit === "hour"
      ? end.toZonedDateTime(zone, { disambiguation: "earlier" })
      : end.toPlainDate().toZonedDateTime(zone)
    )
      .toInstant()
      .toString(),
  );
  return { from, to };
}
