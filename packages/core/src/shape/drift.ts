import type { Dataset, DatasetColumn } from "../dataset/dataset.ts";
import { admit } from "../expression/parse.ts";
import { computedColumn, type Load } from "../pipeline/pipeline.ts";
import { type DriftNote, driftWords } from "../run/drift.ts";
import type { Failure } from "../run/run.ts";
import { keeps } from "../sql/convert.ts";

/** A source column as a load last knew it. */
export interface KnownColumn {
  name: string;
  type: string;
  /** true where it came new and the load's policy was to leave it */
  ignored?: boolean;
  /** true while the source does not give it, or gives it in a form that can't be taken */
  lost?: boolean;
  /** the type that the warehouse keeps for it though the source's has changed */
  held?: string;
}

export interface Drifted {
  /** the dataset as the load is to take it */
  dataset: Dataset;
  notes: DriftNote[];
  /** what to keep for the next run */
  known: KnownColumn[];
  /** the columns whose target is to be widened */
  widened: string[];
  /** warehouse columns that keep the type known, so that values that don't fit it are rejections */
  held: Map<string, string>;
  /** true where the source gives a column again that was filled with null, so that a watermark does not count */
  returned: boolean;
  stop: Failure | null;
}

/** The source columns that some warehouse columns read; null where the load takes every column under its own name. */
async function readColumns(load: Load, names: Set<string>, only?: readonly string[]): Promise<Set<string> | null> {
  if (!load.columns) return only ? new Set(only) : null;
  const read = new Set<string>();
  for (const [name, entry] of Object.entries(load.columns)) {
    if (only && !only.includes(name)) continue;
    const { as } = computedColumn(entry);
    if (names.has(as)) read.add(as);
    else for (const column of (await admit(as, "column").catch(() => null))?.reads ?? [as]) read.add(column);
  }
  return read;
}

/**
 * Compares a source's columns with those a load last knew, and settles each difference by the load's policy.
 * @param known null where the load has not run yet, so that nothing can have drifted
 */
export async function settleDrift(load: Load, dataset: Dataset, known: KnownColumn[] | null): Promise<Drifted> {
  const notes: DriftNote[] = [];
  const result: Drifted = {
    dataset,
    notes,
    known: dataset.columns.map((column) => ({ name: column.name, type: column.fits ?? column.warehouseType })),
    widened: [],
    held: new Map(),
    returned: false,
    stop: null,
  };
  if (!known) return result;
  const { added = "take", changed = "stop", gone = "stop" } = load.drift ?? {};
  const before = new Map(known.map((column) => [column.name, column]));
  const now = new Map(dataset.columns.map((column) => [column.name, column]));
  const names = new Set([...before.keys(), ...now.keys()]);
  const read = await readColumns(load, names);
  // Without these the load could not go on: its key would be null, or its watermark lost.
  const needed = new Set([load.watermark?.column, ...((await readColumns(load, names, load.into.key ?? [])) ?? [])]);
  const columns: DatasetColumn[] = [];
  for (const column of dataset.columns) {
    const last = before.get(column.name);
    if (dataset.lines && last && !last.ignored) {
      columns.push(heldGuess(column, last, result));
      continue;
    }
    const unread = read !== null && !read.has(column.name);
    if (!last || (last.ignored && added !== "ignore")) {
      const done = unread ? "left out" : added === "take" ? "taken" : added === "ignore" ? "ignored" : "stopped";
      notes.push({ column: column.name, kind: "added", from: null, to: column.fits ?? column.warehouseType, done });
      if (done !== "ignored") columns.push(column);
    } else if (!last.ignored) {
      const policy = needed.has(column.name) && changed === "null" ? "stop" : changed;
      if (last.held !== undefined) result.held.set(column.name, last.held);
      if (last.lost && last.type === column.warehouseType) result.returned = true;
      columns.push(last.type === column.warehouseType ? column : settleType(column, last.type, unread, policy, result));
    }
  }
  for (const last of known) {
    if (now.has(last.name) || last.ignored) continue;
    const unread = read !== null && !read.has(last.name);
    const done = unread ? "left out" : gone === "null" && !needed.has(last.name) ? "null" : "stopped";
    notes.push({ column: last.name, kind: "gone", from: last.type, to: null, done });
    if (done === "null") columns.push(missing(last));
  }
  const ignored = new Set(notes.filter((note) => note.done === "ignored").map((note) => note.column));
  for (const column of known) if (column.ignored && added === "ignore") ignored.add(column.name);
  const filled = notes.filter((note) => note.done === "null").map((note) => note.column);
  result.known = [
    ...result.known
      .filter((column) => !filled.includes(column.name))
      .map((column) => ({
        ...column,
        ...(ignored.has(column.name) ? { ignored: true } : {}),
        ...(result.held.has(column.name) ? { held: result.held.get(column.name) } : {}),
      })),
    // A column filled with null is still the one known, so that it is told of and comes back when the source has it again.
    ...known.filter((column) => filled.includes(column.name)).map((column) => ({ ...column, lost: true })),
  ];
  const stopping = notes.filter((note) => note.done === "stopped");
  if (stopping.length)
    result.stop = {
      message: `The source's columns have changed: ${stopping.map(driftWords).join("; ")}`.replaceAll(
        ": the load stops",
        "",
      ),
      hint: choices(stopping),
    };
  // In the order known, so that a column filled with null keeps its place and the load its watermark.
  const order = new Map(known.map((column, at) => [column.name, at]));
  columns.sort((a, b) => (order.get(a.name) ?? known.length) - (order.get(b.name) ?? known.length));
  return { ...result, dataset: { ...dataset, columns } };
}

