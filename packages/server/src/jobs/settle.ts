import { failureOf } from "@undercoat/engine/failure";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";
import type { RunLoadRow, RunRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import type { Lease } from "./lease.ts";
import { doubtLoad, finishLoad } from "./state.ts";

/**
 * Asks the warehouse what some loads of a run have committed: those that have are finished, the others end as `undone`
 * says, and can't commit any more. Where it does not answer, that is what is known of them.
 */
export async function settleLoads(
  store: Store,
  lease: Lease,
  run: RunRow,
  loads: RunLoadRow[],
  undone: (load: RunLoadRow) => Promise<void>,
): Promise<void> {
  if (loads.length === 0) return;
  const warehouse = run.definition.warehouse;
  const asked = loads.map(({ load, target }) => ({ pipeline: run.pipeline, load, target }));
  const settled = await store
    .credentials(warehouse)
    .then((credentials) => warehouseFor(credentials).settle(run.uid, asked))
    .catch((error: unknown) => failureOf(error, { name: warehouse }));
  for (const load of loads) {
    if ("message" in settled) {
      const failure = {
        message: `Whether it has committed is not known yet: ${settled.message}`,
        hint: "The warehouse is asked again until it answers.",
      };
      await doubtLoad(store, lease, load, failure);
      continue;
    }
    const committed = settled.get(load.load);
    if (committed)
      await finishLoad(store, lease, run, load, { ...committed, proof: { ...committed.proof, whole: false } });
    else await undone(load);
  }
}
