import { resolve } from "@undercoat/core/parameter/resolve";
import { type Pipeline, type Schedule, sweeps, takesAway } from "@undercoat/core/pipeline/pipeline";
import type { RunStatus, Scope } from "@undercoat/core/run/run";
import { cellsDue } from "@undercoat/core/schedule/cells";
import { isOpenAt, scheduledGivens, schedulesOf } from "@undercoat/core/schedule/schedule";
import { sourceFor } from "@undercoat/engine/source/registry";
import { Op, QueryTypes, type Transaction } from "sequelize";
import { tellLate } from "../messages/tell.ts";
import { pausedAll } from "../pipelines/pause.ts";
import { dueAfter, noteNext, scheduleOf, setTimers } from "../pipelines/timers.ts";
import { PipelineRow, RunRow, SliceRow, TimerRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { advanceBackfills } from "./backfill.ts";
import type { Queue } from "./queue.ts";
import { newTablesOf, type RunRequest, requestRun, requestRuns } from "./runs.ts";

/** How often the clock is looked at, in milliseconds. */
const tick = 1000;
/** Ticks between two looks for tables to compare cell by cell. */
const cellsEvery = 60;
/** Ticks between two looks for what is late. */
const lateEvery = 20;
/** Rows that one comparison cell by cell takes on, so that a load that comes meanwhile waits for moments. */
const rowsAtOnce = 500_000;
const slicesAtOnce = 1000;

/**
 * Starts runs when they are due. Any number of processes may do so: taking a due timer moves its next time on in the same
 * transaction, so exactly one gets it. Times missed while nothing ran make one run, because the next time is reckoned from now.
 */
export function startScheduler(
  store: Store,
  queue: Queue,
  failed: (error: unknown) => void = () => undefined,
): { stop: () => void } {
  let busy = false;
  let ticks = 0;
  let set = false;
  const timer = setInterval(() => {
    if (busy) return;
    busy = true;
    const ready = set ? Promise.resolve() : setMissing();
    ready
      .then(() => {
        set = true;
        return startDue(store, queue, Date.now(), failed);
      })
      .then(async (started) => {
        await advanceBackfills(store, queue);
        return started;
      })
      .then(async (started) => {
        if (ticks % lateEvery === 0) await tellLate(store, Date.now());
        return started;
      })
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

/** Sets the timers of pipelines that were saved before there were any. */
async function setMissing(): Promise<void> {
  const known = new Set((await TimerRow.findAll({ attributes: ["pipeline"] })).map((row) => row.pipeline));
  for (const { name, definition } of await PipelineRow.findAll())
    if (!known.has(name) && schedulesOf(definition).length) await setTimers(name, definition, Date.now());
}

/** Starts what is due at `now` (milliseconds since the epoch); returns the pipelines' names. What can't be started stays due. */
export async function startDue(
  store: Store,
  queue: Queue,
  now: number,
  failed: (error: unknown) => void = () => undefined,
): Promise<string[]> {
  const due = await TimerRow.findAll({
    where: { nextAt: { [Op.lte]: new Date(now) } },
    order: ["nextAt", "pipeline"],
  });
  if (due.length === 0 || (await pausedAll())) return [];
  const started: string[] = [];
  const looks = await lookForFiles(store, due, now);
  for (const timer of due) {
    try {
      if (await startOne(store, queue, timer, now, looks.get(timer) ?? null)) started.push(timer.pipeline);
    } catch (error) {
      failed(error);
    }
  }
  return started;
}

/** Later than this a time has been missed while nothing ran, in milliseconds. */
const missedAfter = 60_000;

/** Starts what a timer is of and moves its next time on, both or neither; false where another has done so, or it is not to start now. */
async function startOne(
  store: Store,
  queue: Queue,
  due: TimerRow,
  now: number,
  arrived: string | null,
): Promise<boolean> {
  const seen = await PipelineRow.findByPk(due.pipeline);
  // A source is not asked for new tables while the pipeline is held.
  const joining = seen?.definition.joins ? await newTablesOf(store, seen) : null;
  return store.sequelize.transaction(async (transaction) => {
    const timer = await TimerRow.findOne({
      where: { pipeline: due.pipeline, schedule: due.schedule, nextAt: { [Op.lte]: new Date(now) } },
      lock: transaction.LOCK.UPDATE,
      skipLocked: true,
      transaction,
    });
    const row = timer ? await PipelineRow.findByPk(timer.pipeline, { transaction }) : null;
    const schedule = row && timer ? scheduleOf(row.definition, timer) : undefined;
    if (!timer?.nextAt || !row || !schedule) return false;
    if (await keptApart(store, row.name, schedule, transaction)) return false;
    const late = now - timer.nextAt.getTime() > missedAfter;
    const leftOut =
      !isOpenAt(schedule, now, timer.begun) ||
      (late && schedule.catchUp === "none" && !("after" in schedule)) ||
      (await overlaps(timer, schedule, transaction));
    // Files that came since the last look may still be written; the next one finds whether they stand still.
    const stands =
      arrived === null || (arrived === timer.seen?.last && arrived !== timer.seen.started && arrived !== "");
    const starts = !leftOut && stands;
    const begun = timer.begun + (starts ? 1 : 0);
    const started = starts && arrived !== null ? arrived : (timer.seen?.started ?? "");
    const look = arrived === null ? {} : { seen: { last: arrived, started } };
    await timer.update({ ...look, begun, nextAt: dueAfter(schedule, now, begun) }, { transaction });
    await noteNext(row.name, transaction);
    if (!starts) return false;
    const reason =
      "after" in schedule ? `after ${schedule.after}` : late ? "on schedule, after downtime" : "on schedule";
    await requestRuns(
      store,
      queue,
      {
        pipeline: row.name,
        ...whatToDo(row.definition, schedule),
        reason,
        requestedBy: null,
        schedule: timer.schedule,
      },
      scheduledGivens(schedule),
      { transaction, joining },
    );
    return true;
  });
}

/** For so long a look for files is waited for, in milliseconds: no other schedule is late for a host that does not answer. */
const lookPatience = 4000;

/** What those that wait for files find, all looked for at once; one that does not answer in time has found nothing new. */
async function lookForFiles(store: Store, due: readonly TimerRow[], now: number): Promise<Map<TimerRow, string>> {
  const found = new Map<TimerRow, string>();
  const rows = await PipelineRow.findAll({ where: { name: due.map(({ pipeline }) => pipeline) } });
  const looks = due.map(async (timer) => {
    const definition = rows.find(({ name }) => name === timer.pipeline)?.definition;
    const schedule = definition && scheduleOf(definition, timer);
    if (!schedule || !("when" in schedule) || !schedule.when) return;
    const late = new Promise<string>((give) => setTimeout(give, lookPatience, "").unref());
    found.set(timer, await Promise.race([arrivals(store, definition, schedule, now), late]).catch(() => ""));
  });
  await Promise.all(looks);
  return found;
}

/** Which files the loads of a pipeline would read with a schedule's values, as a text. Where a place can't be looked at there is nothing new. */
async function arrivals(store: Store, pipeline: Pipeline, schedule: Schedule, now: number): Promise<string> {
  const found = new Set<string>();
  for (const given of scheduledGivens(schedule)) {
    const { definition } = resolve(pipeline, given, now);
    for (const { from } of Object.values(definition.loads)) {
      if (from.files === undefined) continue;
      const source = sourceFor(await store.credentials(from.connection));
      const files = await source.arrivals(from).catch(() => null);
      if (files) found.add(`${from.connection}\n${files}`);
    }
  }
  return [...found].sort().join("\n\n");
}

/** What a schedule starts. */
function whatToDo({ loads }: Pipeline, schedule: Schedule): Pick<RunRequest, "kind" | "scope" | "loads"> {
  if (schedule.do === "prove") return { kind: "prove", scope: { kind: "due" } };
  if (schedule.do !== "sweep") return { kind: "load", scope: { kind: "due" } };
  return { kind: "load", scope: { kind: "gone" }, loads: Object.keys(loads).filter((load) => sweeps(loads[load])) };
}

/** True where a time is left out because the run before is not over: one that waits already is enough. */
async function overlaps(timer: TimerRow, { overlap = "wait" }: Schedule, transaction: Transaction): Promise<boolean> {
  const open: RunStatus[] = overlap === "skip" ? ["queued", "running", "unknown"] : ["queued"];
  return (
    (await RunRow.count({
      where: { pipeline: timer.pipeline, schedule: timer.schedule, status: open },
      transaction,
    })) > 0
  );
}

/** True while a pipeline runs that this one is not to run at the same time as, whichever of the two says so; it stays due. */
async function keptApart(
  store: Store,
  name: string,
  { apart = [] }: Schedule,
  transaction: Transaction,
): Promise<boolean> {
  const saying = await store.sequelize.query<{ name: string }>(
    "SELECT DISTINCT pipeline AS name FROM timers WHERE apart::jsonb @> to_jsonb(ARRAY[:name]::text[])",
    { replacements: { name }, transaction, type: QueryTypes.SELECT },
  );
  const others = [...new Set([...apart, ...saying.map((row) => row.name)])];
  if (others.length === 0) return false;
  // One at a time looks and starts, so that two that are due at once don't both find nobody running.
  await store.sequelize.query("SELECT pg_advisory_xact_lock(1970169957, 3)", { transaction });
  return (
    (await RunRow.count({ where: { pipeline: others, status: ["queued", "running", "unknown"] }, transaction })) > 0
  );
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
        const one = definition.loads[load];
        // Files that were taken away can't be read again.
        if (!one || takesAway(one)) continue;
        const { proof } = one;
        const mine = marks.filter((mark) => mark.pipeline === name && mark.load === load && mark.line === (set ?? ""));
        const due = mine.filter((mark) =>
          cellsDue(
            proof?.cells,
            { cellsAt: mark.cellsAt?.getTime() ?? null, provedAt: mark.provedAt.getTime() },
            schedulesOf(definition)[0]?.zone ?? "UTC",
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
