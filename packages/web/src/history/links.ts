import type { HistoryPlace } from "../api/queries.ts";

/** Where a table's history is looked at, and one key of it. */
export const historyLink = ({ connection, target }: HistoryPlace) =>
  `/warehouse/${encodeURIComponent(connection)}/${encodeURIComponent(target)}`;

export const lifelineLink = (place: HistoryPlace, key: readonly string[]) =>
  `${historyLink(place)}/lifeline?${new URLSearchParams({ key: JSON.stringify(key) })}`;

/** The key that an address names; null where it names none. */
export function keyOf(text: string): string[] | null {
  try {
    const key: unknown = JSON.parse(text);
    return Array.isArray(key) && key.every((part) => typeof part === "string") ? key : null;
  } catch {
    return null;
  }
}
