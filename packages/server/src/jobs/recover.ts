import { noFindings } from "@undercoat/core/run/run";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";
import { Op } from "sequelize";
import { RunLoadRow, RunRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { endLoad, finishLoad } from "./execute.ts";

/** A run whose worker has not been seen for so long has lost it, in milliseconds. */
export const lostAfter = 15_000;

/**
 * Ends the runs whose worker is gone. A load that had committed is told from its tally in the warehouse and counts as
 * finished; the others failed, and the warehouse has already undone them.
 * @param worker only this worker's runs, known to be dead; else those of every worker not seen lately
 */
export async function recoverRuns(store: Store, worker?: string): Promise<number> {
  const lost = await RunRow.findAll({
    where: { status: "running", ...(worker ? { worker } : { seenAt: { [Op.lt]: new Date(Date.now() - lostAfter) } }) },
  });
  for (const run of lost) await recoverRun(store, run);
  return lost.length;
}

async function recoverRun(store: Store, run: RunRow): Promise<void> {
  const open = await RunLoadRow.findAll({ where: { runId: run.id, status: ["running", "queued"] } });
  const tallies = await warehouseFor(await store.credentials(run.definition.warehouse))
    .tallies(run.uid)
    .catch(() => new Map());
  const failure = {
    message: "The worker stopped before the load was done",
    hint: "The warehouse is as it was before this load. Run again.",
  };
  for (const load of open) {
    const committed = run.kind === "prove" || run.kind === "rehearse" ? undefined : tallies.get(load.load);
    if (committed)
      await finishLoad(store, run, load, {
        ...committed,
        findings: noFindings,
        proof: { ...committed.proof, whole: false },
      });
    else await endLoad(load, { status: "failed", failure });
  }
  const failed = open.some((load) => load.status === "failed");
  await run.update({
    status: failed ? "failed" : "finished",
    finishedAt: new Date(),
    failure: failed ? failure : null,
  });
  await store.tell({ kind: "run", run: run.id, pipeline: run.pipeline, status: run.status });
}
