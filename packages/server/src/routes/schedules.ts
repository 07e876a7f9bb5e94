import type { SchedulesView } from "@undercoat/core/api/api";
import { nextTimes, scheduleName, schedulesOf, scheduleWords, waitsForFiles } from "@undercoat/core/schedule/schedule";
import Joi from "joi";
import { requires, routes, signedIn, takes } from "../context.ts";
import { pauseAll, pausedAll } from "../pipelines/pause.ts";
import { PipelineRow, TimerRow } from "../store/models.ts";

/** Times that are shown of each schedule. */
const shown = 10;
/** Moments of one day that are looked at; a schedule by the minute has 1,500 on the longest. */
const mostOfADay = 1501;

/** What runs when, over all pipelines. */
export const schedules = routes()
  .use(requires("viewer"))
  .get("/", async (c) => {
    const { store } = c.get("house");
    const now = Date.now();
    const begun = new Map((await TimerRow.findAll()).map((row) => [`${row.pipeline} ${row.schedule}`, row]));
    const lately = await store.query<{ pipeline: string; seconds: number }>(
      `SELECT p.name AS pipeline, percentile_cont(0.5) WITHIN GROUP (ORDER BY extract(epoch FROM r.finished_at - r.started_at)) AS seconds
       FROM pipelines p, LATERAL (SELECT started_at, finished_at FROM runs WHERE pipeline = p.name AND kind = 'load' AND status = 'finished' ORDER BY id DESC LIMIT 10) r GROUP BY p.name`,
    );
    const took = new Map(lately.map((row) => [row.pipeline, Number(row.seconds)]));
    const view: SchedulesView = {
      paused: await pausedAll(),
      rows: (await PipelineRow.findAll({ order: ["title"] })).flatMap((row) =>
        schedulesOf(row.definition).map((schedule) => {
          const timer = begun.get(`${row.name} ${scheduleName(schedule)}`);
          const waits = waitsForFiles(schedule);
          const next = (count: number) => (waits ? [] : nextTimes(schedule, now, count, timer?.begun ?? 0));
          // The times of a rare schedule are far apart, and long to reckon.
          const first = next(shown);
          const times = first.length === shown && (first.at(-1) ?? 0) < now + 24 * 3_600_000 ? next(mostOfADay) : first;
          const day = times.filter((time) => time < now + 24 * 3_600_000);
          return {
            pipeline: row.name,
            title: row.title,
            words: scheduleWords(schedule),
            paused: schedule.paused ?? false,
            after: "after" in schedule ? schedule.after : null,
            waits,
            zone: schedule.zone ?? "UTC",
            due: timer?.nextAt?.toISOString() ?? null,
            next: times.slice(0, shown).map((time) => new Date(time).toISOString()),
            day: day.map((time) => new Date(time).toISOString()),
            seconds: took.get(row.name) ?? null,
          };
        }),
      ),
    };
    return c.json(view);
  })
  .put(
    "/paused",
    requires("editor"),
    takes<{ reason: string | null }>(
      Joi.object({ reason: Joi.string().trim().min(1).max(300).allow(null).required() }),
    ),
    async (c) => {
      const { reason } = c.req.valid("json");
      await pauseAll(
        c.get("house").store,
        reason === null ? null : { reason, by: signedIn(c).name, at: new Date().toISOString() },
      );
      return c.body(null, 204);
    },
  );
