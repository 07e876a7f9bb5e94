import { durationSeconds } from "./duration.ts";

/** How often a table is compared cell by cell on its own, where its load does not say. */
const usually = "P1D";

/** The hours of a day at which comparing a whole table disturbs nobody: from (included) to (excluded). */
const quiet = { from: 1, to: 5 };

/** A slice's last comparison, in milliseconds since the epoch; null where there was none. */
export interface Compared {
  cellsAt: number | null;
  /** when its figures were last compared */
  provedAt: number;
}

function hourIn(zone: string, now: number): number {
  return Number(new Intl.DateTimeFormat("en-GB", { timeZone: zone, hour: "2-digit", hourCycle: "h23" }).format(now));
}

/**
 * True where it is time to compare a slice cell by cell: when `cells` (an ISO 8601 duration, or `never`) has passed, at a
 * quiet hour of the zone; by day only what has missed a whole turn.
 */
export function cellsDue(
  cells: string | undefined,
  { cellsAt, provedAt }: Compared,
  zone: string,
  now: number,
): boolean {
  if (cells === "never") return false;
  const every = durationSeconds(cells ?? usually) * 1000;
  const since = now - (cellsAt ?? provedAt);
  const hour = hourIn(zone, now);
  if (hour < quiet.from || hour >= quiet.to) return since >= 2 * every;
  return cellsAt === null || since >= every;
}
