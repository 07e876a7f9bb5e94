import { warehouseFor } from "@undercoat/engine/warehouse/registry";
import { QueryTypes } from "sequelize";
import type { Store } from "../store/store.ts";
import { forgetLost } from "./workers.ts";

/** For how long things are kept, as ISO 8601 durations. */
export interface Keeping {
  /** runs that have ended, with their proofs; and in warehouses tallies, and rejected rows that have left the list */
  runs: string;
  /** what runs told line by line, with the SQL */
  lines: string;
}

/** Rows that one statement takes away, so that nobody waits for it. */
const atOnce = 2000;

/** Each takes some rows away and gives their number; asked again until it finds no more. */
const steps: Record<string, (keeping: Keeping) => { sql: string; keep: string }> = {
  lines: ({ lines }) => ({
    sql: `DELETE FROM run_lines WHERE ctid = ANY (ARRAY(SELECT n.ctid FROM run_lines n JOIN runs r ON r.id = n.run_id WHERE r.finished_at < now() - :keep::interval LIMIT ${atOnce}))`,
    keep: lines,
  }),
  // What the ledger stands on stays: of each load the latest outcome, and the latest proofs.
  runs: ({ runs }) => ({
    sql: `DELETE FROM runs WHERE id IN (SELECT r.id FROM runs r WHERE r.finished_at < now() - :keep::interval AND r.status NOT IN ('queued', 'running', 'unknown')
      AND NOT EXISTS (SELECT 1 FROM standings s WHERE r.id IN (s.run_id, s.proof_run_id, s.whole_run_id)) ORDER BY r.id LIMIT ${Math.round(atOnce / 10)})`,
    keep: runs,
  }),
  backfills: ({ runs }) => ({
    sql: `DELETE FROM backfills WHERE finished_at < now() - :keep::interval`,
    keep: runs,
  }),
  deliveries: ({ runs }) => ({
    sql: `DELETE FROM deliveries WHERE id IN (SELECT id FROM deliveries WHERE status <> 'waiting' AND created_at < now() - :keep::interval ORDER BY id LIMIT ${atOnce})`,
    keep: runs,
  }),
  passes: ({ runs }) => ({
    sql: `DELETE FROM passes WHERE id IN (SELECT id FROM passes WHERE expires_at < now() - least(:keep::interval, interval '30 days') LIMIT ${atOnce})`,
    keep: runs,
  }),
  standings: ({ runs }) => ({
    sql: `DELETE FROM standings s WHERE NOT EXISTS (SELECT 1 FROM pipelines p WHERE p.name = s.pipeline AND (p.definition -> 'loads' -> s.load) IS NOT NULL) AND :keep::interval IS NOT NULL`,
    keep: runs,
  }),
};

/**
 * Takes away what has been kept long enough, in small steps, here and in the warehouses; one process at a time does.
 * @returns how many rows went, by what they were; null where another process is at it
 */
export async function prune(
  store: Store,
  keeping: Keeping,
  failed: (error: unknown) => void = () => undefined,
): Promise<Record<string, number> | null> {
  return store.alone("prune", async () => {
    const gone: Record<string, number> = {};
    for (const [name, step] of Object.entries(steps)) {
      const { sql, keep } = step(keeping);
      gone[name] = 0;
      for (;;) {
        const [, rows] = (await store.sequelize.query(sql, { replacements: { keep }, type: QueryTypes.RAW })) as [
          unknown,
          { rowCount?: number },
        ];
        gone[name] += rows.rowCount ?? 0;
        if (!rows.rowCount || name === "standings") break;
      }
    }
    await forgetLost();
    const warehouses = await store.warehouses();
    gone["rows in warehouses"] = 0;
    for (const name of warehouses) {
      try {
        gone["rows in warehouses"] += await warehouseFor(await store.credentials(name)).prune(keeping.runs);
      } catch (error) {
        failed(error);
      }
    }
    return gone;
  });
}
