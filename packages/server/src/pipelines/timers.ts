import type { Pipeline, Schedule } from "@undercoat/core/pipeline/pipeline";
import { nextTimes, scheduleName, schedulesOf, waitsForFiles } from "@undercoat/core/schedule/schedule";
import type { Transaction } from "sequelize";
import { PipelineRow, TimerRow } from "../store/models.ts";

/** When a schedule is next due after some moment (milliseconds since the epoch); null where never, or where it follows another pipeline. */
export function dueAfter(schedule: Schedule, now: number, begun: number): Date | null {
  const next = nextTimes(schedule, now, 1, begun)[0];
  return next === undefined ? null : new Date(next);
}

/** The schedule that a timer is of; undefined where the pipeline has it no more. */
export const scheduleOf = (definition: Pipeline, timer: TimerRow): Schedule | undefined =>
  schedulesOf(definition).find((schedule) => scheduleName(schedule) === timer.schedule);

/** Sets a pipeline's timers by its schedules: one that it had already goes on counting. */
export async function setTimers(
  pipeline: string,
  definition: Pipeline,
  now: number,
  transaction?: Transaction,
): Promise<void> {
  const before = new Map(
    (await TimerRow.findAll({ where: { pipeline }, transaction })).map((row) => [row.schedule, row]),
  );
  const wanted = new Map(schedulesOf(definition).map((schedule) => [scheduleName(schedule), schedule]));
  for (const [name, row] of before) if (!wanted.has(name)) await row.destroy({ transaction });
  for (const [name, schedule] of wanted) {
    const begun = before.get(name)?.begun ?? 0;
    await TimerRow.upsert(
      {
        pipeline,
        schedule: name,
        after: "after" in schedule ? schedule.after : null,
        proved: "after" in schedule && schedule.on === "proved",
        apart: schedule.apart ?? null,
        nextAt: dueAfter(schedule, now, begun),
        begun,
      },
      { transaction },
    );
  }
  await noteNext(pipeline, transaction);
}

/** Keeps beside a pipeline when it is next due. */
export async function noteNext(pipeline: string, transaction?: Transaction): Promise<void> {
  // A look for files is no run, so nobody is told to expect one.
  const timers = (await TimerRow.findAll({ where: { pipeline }, transaction })).filter(
    ({ schedule }) => !waitsForFiles(JSON.parse(schedule)),
  );
  const next = timers.flatMap(({ nextAt }) => nextAt ?? []).toSorted((a, b) => a.getTime() - b.getTime())[0];
  await PipelineRow.update({ nextAt: next ?? null }, { where: { name: pipeline }, transaction });
}
