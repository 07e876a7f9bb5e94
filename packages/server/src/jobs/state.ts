import type { RowDifferences } from "@undercoat/core/proof/difference";
import { type Failure, isOpen, type LoadProof, type RunStatus } from "@undercoat/core/run/run";
import type { LoadOutcome } from "@undercoat/engine/load/load";
import { type InferAttributes, QueryTypes, type Transaction } from "sequelize";
import { tellRun } from "../messages/tell.ts";
import { RunLoadRow, RunRow, TargetRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { type Lease, putOff, whileHeld } from "./lease.ts";
import { keepProof } from "./proofs.ts";
import { noteSlice } from "./slices.ts";
import { stand } from "./standing.ts";

/**
 * The one place that changes what a run and its loads are said to be. Whoever holds the run writes, in one transaction
 * with everything that belongs to the change; what is told to the pages is heard when it commits.
 */
const open: RunStatus[] = ["queued", "running", "unknown"];

/** Writes a load's new state, and how the load stands by it, if it has not ended before; false where it has. */
async function change(
  row: RunLoadRow,
  values: Partial<InferAttributes<RunLoadRow>>,
  transaction: Transaction,
): Promise<boolean> {
  const [changed] = await RunLoadRow.update(values, { where: { id: row.id, status: open }, transaction });
  if (changed === 0) return false;
  if (values.status === undefined || isOpen(values.status)) return true;
  const run = await RunRow.findByPk(row.runId, {
    attributes: ["pipeline", "title", "kind", "definition"],
    transaction,
    rejectOnEmpty: true,
  });
  if (run.kind === "load" || run.kind === "repair")
    await stand(
      {
        pipeline: run.pipeline,
        load: row.load,
        line: row.line,
        runId: row.runId,
        status: values.status,
        failure: values.failure ?? null,
        endedAt: values.finishedAt ?? new Date(),
        ...(values.status === "finished" ? { loadedAt: new Date(), rejected: values.tally?.rejected ?? "0" } : {}),
      },
      transaction,
    );
  if (values.status === "finished" && (run.kind === "load" || run.kind === "repair"))
    await TargetRow.upsert(
      { connection: run.definition.warehouse, target: row.target, title: run.title, loadedAt: new Date() },
      { transaction },
    );
  return true;
}

export async function beginLoad(store: Store, lease: Lease, row: RunLoadRow): Promise<void> {
  const values = { status: "running" as const, startedAt: new Date(), waitingFor: null };
  await whileHeld(store, lease, (transaction) => change(row, values, transaction));
  row.set(values);
}

/** Ends a load. @throws LeaseLost */
export async function endLoad(
  store: Store,
  lease: Lease,
  row: RunLoadRow,
  values: Partial<InferAttributes<RunLoadRow>> & { status: RunStatus },
): Promise<void> {
  const ended = { ...values, phase: null, waitingFor: null, finishedAt: new Date() };
  await whileHeld(store, lease, (transaction) => change(row, ended, transaction));
  row.set(ended);
}

/** Says what a load waits for before it can begin. */
export async function holdLoad(store: Store, lease: Lease, row: RunLoadRow, waitingFor: string): Promise<void> {
  await whileHeld(store, lease, (transaction) => change(row, { waitingFor }, transaction));
  row.set({ waitingFor });
}

/** Notes of a load that nobody knows yet whether it has committed, and why. */
export async function doubtLoad(store: Store, lease: Lease, row: RunLoadRow, failure: Failure): Promise<void> {
  const values = { status: "unknown" as const, phase: null, failure };
  await whileHeld(store, lease, (transaction) => change(row, values, transaction));
  row.set(values);
}

/** Ends a load with a proof, which is kept only where the load had not ended before. */
async function endWithProof(
  store: Store,
  lease: Lease,
  { run, row, proof, rows }: { run: RunRow; row: RunLoadRow; proof: LoadProof; rows: RowDifferences | null },
  values: Partial<InferAttributes<RunLoadRow>>,
): Promise<void> {
  const ended = {
    ...values,
    status: "finished" as const,
    phase: null,
    waitingFor: null,
    failure: null,
    finishedAt: new Date(),
  };
  await whileHeld(store, lease, async (transaction) => {
    if (!(await change(row, ended, transaction))) return;
    const kept = await keepProof(store, run, row, { proof, rows }, transaction);
    await RunLoadRow.update({ proofId: kept.id }, { where: { id: row.id }, transaction });
  });
  row.set(ended);
}

export function endProof(
  store: Store,
  lease: Lease,
  run: RunRow,
  row: RunLoadRow,
  proof: LoadProof,
  rows: RowDifferences | null,
): Promise<void> {
  return endWithProof(store, lease, { run, row, proof, rows }, {});
}

/** Notes a load that has committed. Done again for the same load it changes nothing, and keeps no second proof. */
export function finishLoad(
  store: Store,
  lease: Lease,
  run: RunRow,
  row: RunLoadRow,
  outcome: Omit<LoadOutcome, "phases" | "bytes" | "findings"> & Partial<LoadOutcome>,
): Promise<void> {
  const { tally, watermark, findings, bytes, phases } = outcome;
  return endWithProof(
    store,
    lease,
    { run, row, proof: outcome.proof, rows: null },
    {
      tally,
      watermark,
      ...(findings ? { findings } : {}),
      ...(bytes === undefined ? {} : { bytes: String(bytes) }),
      ...(phases ? { phases } : {}),
    },
  );
}

/**
 * Ends a run by what its loads came to; one of whose loads nothing is known yet stays open, and its warehouse is asked
 * again after a while.
 */
export async function endRun(store: Store, lease: Lease): Promise<RunStatus> {
  return whileHeld(store, lease, async (transaction) => {
    const run = await RunRow.findByPk(lease.run, { rejectOnEmpty: true, transaction });
    const loads = await RunLoadRow.findAll({ where: { runId: run.id }, order: ["id"], transaction });
    const statuses = new Set(loads.map((load) => load.status));
    const unknown = loads.some((load) => isOpen(load.status));
    const status: RunStatus = unknown
      ? "unknown"
      : statuses.has("failed")
        ? "failed"
        : statuses.has("cancelled")
          ? "cancelled"
          : "finished";
    const told = loads.find((load) => load.status === status && load.failure);
    await run.update(
      { status, finishedAt: unknown ? null : new Date(), failure: told?.failure ?? null },
      { transaction },
    );
    if (unknown) await putOff(store, lease, transaction);
    else {
      await startFollowers(store, run, loads, transaction);
      await noteSlice(run, transaction);
      await tellRun(store, run, loads, transaction);
    }
    await store.tell({ kind: "run", run: run.id, pipeline: run.pipeline, status }, transaction);
    return status;
  });
}

/**
 * Makes the schedules due that follow a pipeline: those of its end, and where every proof held those of its having been
 * proved. Runs that were asked for together have ended with the last of them.
 */
async function startFollowers(store: Store, run: RunRow, loads: RunLoadRow[], transaction: Transaction): Promise<void> {
  if (run.status !== "finished" || !["due", "whole"].includes(run.scope.kind) || !["load", "prove"].includes(run.kind))
    return;
  const [{ open = 0, unproved = 0 } = {}] = await store.sequelize.query<{ open: number; unproved: number }>(
    `SELECT count(*) FILTER (WHERE r.status <> 'finished')::int AS open,
       count(*) FILTER (WHERE EXISTS (SELECT 1 FROM run_loads l LEFT JOIN proofs p ON p.id = l.proof_id WHERE l.run_id = r.id AND p.verdict IS DISTINCT FROM 'proved'))::int AS unproved
     FROM runs r WHERE r.id = :run OR r.heading = :heading`,
    { replacements: { run: run.id, heading: run.heading ?? 0 }, transaction, type: QueryTypes.SELECT },
  );
  // A part of a pipeline that somebody runs by hand is not the pipeline.
  if (open > 0 || loads.length < Object.keys(run.definition.loads).length) return;
  await store.sequelize.query(
    `UPDATE timers SET next_at = now() WHERE "after" = :pipeline AND CASE WHEN proved THEN :proved ELSE :loads END`,
    {
      replacements: { pipeline: run.pipeline, proved: unproved === 0, loads: run.kind === "load" },
      transaction,
    },
  );
}

/**
 * Notes that somebody wants a run cancelled. One that waits ends at once; of one that runs its worker hears, now or with
 * its next beat; one of which nothing is known yet is given up, which is said of it.
 * @returns false where it has ended already
 */
export async function cancelRun(store: Store, id: number, by: string): Promise<boolean> {
  return store.sequelize.transaction(async (transaction) => {
    const run = await RunRow.findByPk(id, { lock: transaction.LOCK.UPDATE, transaction, rejectOnEmpty: true });
    if (!isOpen(run.status)) return false;
    const asked = { cancelAskedAt: new Date(), cancelledBy: by };
    if (run.status === "running") {
      await run.update(asked, { transaction });
      await store.askToCancel(id, transaction);
      return true;
    }
    const ended = { phase: null, waitingFor: null, finishedAt: new Date() };
    const failure = {
      message: `Given up by ${by}: whether it had committed was never known`,
      hint: "Prove the table to see what it holds, or run again.",
    };
    const left = await RunLoadRow.findAll({ where: { runId: id, status: open }, order: ["id"], transaction });
    const unknown = left.some((load) => load.status !== "queued");
    for (const load of left)
      await change(
        load,
        load.status === "queued" ? { status: "cancelled", ...ended } : { status: "failed", failure, ...ended },
        transaction,
      );
    const status = unknown ? "failed" : "cancelled";
    await run.update(
      { ...asked, status, finishedAt: new Date(), failure: unknown ? failure : null, token: null },
      { transaction },
    );
    await noteSlice(run, transaction);
    if (unknown)
      await tellRun(store, run, await RunLoadRow.findAll({ where: { runId: id }, transaction }), transaction);
    await store.tell({ kind: "run", run: id, pipeline: run.pipeline, status }, transaction);
    return true;
  });
}
