import { RunLoadRow, RunRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { type Lease, takeLostRun } from "./lease.ts";
import { leaveSeats } from "./seats.ts";
import { settleLoads } from "./settle.ts";
import { endLoad, endRun } from "./state.ts";

const failure = {
  message: "The worker stopped before the load was done",
  hint: "The warehouse is as it was before this load. Run again.",
};

/**
 * Ends the runs whose worker is gone, each by one who looks. A load that had committed is told from its tally in the
 * warehouse and counts as finished; the others failed, and the warehouse has already undone them. Of one whose warehouse
 * does not answer that is said, and it is asked again.
 * @param failed told of each run that could not be seen to, which does not keep the others from being
 */
export async function recoverRuns(
  store: Store,
  worker: string,
  failed: (error: unknown) => void = () => undefined,
): Promise<number> {
  for (let recovered = 0; ; recovered++) {
    const lease = await takeLostRun(store, worker);
    if (!lease) return recovered;
    await recoverRun(store, lease).catch(failed);
  }
}

async function recoverRun(store: Store, lease: Lease): Promise<void> {
  const run = await RunRow.findByPk(lease.run, { rejectOnEmpty: true });
  const loads = await RunLoadRow.findAll({
    where: { runId: run.id, status: ["running", "unknown", "queued"] },
    order: ["id"],
  });
  const writes = run.kind === "load" || run.kind === "repair";
  const undone = (load: RunLoadRow) =>
    endLoad(
      store,
      lease,
      load,
      run.cancelAskedAt ? { status: "cancelled", failure: null } : { status: "failed", failure },
    );
  const begun = loads.filter((load) => writes && load.status !== "queued");
  for (const load of loads) if (!begun.includes(load)) await undone(load);
  await settleLoads(store, lease, run, begun, undone);
  await leaveSeats(store, run.id);
  await endRun(store, lease);
}
