import type { Message } from "@undercoat/core/message/message";
import { schedulesOf } from "@undercoat/core/schedule/schedule";
import { Temporal } from "temporal-polyfill";
import type { PipelineRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";

/** How long something due may wait before it is late, in milliseconds. */
export const lateAfter = 120_000;

/** Since when a pipeline has been due without having begun; null where it is not late. */
export const lateSince = ({ nextAt }: PipelineRow, now: number): Date | null =>
  nextAt && now - nextAt.getTime() > lateAfter ? nextAt : null;

/** What is late about a pipeline, in a sentence; null where nothing is. Without a deadline late is what was due and has not begun. */
export async function lateWords(
  store: Store,
  pipeline: PipelineRow,
  { late, pipelines }: Message,
  now: number,
): Promise<string | null> {
  if (!late) return lateSince(pipeline, now) ? `${pipeline.title} was due and has not begun` : null;
  // Where all pipelines are meant, those that nobody has ever wanted run by themselves are not.
  if (!pipelines && schedulesOf(pipeline.definition).length === 0) return null;
  const at = Temporal.Instant.fromEpochMilliseconds(now).toZonedDateTimeISO(late.zone ?? "UTC");
  const deadline = at.withPlainTime(late.by);
  if (Temporal.ZonedDateTime.compare(at, deadline) < 0) return null;
  const proved = late.needs === "proved";
  const [{ done = 0 } = {}] = await store.query<{ done: number }>(
    `SELECT count(*)::int AS done FROM (SELECT 1 FROM runs r WHERE r.pipeline = :pipeline AND r.status = 'finished' AND r.kind IN ('load'${proved ? ", 'prove'" : ""}) AND r.finished_at >= :from
     AND (NOT :proved OR NOT EXISTS (SELECT 1 FROM run_loads l LEFT JOIN proofs p ON p.id = l.proof_id WHERE l.run_id = r.id AND p.verdict IS DISTINCT FROM 'proved')) LIMIT 1) AS found`,
    { pipeline: pipeline.name, from: new Date(at.startOfDay().epochMilliseconds), proved },
  );
  return done > 0 ? null : `${pipeline.title} was not ${proved ? "proved" : "loaded"} by ${late.by}`;
}
