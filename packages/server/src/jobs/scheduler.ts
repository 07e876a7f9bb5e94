import { nextTimes } from "@undercoat/core/schedule/schedule";
import { PipelineRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import type { Queue } from "./queue.ts";
import { requestRun } from "./runs.ts";

/** How often the clock is looked at, in milliseconds. */
const tick = 1000;

/**
 * Starts runs when they are due. Any number of processes may do so: taking a due pipeline moves its next time on in the
 * same statement, so exactly one gets it. Times missed while nothing ran make one run, because the next time is reckoned from now.
 */
export function startScheduler(store: Store, queue: Queue): { stop: () => void } {
  let busy = false;
  const timer = setInterval(() => {
    if (busy) return;
    busy = true;
    startDue(store, queue, Date.now())
      .catch(() => undefined)
      .finally(() => {
        busy = false;
      });
  }, tick);
  return { stop: () => clearInterval(timer) };
}

/** Starts every pipeline due at `now` (milliseconds since the epoch); returns their names. */
export async function startDue(store: Store, queue: Queue, now: number): Promise<string[]> {
  const due = await store.query<{ name: string; next_at: Date }>("SELECT name, next_at FROM pipelines WHERE next_at <= :now", { now: new Date(now) });
  const started: string[] = [];
  for (const { name, next_at } of due) {
    const pipeline = await PipelineRow.findByPk(name);
    const schedule = pipeline?.definition.schedule;
    const next = schedule ? nextTimes(schedule, now)[0] : undefined;
    const [taken] = await PipelineRow.update({ nextAt: next === undefined ? null : new Date(next) }, { where: { name, nextAt: next_at } });
    if (!taken || !schedule || schedule.paused) continue;
    const late = now - next_at.getTime() > 60_000;
    await requestRun(store, queue, { pipeline: name, kind: "load", scope: { kind: "due" }, reason: late ? "on schedule, after downtime" : "on schedule", requestedBy: null });
    started.push(name);
  }
  return started;
}
