import { schedulesOf, schedulesWords } from "../schedule/schedule.ts";
import type { Pipeline } from "./pipeline.ts";

const list = (names: readonly string[]) =>
  names.length > 3
    ? `${names.slice(0, 2).join(", ")} and ${names.length - 2} more`
    : names.length > 1
      ? `${names.slice(0, -1).join(", ")} and ${names.at(-1)}`
      : (names[0] ?? "nothing");

/** What a pipeline does, in one sentence: `Loads booking and sailing from bookings into harbour, every 15 minutes.` */
export function pipelineSentence(pipeline: Pipeline): string {
  const loads = Object.entries(pipeline.loads);
  const of = (name: (load: Pipeline["loads"][string]) => string) => [...new Set(loads.map(([, load]) => name(load)))];
  const sources = of(({ from }) => from.connection);
  const schemas = of(({ into }) => into.table.split(".")[0]?.replaceAll('"', "") ?? "");
  const sets = Object.keys(pipeline.values ?? {}).length;
  const keeping = loads.filter(([, { into }]) => into.mode === "history").map(([name]) => name);
  const parts = [
    `Loads ${list(loads.map(([name]) => name))} from ${list(sources)} into ${list(schemas)}`,
    ...(sets ? [`with ${sets} sets of values`] : []),
    ...(keeping.length ? [`keeping the history of ${list(keeping)}`] : []),
    schedulesWords(schedulesOf(pipeline)),
  ];
  return `${parts.join(", ")}.`;
}
