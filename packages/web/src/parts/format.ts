import { grouped as exact, subtract } from "@undercoat/core/proof/decimal";

/** How numbers and times are written on every page. Exact text stays text: nothing here goes through a float. */

/** A number with separators; `–` where there is none. */
export function grouped(text: string | null | undefined): string {
  return text === null || text === undefined ? "–" : exact(text);
}

/** A signed difference: `+3`, `−412.50`, `0`. */
export function signed(text: string | null): string {
  if (text === null) return "–";
  if (/^-?0(\.0+)?$/.test(text)) return "0";
  return text.startsWith("-") ? grouped(text) : `+${grouped(text)}`;
}

/** Warehouse less source: `−412.50`, or `differs` for values that are no numbers. */
export function differenceWords(pair: { source: string | null; warehouse: string | null }): string {
  if (pair.source === pair.warehouse) return "0";
  const difference = subtract(pair.warehouse ?? "0", pair.source ?? "0");
  return difference === null || /^-?0(\.0+)?$/.test(difference) ? "differs" : signed(difference);
}

export function bytes(text: string | number | null): string {
  if (text === null) return "–";
  let size = Number(text);
  const units = ["B", "kB", "MB", "GB", "TB"];
  let unit = 0;
  while (size >= 1000 && unit < units.length - 1) {
    size /= 1000;
    unit++;
  }
  return `${size >= 100 || unit === 0 ? Math.round(size) : size.toFixed(1)} ${units[unit]}`;
}

export const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;

const clock = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit" });
const clockSeconds = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit" });
const dayName = new Intl.DateTimeFormat("en-GB", { weekday: "short", day: "numeric", month: "short" });
const dayYear = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", year: "numeric" });

function daysBack(date: Date): number {
  const midnight = (of: Date) => new Date(of.getFullYear(), of.getMonth(), of.getDate()).getTime();
  return Math.round((midnight(new Date()) - midnight(date)) / 86_400_000);
}

/** `06:30 today`, `02:00 yesterday`, `02:00 Fri 20 Nov`. */
export function moment(iso: string | null): string {
  if (!iso) return "never";
  const date = new Date(iso);
  const back = daysBack(date);
  const day =
    back === 0
      ? "today"
      : back === 1
        ? "yesterday"
        : back === -1
          ? "tomorrow"
          : Math.abs(back) < 300
            ? dayName.format(date)
            : dayYear.format(date);
  return `${clock.format(date)} ${day}`;
}

export const exactTime = (iso: string) =>
  `${clockSeconds.format(new Date(iso))}.${String(new Date(iso).getMilliseconds()).padStart(3, "0")}`;

/** A slice's name: `Fri 20 Nov`, with the year where it is another one; other texts as they are. */
export function sliceName(slice: string | null): string {
  if (slice === null || slice === "") return "no date";
  const date = /^\d{4}-\d\d-\d\d$/.test(slice) ? new Date(`${slice}T00:00:00`) : null;
  if (!date) return slice;
  const year = date.getFullYear() === new Date().getFullYear() ? "" : ` ${date.getFullYear()}`;
  return dayName.format(date) + year;
}

/** `in 12 min`, `in 3 h`, `in 2 days`. */
export function until(iso: string, now = Date.now()): string {
  const minutes = Math.ceil((Date.parse(iso) - now) / 60_000);
  if (minutes <= 0) return "now";
  if (minutes < 90) return `in ${minutes} min`;
  return minutes < 48 * 60 ? `in ${Math.round(minutes / 60)} h` : `in ${Math.round(minutes / 1440)} days`;
}

export function seconds(from: string | null, to: string | null): string {
  if (!from || !to) return "–";
  const span = (Date.parse(to) - Date.parse(from)) / 1000;
  return span < 60 ? `${span.toFixed(1)} s` : `${Math.floor(span / 60)} min ${Math.round(span % 60)} s`;
}

/** `1 row`, `3 rows`, `1,204 rows`. */
export function counted(count: string | number, one: string, many = `${one}s`): string {
  return `${grouped(String(count))} ${String(count) === "1" ? one : many}`;
}
