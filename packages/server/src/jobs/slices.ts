import type { Transaction } from "sequelize";
import { BackfillSliceRow, type RunRow } from "../store/models.ts";

/** Notes in the transaction that ends a run what became of the backfill's slice that it was. */
export async function noteSlice(run: RunRow, transaction: Transaction): Promise<void> {
  if (run.backfill === null) return;
  // A worker that was stopped has said nothing about the slice.
  const stopped = /^The worker (was )?stopped/.test(run.failure?.message ?? "");
  await BackfillSliceRow.update(
    { status: run.status === "finished" ? "finished" : stopped ? "waiting" : "failed" },
    { where: { runId: run.id, status: "running" }, transaction },
  );
}
