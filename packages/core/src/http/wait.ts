/** How long to wait before an application is asked again; all in milliseconds. */

type Headers = Readonly<Record<string, string | undefined>>;

/** What a header `Retry-After` asks for (RFC 9110, section 10.2.3): seconds, or a date; null where it says nothing of either kind. */
export function retryAfter(header: string | undefined, now: number): number | null {
  if (header === undefined) return null;
  if (/^\d{1,9}$/.test(header.trim())) return Number(header.trim()) * 1000;
  const at = Date.parse(header);
  return Number.isNaN(at) ? null : Math.max(0, at - now);
}

const numberIn = (text: string | undefined) => {
  const found = /^\s*(\d{1,15}(?:\.\d+)?)/.exec(text ?? "")?.[1];
  return found === undefined ? null : Number(found);
};

/** A reset further away than this, in seconds, is a moment since 1970. */
const longestReset = 10_000_000;

/** What headers tell of a limit of requests: how many are left, and how long until there are more. Null where they don't. */
export function allowance(headers: Headers, now: number): { left: number; resets: number | null } | null {
  const left = numberIn(headers["ratelimit-remaining"] ?? headers["x-ratelimit-remaining"]);
  if (left === null) return null;
  const reset = numberIn(headers["ratelimit-reset"] ?? headers["x-ratelimit-reset"]);
  if (reset === null) return { left, resets: null };
  return { left, resets: Math.max(0, reset > longestReset ? reset * 1000 - now : reset * 1000) };
}

/** Growing waits between tries, the first half a second, none longer than half a minute; `spread` from 0 to 1 keeps many from asking at once. */
export const growingWait = (tries: number, spread: number) => Math.min(30_000, 500 * 2 ** tries) * (0.75 + spread / 2);
