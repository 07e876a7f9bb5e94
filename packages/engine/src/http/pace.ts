import { setTimeout as pause } from "node:timers/promises";
import type { WebSettings } from "@undercoat/core/pipeline/pipeline";

/** When requests of each connection began, the latest last, in milliseconds; of this process alone. */
const begun = new Map<string, number[]>();

const spans = { minute: 60_000, hour: 3_600_000 } as const;

/** Requests that may begin now, by each limit that is set. */
export function left(
  name: string,
  limits: WebSettings["limits"],
  now = Date.now(),
): { minute?: number; hour?: number } {
  const since = (span: number) => (begun.get(name) ?? []).filter((at) => at > now - span).length;
  return {
    ...(limits?.minute ? { minute: Math.max(0, limits.minute - since(spans.minute)) } : {}),
    ...(limits?.hour ? { hour: Math.max(0, limits.hour - since(spans.hour)) } : {}),
  };
}

/** Waits until a connection's own limits let a request begin, which then counts. */
export async function waitFor(
  name: string,
  limits: WebSettings["limits"],
  { signal, waiting }: { signal?: AbortSignal; waiting?: (why: string | null) => void },
): Promise<void> {
  if (!limits) return;
  for (;;) {
    const now = Date.now();
    const times = (begun.get(name) ?? []).filter((at) => at > now - spans.hour);
    begun.set(name, times);
    const waits = (["minute", "hour"] as const).map((unit) => {
      const most = limits[unit];
      const within = times.filter((at) => at > now - spans[unit]);
      return most && within.length >= most ? (within[within.length - most] ?? now) + spans[unit] - now : 0;
    });
    const wait = Math.max(...waits);
    if (wait <= 0) {
      times.push(now);
      return;
    }
    waiting?.(`the connection's own limit of requests is reached; waiting ${Math.ceil(wait / 1000)} s`);
    await pause(wait, undefined, { signal }).finally(() => waiting?.(null));
  }
}
