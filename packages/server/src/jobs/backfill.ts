import type { BackfillView } from "@undercoat/core/api/api";
import { type Given, ResolveError, resolve } from "@undercoat/core/parameter/resolve";
import { takesIntervals } from "@undercoat/core/pipeline/pipeline";
import { overallVerdict, type Verdict } from "@undercoat/core/proof/verdict";
import { addTallies } from "@undercoat/core/run/run";
import { cutInterval, type IntervalUnit } from "@undercoat/core/schedule/intervals";
import { Op, type Transaction } from "sequelize";
import { BackfillRow, BackfillSliceRow, PipelineRow, ProofRow, RunLoadRow, RunRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import type { Queue } from "./queue.ts";
import { RunRefused } from "./refused.ts";
import { requestRun } from "./runs.ts";

/** An earlier interval that somebody wants loaded. */
export interface BackfillRequest {
  pipeline: string;
  /** all that can be cut where null */
  loads: string[] | null;
  given: Given;
  from: string;
  to: string;
  by: IntervalUnit;
  order: "newest" | "oldest";
  /** so many slices at a time */
  parallel: number;
  requestedBy: string | null;
}

/**
 * Begins a backfill; one of the same interval that was left goes on instead, with what had failed tried again.
 * @throws RunRefused, ResolveError
 */
export async function beginBackfill(store: Store, queue: Queue, request: BackfillRequest): Promise<BackfillRow> {
  const pipeline = await PipelineRow.findByPk(request.pipeline);
  if (!pipeline) throw new RunRefused(`There is no pipeline ${request.pipeline}`);
  const { definition } = resolve(pipeline.definition, request.given, Date.now());
  const able = Object.entries(definition.loads).flatMap(([name, load]) => (takesIntervals(load) ? [name] : []));
  const loads = request.loads ?? able;
  const unable = loads.find((load) => !able.includes(load));
  if (unable !== undefined && Object.hasOwn(definition.loads, unable))
    throw new ResolveError([
      {
        path: ["loads"],
        message: `${unable} can't be loaded by intervals: it needs slices or a watermark, and a key`,
      },
    ]);
  if (unable !== undefined) throw new RunRefused(`The pipeline ${request.pipeline} has no load ${unable}`);
  if (loads.length === 0)
    throw new ResolveError([{ path: ["loads"], message: "No load of the pipeline can be loaded by intervals" }]);
  let slices: ReturnType<typeof cutInterval>;
  try {
    slices = cutInterval(request, request.by);
  } catch (error) {
    if (!(error instanceof RangeError)) throw error;
    throw new ResolveError([{ path: ["from"], message: error.message }]);
  }
  const { parallel, requestedBy, ...what } = request;
  const same = { ...what, loads, given: request.given };
  const left = (await BackfillRow.findAll({ where: { pipeline: request.pipeline, status: ["open", "paused"] } })).find(
    (row) =>
      (["from", "to", "by", "order", "loads", "given"] as const).every(
        (name) => JSON.stringify(row[name]) === JSON.stringify(same[name]),
      ),
  );
  const row =
    left ??
    (await store.sequelize.transaction(async (transaction) => {
      const made = await BackfillRow.create(
        { ...same, parallel, requestedBy, status: "open", createdAt: new Date() },
        { transaction },
      );
      await BackfillSliceRow.bulkCreate(
        slices.map((slice) => ({ backfillId: made.id, ...slice, status: "waiting" as const })),
        { transaction },
      );
      return made;
    }));
  if (left) await resumeBackfill(store, left);
  await advanceBackfill(store, queue, row.id);
  return row;
}

/** Lets a backfill go on, and tries again what has failed. */
export async function resumeBackfill(store: Store, row: BackfillRow): Promise<void> {
  await BackfillSliceRow.update({ status: "waiting" }, { where: { backfillId: row.id, status: "failed" } });
  await row.update({ status: "open", problem: null, finishedAt: null });
  await store.tell({ kind: "changed", what: "pipelines" });
}

/** True while something else waits to run: a backfill gives way to it. */
async function waited(transaction: Transaction): Promise<boolean> {
  return (await RunRow.count({ where: { status: "queued", backfill: null }, transaction })) > 0;
}

/**
 * Starts a backfill's next slices, as many as it may have at a time, unless something else waits; ends it when none is
 * left. Any process may do so at any time: what a slice has come to stands in the database alone.
 */
export async function advanceBackfill(store: Store, queue: Queue, id: number): Promise<void> {
  await store.sequelize.transaction(async (transaction) => {
    const row = await BackfillRow.findOne({
      where: { id, status: "open" },
      lock: transaction.LOCK.UPDATE,
      transaction,
    });
    if (!row) return;
    const count = (status: BackfillSliceRow["status"]) =>
      BackfillSliceRow.count({ where: { backfillId: id, status }, transaction });
    const running = await count("running");
    const waiting = await count("waiting");
    if (running + waiting === 0) {
      // What failed is tried again when somebody says so.
      if ((await count("failed")) > 0) return;
      await row.update({ status: "finished", finishedAt: new Date() }, { transaction });
      await store.tell({ kind: "changed", what: "pipelines" }, transaction);
      return;
    }
    if (running >= row.parallel || waiting === 0 || (await waited(transaction))) return;
    const next = await BackfillSliceRow.findAll({
      where: { backfillId: id, status: "waiting" },
      order: [["from", row.order === "newest" ? "DESC" : "ASC"]],
      limit: row.parallel - running,
      transaction,
    });
    for (const slice of next) {
      const run = await requestRun(
        store,
        queue,
        {
          pipeline: row.pipeline,
          kind: "load",
          loads: row.loads,
          scope: { kind: "interval", from: slice.from, to: slice.to },
          given: row.given,
          backfill: id,
          reason: `backfill ${id}`,
          requestedBy: row.requestedBy,
        },
        { transaction },
      );
      await slice.update({ status: "running", runId: run.id }, { transaction });
    }
  });
}

/** Goes on with every backfill that is open; what began where a worker then died goes on with the slice that it left. */
export async function advanceBackfills(store: Store, queue: Queue): Promise<void> {
  for (const { id } of await BackfillRow.findAll({ where: { status: "open" }, attributes: ["id"], order: ["id"] }))
    try {
      await advanceBackfill(store, queue, id);
    } catch (error) {
      // The pipeline is another by now; what is so with this one must not hold the others up.
      if (!(error instanceof RunRefused || error instanceof ResolveError)) throw error;
      await BackfillRow.update({ status: "paused", problem: error.message }, { where: { id } });
      await store.tell({ kind: "changed", what: "pipelines" });
    }
}

/** A backfill with what its slices have come to. */
export async function backfillView(row: BackfillRow): Promise<BackfillView> {
  const slices = await BackfillSliceRow.findAll({ where: { backfillId: row.id }, order: ["from"] });
  const ids = slices.flatMap((slice) => slice.runId ?? []);
  const runs = new Map(
    (
      await RunRow.findAll({ where: { id: ids }, attributes: ["id", "status", "startedAt", "finishedAt", "failure"] })
    ).map((run) => [run.id, run]),
  );
  const loads = await RunLoadRow.findAll({ where: { runId: ids }, attributes: ["runId", "tally"] });
  const proofs = await ProofRow.findAll({ where: { runId: ids }, attributes: ["runId", "verdict"] });
  const verdictOf = (id: number | null): Verdict | null => {
    const known = proofs.filter((proof) => proof.runId === id && proof.verdict !== "unproved");
    if (known.length === 0) return null;
    return overallVerdict(
      known.map(({ verdict }) => ({ slice: null, figures: [], depth: "figures" as const, verdict })),
    );
  };
  const done = slices.filter((slice) => slice.status === "finished");
  const took = done.flatMap((slice) => {
    const run = runs.get(slice.runId ?? 0);
    return run?.startedAt && run.finishedAt ? [run.finishedAt.getTime() - run.startedAt.getTime()] : [];
  });
  const left = slices.filter((slice) => slice.status === "waiting" || slice.status === "running").length;
  const mean = took.length ? took.reduce((sum, one) => sum + one, 0) / took.length / 1000 : null;
  return {
    id: row.id,
    pipeline: row.pipeline,
    loads: row.loads,
    given: row.given,
    from: row.from,
    to: row.to,
    by: row.by,
    order: row.order,
    parallel: row.parallel,
    status: row.status,
    problem: row.problem,
    requestedBy: row.requestedBy,
    createdAt: row.createdAt.toISOString(),
    finishedAt: row.finishedAt?.toISOString() ?? null,
    secondsLeft: mean === null || left === 0 ? null : Math.ceil((mean * left) / row.parallel),
    tally: addTallies(loads.map((load) => load.tally)),
    slices: slices.map((slice) => {
      const run = runs.get(slice.runId ?? 0);
      return {
        from: slice.from,
        to: slice.to,
        status: slice.status,
        run: slice.runId,
        startedAt: run?.startedAt?.toISOString() ?? null,
        finishedAt: run?.finishedAt?.toISOString() ?? null,
        tally: addTallies(loads.filter(({ runId }) => runId === slice.runId).map(({ tally }) => tally)),
        verdict: verdictOf(slice.runId),
        failure: slice.status === "failed" ? (run?.failure ?? null) : null,
      };
    }),
  };
}

/** Ends a backfill where it is: what has been loaded stays, what waits is not loaded. */
export async function cancelBackfill(store: Store, row: BackfillRow): Promise<number[]> {
  await row.update({ status: "cancelled", finishedAt: new Date() });
  const running = await BackfillSliceRow.findAll({
    where: { backfillId: row.id, status: "running", runId: { [Op.ne]: null } },
  });
  await store.tell({ kind: "changed", what: "pipelines" });
  return running.flatMap((slice) => slice.runId ?? []);
}
