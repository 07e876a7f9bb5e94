import type { BackfillView } from "@undercoat/core/api/api";
import { answer, path } from "@undercoat/core/api/client";
import type { IntervalUnit } from "@undercoat/core/schedule/intervals";
import { type Client, CommandError } from "./client.ts";
import { type GivenOptions, givensOf } from "./given.ts";
import { pollEvery, worst } from "./runs.ts";

export interface BackfillOptions extends GivenOptions {
  from: string;
  to: string;
  by: IntervalUnit;
  order: "newest" | "oldest";
  load?: string[];
  parallel: string;
  json?: boolean;
}

/** It is over, or nothing of it is left to load but what failed and waits for somebody. */
function rests({ status, slices }: BackfillView): boolean {
  const left = slices.filter((slice) => slice.status !== "finished");
  return status !== "open" || (left.length > 0 && left.every((slice) => slice.status === "failed"));
}

/** Waits until a backfill rests, telling progress on standard error. */
async function rested(client: Client, id: number): Promise<BackfillView> {
  let told = "";
  for (;;) {
    const view = await answer(client.backfills[":id"].$get(path({ id: String(id) })));
    const count = (status: BackfillView["slices"][number]["status"]) =>
      view.slices.filter((slice) => slice.status === status).length;
    const failed = count("failed");
    const at = `${count("finished")} of ${view.slices.length} loaded${failed ? `, ${failed} failed` : ""}`;
    if (at !== told) process.stderr.write(`backfill ${id}: ${at}\n`);
    told = at;
    if (rests(view)) return view;
    await new Promise((resolve) => setTimeout(resolve, pollEvery));
  }
}

function exitStatus({ status, slices }: BackfillView): number {
  if (status !== "finished") return 1;
  return slices.some((slice) => slice.verdict === "disagrees") ? 3 : 0;
}

/** A backfill as `--json` prints it. */
function document({ id, pipeline, status, loads, from, to, by, order, tally, slices }: BackfillView) {
  return { backfill: id, pipeline, status, loads, from, to, by, order, ...tally, slices };
}

/** Loads an earlier interval slice by slice, one backfill for each set of values, and waits for them. */
export async function backfillCommand(client: Client, pipeline: string, options: BackfillOptions): Promise<number> {
  if (!/^([1-9]|1[0-6])$/.test(options.parallel))
    throw new CommandError(`--parallel takes a number from 1 to 16, not ${options.parallel}.`, 2);
  const { from, to, by, order, load } = options;
  const begun: BackfillView[] = [];
  for (const given of givensOf(options)) {
    const json = { pipeline, loads: load ?? null, given, from, to, by, order, parallel: Number(options.parallel) };
    begun.push(await answer(client.backfills.$post({ json })));
  }
  const views = await Promise.all(begun.map(({ id }) => rested(client, id)));
  if (options.json)
    console.log(
      JSON.stringify(views.length === 1 && views[0] ? document(views[0]) : { backfills: views.map(document) }),
    );
  else
    for (const view of views) {
      const name = view.given.set ? `${view.given.set}: ` : "";
      for (const slice of view.slices) {
        if (slice.failure) console.log(`${name}${slice.from} failed. ${slice.failure.message}`);
        if (slice.verdict === "disagrees") console.log(`${name}${slice.from} disagrees, run ${slice.run}`);
      }
      const { read, new: added, changed, same, rejected } = view.tally;
      const done = view.slices.filter((slice) => slice.status === "finished").length;
      console.log(
        `${name}${read} read = ${added} new + ${changed} changed + ${same} same + ${rejected} rejected; ${done} of ${view.slices.length} slices loaded`,
      );
    }
  return worst(views.map(exitStatus));
}