/**
 * A column of texts whose type is guessed from what is there today: where it fits a wider type than the one known, that is
 * taken; anything else keeps the known one, and what does not fit it is rejected.
 */
function heldGuess(column: DatasetColumn, last: KnownColumn, result: Drifted): DatasetColumn {
  const fits = column.fits ?? column.warehouseType;
  if (fits === last.type) return column;
  const known = result.known.find(({ name }) => name === column.name);
  if (keeps(fits, last.type) && fits !== "text") {
    result.notes.push({ column: column.name, kind: "widened", from: last.type, to: fits, done: "widened" });
    result.widened.push(column.name);
    return column;
  }
  if (known) known.type = last.type;
  const { fits: _, ...rest } = column;
  return last.type === "text" ? rest : { ...rest, fits: last.type };
}

function missing(column: KnownColumn): DatasetColumn {
  return {
    name: column.name,
    declared: column.type,
    type: { resolved: column.type, kind: "b", builtIn: true },
    warehouseType: column.type,
    notNull: false,
    generated: false,
    hasDefault: false,
    comment: null,
    missing: true,
  };
}

function settleType(
  column: DatasetColumn,
  last: string,
  unread: boolean,
  policy: "stop" | "null" | "take",
  result: Drifted,
): DatasetColumn {
  const kind = keeps(column.warehouseType, last)
    ? "widened"
    : keeps(last, column.warehouseType)
      ? "narrowed"
      : "changed";
  const done = unread
    ? "left out"
    : kind === "widened"
      ? "widened"
      : policy === "take"
        ? "taken"
        : policy === "null"
          ? "null"
          : "stopped";
  result.notes.push({ column: column.name, kind, from: last, to: column.warehouseType, done });
  if (done === "widened") result.widened.push(column.name);
  if (done === "taken" && !result.held.has(column.name)) result.held.set(column.name, last);
  return done === "null" ? missing({ name: column.name, type: last }) : column;
}

function choices(notes: DriftNote[]): string {
  const kinds = new Set(notes.map((note) => note.kind));
  const told: string[] = [];
  if (kinds.has("gone"))
    told.push("Set the load to fill a column that is gone with null, or take it out of the shape.");
  if (kinds.has("narrowed") || kinds.has("changed"))
    told.push(
      "Set the load to take a changed type (values that don't fit are rejected) or to fill null, or state the column's type in the shape.",
    );
  if (kinds.has("added")) told.push("Set the load to take new columns, or to ignore them.");
  return `${told.join(" ")} Nothing was written.`;
}
