import { QueryTypes, type Transaction } from "sequelize";
import { RunRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";

/**
 * A worker's right to say what becomes of a run. It lasts for a while by the database's clock and is renewed by a beat;
 * whoever takes a run over gets another token, and from then on the earlier one counts for nothing.
 */
export interface Lease {
  run: number;
  token: string;
}

/** For how long a worker need not be heard of, in seconds. */
export const leaseSeconds = 15;
/** How long the one who takes a lost run over has for it. */
const takenSeconds = 60;
/** How long a warehouse that did not answer is left alone: twice as long after each time, up to ten minutes. */
const firstPause = 2;
const longestPause = 600;

/** Another has taken the run: nothing that this process knows of it may be written down. */
export class LeaseLost extends Error {
  constructor(run: number) {
    super(`Run ${run} has been taken over`);
  }
}

async function one<T extends object>(
  store: Store,
  sql: string,
  replacements: Record<string, unknown>,
  transaction?: Transaction,
): Promise<T | undefined> {
  const rows = await store.sequelize.query<T>(sql, { replacements, transaction, type: QueryTypes.SELECT });
  return rows[0];
}

/** Takes a queued run to work on; null where it is not queued any more. */
export async function claimRun(
  store: Store,
  run: number,
  worker: string,
  transaction?: Transaction,
): Promise<Lease | null> {
  const taken = await one<{ token: string }>(
    store,
    `UPDATE runs SET status = 'running', worker = :worker, token = gen_random_uuid(), started_at = now(), lease_until = now() + make_interval(secs => ${leaseSeconds})
     WHERE id = :run AND status = 'queued' RETURNING token`,
    { run, worker },
    transaction,
  );
  return taken ? { run, token: taken.token } : null;
}

/** Takes one run over whose lease has run out; null where there is none. Several may look at once: each gets another. */
export async function takeLostRun(store: Store, worker: string): Promise<Lease | null> {
  const taken = await one<{ id: number; token: string }>(
    store,
    `UPDATE runs SET worker = :worker, token = gen_random_uuid(), lease_until = now() + make_interval(secs => ${takenSeconds})
     WHERE id = (SELECT id FROM runs WHERE status IN ('running', 'unknown') AND coalesce(lease_until, '-infinity') < now() ORDER BY lease_until NULLS FIRST, id LIMIT 1 FOR UPDATE SKIP LOCKED)
     RETURNING id, token`,
    { worker },
  );
  return taken ? { run: taken.id, token: taken.token } : null;
}

/** Lets go of the runs of a worker that is known to be dead, so that they are taken over at once. */
export async function releaseRuns(store: Store, worker: string): Promise<void> {
  await store.query("UPDATE runs SET lease_until = now() WHERE worker = :worker AND status = 'running' RETURNING id", {
    worker,
  });
}

/** Puts a run off whose warehouse did not answer; it is asked again, later each time. */
export async function putOff(store: Store, lease: Lease, transaction: Transaction): Promise<void> {
  await one(
    store,
    `UPDATE runs SET asked = asked + 1, lease_until = now() + make_interval(secs => least(${longestPause}, ${firstPause} * power(2, least(asked, 20)))) WHERE id = :run AND token = :token RETURNING id`,
    { ...lease },
    transaction,
  );
}

/** Renews leases. @returns the runs that are still held, and whether somebody asked to cancel them */
export async function renewLeases(store: Store, leases: readonly Lease[]): Promise<Map<number, boolean>> {
  if (leases.length === 0) return new Map();
  const rows = await store.query<{ id: number; cancelled: boolean }>(
    `UPDATE runs SET lease_until = now() + make_interval(secs => ${leaseSeconds})
     WHERE status = 'running' AND token IN (:tokens) RETURNING id, cancel_asked_at IS NOT NULL AS cancelled`,
    { tokens: leases.map((lease) => lease.token) },
  );
  return new Map(rows.map((row) => [row.id, row.cancelled]));
}

/** Writes something down about a run, in one transaction, if it is still held. @throws LeaseLost */
export function whileHeld<T>(store: Store, lease: Lease, work: (transaction: Transaction) => Promise<T>): Promise<T> {
  return store.sequelize.transaction(async (transaction) => {
    const held = await RunRow.findOne({
      where: { id: lease.run, token: lease.token },
      attributes: ["id"],
      lock: transaction.LOCK.UPDATE,
      transaction,
    });
    if (!held) throw new LeaseLost(lease.run);
    return work(transaction);
  });
}
