import { resolvedAll } from "../parameter/resolve.ts";
import type { Load, Pipeline } from "./pipeline.ts";

/** What saving a change brings about beyond the change itself. */
export interface Effect {
  /** the load that it concerns; null where it is the whole pipeline */
  load: string | null;
  says: string;
}

/** A load, perhaps of another pipeline, that reads a table which a pipeline writes. */
export interface Reader {
  pipeline: string;
  load: string;
  table: string;
}

const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);

/** What a watermark belongs to: where one of these is another, what has been read so far says nothing of what is to be read. */
const read: [words: string, of: (load: Load) => unknown][] = [
  ["its source", ({ from: { where: _, ...from } }) => from],
  ["its condition", ({ from }) => from.where],
  ["its watermark", ({ watermark }) => watermark?.column],
  ["its columns", ({ columns }) => columns],
  ["its target", ({ into }) => into.table],
  ["its part of the table", ({ into }) => into.part],
  ["its mode", ({ into }) => into.mode],
  ["its key", ({ into }) => into.key],
  ["from when a version is valid", ({ into }) => into.history?.since],
];

/** Loads by the set of values that they run with. */
function byLine(pipeline: Pipeline, now: number): Map<string, { load: string; set: string | null; definition: Load }> {
  return new Map(
    resolvedAll(pipeline, now).flatMap(({ set, definition }) =>
      Object.entries(definition.loads).map(([load, entry]) => [
        JSON.stringify([load, set]),
        { load, set, definition: entry },
      ]),
    ),
  );
}

const list = (names: readonly string[]) =>
  names.length > 3 ? `${names.slice(0, 2).join(", ")} and ${names.length - 2} more` : names.join(", ");

/**
 * What saving one definition over another touches: watermarks that start again, tables that nothing loads any more and who
 * reads them, marks that go, proofs that compare something else, schedules.
 * @param now milliseconds since the epoch, from which relative moments are reckoned
 */
export function effectsBetween(before: Pipeline, after: Pipeline, readers: readonly Reader[], now: number): Effect[] {
  const [earlier, later] = [byLine(before, now), byLine(after, now)];
  const effects: Effect[] = [];
  const again = new Map<string, { why: string; sets: string[] }>();
  for (const [name, { load, set, definition }] of later) {
    const was = earlier.get(name)?.definition;
    const why = was && read.find(([, of]) => !same(of(was), of(definition)))?.[0];
    if (!why || (!was.watermark && !definition.watermark)) continue;
    const told = again.get(load) ?? { why, sets: [] };
    if (set !== null) told.sets.push(set);
    again.set(load, told);
  }
  for (const [load, { why, sets }] of again)
    effects.push({
      load,
      says: `${load} reads its whole dataset again${sets.length ? ` for ${list(sets)}` : ""}: ${why} changed`,
    });
  const writes = (lines: typeof later) => new Set([...lines.values()].map(({ definition }) => definition.into.table));
  const left = [...writes(earlier)].filter((table) => !writes(later).has(table));
  for (const table of left) {
    const reading = readers
      .filter((reader) => reader.table === table)
      .map((reader) => `${reader.pipeline} / ${reader.load}`);
    effects.push({
      load: null,
      says: `${table} stays in the warehouse, and this pipeline loads it no more${reading.length ? `; ${list(reading)} read${reading.length === 1 ? "s" : ""} it` : ""}`,
    });
  }
  const shaped = Object.keys(after.loads).filter((load) => {
    const [was, is] = [before.loads[load], after.loads[load]];
    return was && is && was.into.table === is.into.table && !same([was.columns, was.rules], [is.columns, is.rules]);
  });
  for (const load of shaped) {
    const table = after.loads[load]?.into.table;
    const reading = readers
      .filter((reader) => reader.table === table)
      .map((reader) => `${reader.pipeline} / ${reader.load}`);
    if (reading.length)
      effects.push({
        load,
        says: `${list(reading)} read${reading.length === 1 ? "s" : ""} ${table}, whose shape changes`,
      });
  }
  for (const load of Object.keys(before.loads))
    if (!Object.hasOwn(after.loads, load)) effects.push({ load, says: `${load} and its marks in the ledger go` });
  const gone = Object.keys(before.values ?? {}).filter((set) => !Object.hasOwn(after.values ?? {}, set));
  if (gone.length)
    effects.push({
      load: null,
      says: `the lines of ${list(gone)} leave the ledger; what they loaded stays in the warehouse`,
    });
  for (const [load, { proof }] of Object.entries(after.loads)) {
    const was = before.loads[load];
    if (was && !same(was.proof?.by, proof?.by))
      effects.push({ load, says: `${load} is proved in other slices, so its marks begin anew with its next proof` });
    else if (was && !same(was.proof?.figures, proof?.figures))
      effects.push({ load, says: `${load} is proved by other figures from its next proof on` });
  }
  return effects;
}
