const pattern = /^P(?!$)(?:(\d+)Y)?(?:(\d+)M)?(?:(\d+)W)?(?:(\d+)D)?(?:T(?!$)(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)S)?)?$/;
const words = ["year", "month", "week", "day", "hour", "minute", "second"] as const;
const lengths = [365 * 86_400, 30 * 86_400, 7 * 86_400, 86_400, 3600, 60, 1];

function parts(iso: string): number[] {
  const match = pattern.exec(iso);
  if (!match) throw new RangeError(`${iso} is not an ISO 8601 duration; write one like PT10M or P1D`);
  return match.slice(1).map((text) => Number(text ?? 0));
}

/**
 * The seconds of an ISO 8601 duration of whole numbers; a month counts as 30 days and a year as 365, which is
 * good enough to order and bound durations. Exact arithmetic on dates is PostgreSQL's.
 * @throws RangeError when the text is no such duration.
 */
export function durationSeconds(iso: string): number {
  return parts(iso).reduce((sum, count, at) => sum + count * (lengths[at] ?? 0), 0);
}

/** `PT10M` → `10 minutes`, `P1DT2H` → `1 day 2 hours`; other text comes back as it is. */
export function durationWords(iso: string): string {
  if (!pattern.test(iso)) return iso;
  const spoken = parts(iso).flatMap((count, at) => (count ? [`${count} ${words[at]}${count === 1 ? "" : "s"}`] : []));
  return spoken.join(" ") || "0 seconds";
}
