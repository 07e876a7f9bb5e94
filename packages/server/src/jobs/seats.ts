import { QueryTypes } from "sequelize";
import { ConnectionRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { type Lease, whileHeld } from "./lease.ts";

/** Loads that one connection takes part in at a time, where it does not say. */
export const usualParallel = 4;

/**
 * Takes a seat for a load at each of its connections, or none: the limits hold over all runs and workers together. The
 * seats of a run whose lease has run out are free.
 * @returns the connection that has no seat left; null where the load has its seats
 */
export function takeSeats(store: Store, lease: Lease, load: string, connections: string[]): Promise<string | null> {
  return whileHeld(store, lease, async (transaction) => {
    // In one order for all, so that nobody waits for who waits for them.
    const rows = await ConnectionRow.findAll({
      where: { name: connections },
      order: ["name"],
      lock: transaction.LOCK.UPDATE,
      transaction,
    });
    const taken = await store.sequelize.query<{ connection: string; seats: string }>(
      "SELECT s.connection, count(*) AS seats FROM seats s JOIN runs r ON r.id = s.run_id WHERE s.connection IN (:connections) AND r.status = 'running' AND r.lease_until > now() GROUP BY s.connection",
      { replacements: { connections }, transaction, type: QueryTypes.SELECT },
    );
    const full = rows.find(
      (row) =>
        Number(taken.find((entry) => entry.connection === row.name)?.seats ?? 0) >=
        (row.settings.parallel ?? usualParallel),
    );
    if (full) return full.name;
    for (const { name } of rows)
      await store.sequelize.query(
        "INSERT INTO seats (connection, run_id, load) VALUES (:name, :run, :load) ON CONFLICT DO NOTHING",
        { replacements: { name, run: lease.run, load }, transaction },
      );
    return null;
  });
}

/** Gives a load's seats back; without a load all of the run's. */
export async function leaveSeats(store: Store, run: number, load?: string): Promise<void> {
  await store.sequelize.query(`DELETE FROM seats WHERE run_id = :run${load === undefined ? "" : " AND load = :load"}`, {
    replacements: { run, load },
  });
}
