/** Counts failed sign-ins by account and address; five in a quarter of an hour close the door for the rest of it. */
const most = 5;
const window = 15 * 60_000;

const failures = new Map<string, number[]>();

function recent(name: string, now: number): number[] {
  return (failures.get(name) ?? []).filter((at) => now - at < window);
}

/** Seconds until another try is taken; 0 when it may be made now. */
export function waitBefore(name: string, now = Date.now()): number {
  const tries = recent(name, now);
  return tries.length < most ? 0 : Math.ceil(((tries[0] ?? now) + window - now) / 1000);
}

export function noteFailure(name: string, now = Date.now()): void {
  failures.set(name, [...recent(name, now), now]);
  if (failures.size > 10_000) for (const key of failures.keys()) if (recent(key, now).length === 0) failures.delete(key);
}

export function forgetFailures(name: string): void {
  failures.delete(name);
}
