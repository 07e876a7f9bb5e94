import { setTimeout as pause } from "node:timers/promises";
import type { WebSettings } from "@undercoat/core/pipeline/pipeline";
import type { RequestsLeft } from "@undercoat/core/run/run";

/** When requests of each connection began, the latest last, in milliseconds; of this process alone. */
const begun = new Map<string, number[]>();

const spans = { minute: 60_000, hour: 3_600_000 } as const;

/** Until when an application has said that it allows no more requests, in milliseconds since 1970. */
const held = new Map<string, number>();

/** Lets no request to an application begin before a moment, which it has asked for. */
export function hold(name: string, until: number): void {
  held.set(name, until);
}

/** How many requests more a connection's own limits let begin now; null where it has no such limit. */
export function ownLeft(name: string, limits: WebSettings["limits"]): Pick<RequestsLeft, "minute" | "hour"> {
  const now = Date.now();
  const left = (unit: keyof typeof spans) => {
    const of = limits?.[unit];
    if (!of) return null;
    const within = (begun.get(name) ?? []).filter((at) => at > now - spans[unit]).length;
    return { left: Math.max(0, of - within), of };
  };
  return { minute: left("minute"), hour: left("hour") };
}

/** Waits until a connection's own limits let a request begin, which then counts; where there is patience, also as long as the application has asked for. */
export async function waitFor(
  name: string,
  limits: WebSettings["limits"],
  { patient, signal, waiting }: { patient?: boolean; signal?: AbortSignal; waiting?: (why: string | null) => void },
): Promise<void> {
  const rest = patient ? (held.get(name) ?? 0) - Date.now() : 0;
  if (rest > 0) {
    waiting?.(`${name} allows no more requests for now; waiting ${Math.ceil(rest / 1000)} s`);
    await pause(rest, undefined, { signal }).finally(() => waiting?.(null));
  }
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
