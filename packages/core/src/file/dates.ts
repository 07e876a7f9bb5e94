/** Dates as people write them, day and month first, told as ISO 8601. */

/** Which number comes first: the day or the month. */
export type DateOrder = "dmy" | "mdy";

const written = /^(\d{1,2})([./-])(\d{1,2})\2(\d{4})(?:[ T](\d{1,2}):(\d{2})(:\d{2})?)?$/;

/** True for a text that looks like a date of either order. */
export const looksLikeDate = (text: string) => written.test(text);

/** A date, or a date with a time, as ISO 8601; null for what is none in this order. */
export function isoDate(text: string, order: DateOrder): string | null {
  const [, first = "", , second = "", year = "", hour, minute, seconds = ""] = written.exec(text) ?? [];
  if (!year) return null;
  const [day, month] = order === "dmy" ? [Number(first), Number(second)] : [Number(second), Number(first)];
  const date = new Date(Date.UTC(Number(year), month - 1, day));
  if (
    date.getUTCMonth() !== month - 1 ||
    date.getUTCDate() !== day ||
    Number(hour ?? 0) > 23 ||
    Number(minute ?? 0) > 59
  )
    return null;
  const two = (value: number) => String(value).padStart(2, "0");
  const iso = `${year}-${two(month)}-${two(day)}`;
  return hour === undefined ? iso : `${iso} ${hour.padStart(2, "0")}:${minute}${seconds}`;
}

/**
 * The order in which all of a column's values are dates; null where they are none, or where it can't be told which number is
 * the day. Points between them stand behind the day.
 * @param said the order that the author has stated
 */
export function dateOrder(values: readonly string[], said?: DateOrder): DateOrder | null {
  if (values.length === 0) return null;
  const all = (order: DateOrder) => values.every((value) => isoDate(value, order) !== null);
  if (said) return all(said) ? said : null;
  const [days, months] = [all("dmy"), all("mdy")];
  if (days && months) return values.every((value) => value.includes(".")) ? "dmy" : null;
  return days ? "dmy" : months ? "mdy" : null;
}
