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

const units: Record<string, string> = {
  s: "S",
  sec: "S",
  second: "S",
  m: "M",
  min: "M",
  minute: "M",
  h: "H",
  hour: "H",
  d: "D",
  day: "D",
  w: "W",
  week: "W",
};

/** A duration as people write it (`10 minutes`, `1 h 30 min`, `2 days`) or in ISO 8601, as ISO 8601; null for anything else. */
export function readDuration(text: string): string | null {
  const given = text.trim();
  if (pattern.test(given.toUpperCase())) return given.toUpperCase();
  const parts = [...given.toLowerCase().matchAll(/(\d+)\s*([a-z]+)\s*(?:,|and)?\s*/g)];
  if (
    parts.length === 0 ||
    parts
      .map(([part]) => part)
      .join("")
      .trim() !== given.toLowerCase()
  )
    return null;
  const told = parts.map(([, count = "", word = ""]) => ({
    count,
    unit: units[word] ?? units[word.replace(/s$/, "")],
  }));
  if (told.some(({ unit }) => unit === undefined)) return null;
  const of = (wanted: string) =>
    told
      .filter(({ unit }) => wanted.includes(unit ?? ""))
      .map(({ count, unit }) => `${count}${unit}`)
      .join("");
  const [days, times] = [of("WD"), of("HMS")];
  const iso = `P${days}${times ? `T${times}` : ""}`;
  return pattern.test(iso) ? iso : null;
}

/** Look-backs that read well, in seconds. */
const roundLookBacks = [60, 120, 300, 600, 900, 1800, 3600, 7200, 14_400, 28_800, 43_200, 86_400];

/**
 * A look-back that would cover rows as late as `most` (an interval as PostgreSQL prints it, `00:03:12` or `1 day 02:00:00`) with
 * half as much to spare, rounded up to a usual length.
 */
export function suggestLookBack(most: string): string {
  const [, days = "0", hours = "0", minutes = "0", rest = "0"] =
    /^(?:(\d+) days? ?)?(?:(\d+):(\d+):(\d+))?/.exec(most) ?? [];
  const seconds = 1.5 * (Number(days) * 86_400 + Number(hours) * 3600 + Number(minutes) * 60 + Number(rest) + 1);
  const length = roundLookBacks.find((one) => one >= seconds) ?? Math.ceil(seconds / 86_400) * 86_400;
  if (length >= 86_400) return `P${length / 86_400}D`;
  return length >= 3600 ? `PT${length / 3600}H` : `PT${length / 60}M`;
}
