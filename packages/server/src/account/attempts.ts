/** How many failed tries make the next one wait, and how long failures are remembered. */
interface Limit {
  free: number;
  /** milliseconds that the first wait lasts; each further failure doubles it */
  first: number;
  longest: number;
}

/** Somebody who guesses one account's password from one address; everybody at one address; everybody at one account, who must not be kept out by strangers for long. */
const limits = {
  pair: { free: 5, first: 30_000, longest: 15 * 60_000 },
  address: { free: 20, first: 10_000, longest: 15 * 60_000 },
  account: { free: 20, first: 1000, longest: 5000 },
} satisfies Record<string, Limit>;

const memory = 15 * 60_000;
const mostKept = 10_000;

interface Failures {
  count: number;
  last: number;
}

const failures = new Map<string, Failures>();

function keysOf(account: string, address: string): [string, Limit][] {
  return [
    [`pair ${account} ${address}`, limits.pair],
    [`address ${address}`, limits.address],
    [`account ${account}`, limits.account],
  ];
}

function waitOf({ count, last }: Failures, { free, first, longest }: Limit, now: number): number {
  if (count < free) return 0;
  return Math.max(0, last + Math.min(longest, first * 2 ** Math.min(count - free, 20)) - now);
}

/**
 * Counts a try before it is made, so that many at once count as many.
 * @returns seconds until a try is taken; 0 when this one may be made now, and has been counted
 */
export function beginTry(account: string, address: string, now = Date.now()): number {
  const kept = keysOf(account, address).map(([key, limit]) => {
    const known = failures.get(key);
    return { key, limit, known: known && now - known.last < memory ? known : { count: 0, last: 0 } };
  });
  const wait = Math.max(...kept.map(({ known, limit }) => waitOf(known, limit, now)));
  if (wait > 0) return Math.ceil(wait / 1000);
  for (const { key, known } of kept) {
    failures.delete(key);
    failures.set(key, { count: known.count + 1, last: now });
  }
  // The table is bounded: the longest unheard-of leave it first.
  for (const key of failures.keys()) {
    if (failures.size <= mostKept) break;
    failures.delete(key);
  }
  return 0;
}

/** Forgets the tries of somebody who has shown to be who they say. */
export function passTry(account: string, address: string): void {
  failures.delete(`pair ${account} ${address}`);
  for (const key of [`address ${address}`, `account ${account}`]) {
    const known = failures.get(key);
    if (known) known.count = Math.max(0, known.count - 1);
  }
}
