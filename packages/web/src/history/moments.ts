import { millisecondsOf } from "@undercoat/core/history/lifeline";

/** Moments of versions as they are told, in this zone. */
export const dayTime = new Intl.DateTimeFormat("en-GB", {
  day: "numeric",
  month: "short",
  year: "numeric",
  hour: "2-digit",
  minute: "2-digit",
});

/** A moment as the warehouse prints it; one that is none says so. */
export function momentWords(text: string): string {
  const at = millisecondsOf(text);
  return Number.isFinite(at) ? dayTime.format(at) : text === "-infinity" ? "always" : "never";
}
