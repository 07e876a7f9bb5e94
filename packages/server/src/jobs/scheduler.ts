import type { Scope } from "@undercoat/core/run/run";
import { cellsDue } from "@undercoat/core/schedule/cells";
import { nextTimes } from "@undercoat/core/schedule/schedule";
import { Op } from "sequelize";
import { PipelineRow, RunRow, SliceRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import type { Queue } from "./queue.ts";
import { newTablesOf, requestRun } from "./runs.ts";

/** How often the clock is looked at, in milliseconds. */
const tick = 1000;
/** Ticks between two looks for tables to compare cell by cell. */
const cellsEvery = 60;
/** Rows that one comparison cell by cell takes on, so that a load that comes meanwhile waits for moments. */
const rowsAtOnce = 500_000;
const slicesAtOnce = 1000;

/**
 * Starts runs when they are due. Any number of processes may do so: taking a due pipeline moves its next time on in the
 * same statement, so exactly one gets it. Times missed while nothing ran make one run, because the next time is reckoned from now.
 */
export function startScheduler(
  store: Store,
  queue: Queue,
  failed: (error: unknown) => void = () => undefined,
): { stop: () => void } {
  let busy = false;
  let ticks = 0;
  const timer = setInterval(() => {
    if (busy) return;
    busy = true;
    startDue(store, queue, Date.now(), failed)
      .then((started) =>
        started.length === 0 && ticks++ % cellsEvery === cellsEvery - 1
          ? startCellProofs(store, queue, Date.now())
          : null,
      )
      .catch(failed)
      .finally(() => {
        busy = false;
      });
  }, tick);
  return { stop: () => clearInterval(timer) };
}

/** Starts every pipeline due at `now` (milliseconds since the epoch); returns their names. One that can't be started stays due. */
export async function startDue(
  store: Store,
  queue: Queue,
  now: number,
  failed: (error: unknown) => void = () => undefined,
): Promise<string[]> {
  const due = await PipelineRow.findAll({ where: { nextAt: { [Op.lte]: new Date(now) } }, attributes: ["name"] });
  const started: string[] = [];
  for (const { name } of due) {
    try {
      if (await startOne(store, queue, name, now)) started.push(name);
    } catch (error) {
      failed(error);
    }
  }
  return started;
}

/** Starts a pipeline that is due and moves its next time on, both or neither; false where another has done so. */
async function startOne(store: Store, queue: Queue, name: string, now: number): Promise<boolean> {
  const seen = await PipelineRow.findByPk(name);
  // A source is not asked for new tables while the pipeline is held.
  const joining = seen?.definition.joins ? await newTablesOf(store, seen) : null;
  return store.sequelize.transaction(async (transaction) => {
    const [pipeline] = await PipelineRow.findAll({
      where: { name, nextAt: { [Op.lte]: new Date(now) } },
      lock: transaction.LOCK.UPDATE,
      skipLocked: true,
      transaction,
    });
    if (!pipeline?.nextAt) return false;
    const { schedule } = pipeline.definition;
    const late = now - pipeline.nextAt.getTime() > 60_000;
    const next = schedule ? nextTimes(schedule, now)[0] : undefined;
    await pipeline.update({ nextAt: next === undefined ? null : new Date(next) }, { transaction });
    if (!schedule || schedule.paused) return false;
    await requestRun(
      store,
      queue,
      {
        pipeline: name,
        kind: "load",
        scope: { kind: "due" },
        reason: late ? "on schedule, after downtime" : "on schedule",
        requestedBy: null,
      },
      { transaction, joining },
    );
    return true;
  });
}

/** Why such a proof runs, as its page says. */
const byItself = "every cell, by itself";

/** A part of a table that is compared cell by cell on its own. */
export interface CellProof {
  pipeline: string;
  load: string;
  slices: (string | null)[];
}

/**
 * Starts one comparison cell by cell of what is longest due for it, some slices at a time: what is left is taken next
 * time, so that it goes on where it was stopped. It gives way to everything else: nothing is started while anything runs.
 */
export async function startCellProofs(store: Store, queue: Queue, now: number): Promise<CellProof | null> {
  return store.sequelize.transaction(async (transaction) => {
    const [lock] = (
      await store.sequelize.query("SELECT pg_try_advisory_xact_lock(1970169957, 2) AS taken", { transaction })
    )[0] as { taken: boolean }[];
    if (!lock?.taken || (await RunRow.count({ where: { status: ["queued", "running"] }, transaction }))) return null;
    const failed = await RunRow.findAll({
      where: { reason: byItself, status: "failed", createdAt: { [Op.gt]: new Date(now - 3_600_000) } },
      attributes: ["pipeline"],
    });
    const skipped = new Set(failed.map((run) => run.pipeline));
    const marks = await SliceRow.findAll({ order: [["cellsAt", "ASC NULLS FIRST"]] });
    for (const { name, definition } of await PipelineRow.findAll({ order: ["name"] })) {
      if (skipped.has(name)) continue;
      const lines = [null, ...Object.keys(definition.values ?? {})];
      for (const [load, set] of Object.keys(definition.loads).flatMap((load) =>
        lines.map((set): [string, string | null] => [load, set]),
      )) {
        const proof = definition.loads[load]?.proof;
        const mine = marks.filter((mark) => mark.pipeline === name && mark.load === load && mark.line === (set ?? ""));
        const due = mine.filter((mark) =>
          cellsDue(
            proof?.cells,
            { cellsAt: mark.cellsAt?.getTime() ?? null, provedAt: mark.provedAt.getTime() },
            definition.schedule?.zone ?? "UTC",
            now,
          ),
        );
        if (due.length === 0) continue;
        const taken = firstRows(due);
        const slices = taken.map((mark) => mark.slice || null);
        // All of a table at once also finds rows of slices that it has not known.
        const scope: Scope = taken.length === mine.length ? { kind: "due" } : { kind: "slices", slices };
        await requestRun(
          store,
          queue,
          {
            pipeline: name,
            kind: "prove",
            loads: [load],
            scope,
            wantsRows: true,
            reason: byItself,
            requestedBy: null,
            given: { set },
          },
          { transaction },
        );
        return { pipeline: name, load, slices };
      }
    }
    return null;
  });
}

/** The first of some slices, as many as one comparison takes on; one at least. */
function firstRows(due: SliceRow[]): SliceRow[] {
  let rows = 0;
  const fitting = due.slice(0, slicesAtOnce).filter((mark) => {
    rows += Number(mark.figures.find((pair) => pair.figure === "rows")?.source ?? 0);
    return rows <= rowsAtOnce;
  });
  return fitting.length ? fitting : due.slice(0, 1);
}
