import type { Dataset } from "../dataset/dataset.ts";
import type { Breach, ColumnChange, Flag, History, Load } from "../pipeline/pipeline.ts";
import { PlanError } from "../plan/error.ts";
import type { LoadPlan, PlannedColumn } from "../plan/plan.ts";
import { shortType, typeFamily } from "../sql/type.ts";

/**
 * What a column's change does: `follow` is what a watermark's or the business time's own column does, which tells of
 * changes and is none; it is overwritten in the version it belongs to.
 */
export type ColumnRole = "keep" | "overwrite" | "version" | "previous" | "follow";

/** How a load keeps versions: slowly changing dimensions of types 0 to 3, by column. */
export interface HistoryPlan {
  /** what the change of each written column does; those of the key say whose versions they are and do nothing */
  roles: ReadonlyMap<string, ColumnRole>;
  /** for columns of role `previous`, the column that holds the value before */
  previous: ReadonlyMap<string, string>;
  overwrite: "all" | "current";
  breach: Breach;
  /** true where versions that stand take what the source says now of a column that is new */
  fills: boolean;
  /** from when a row is so: a source column, and the written column that holds it as it is, if one does; null for the read's moment */
  since: { source: string; type: string; written: string | null } | null;
  /** from when a key's first version is valid; null for its own time */
  first: string | null;
  from: string;
  to: string;
  end: string | null;
  current: { column: string; type: string; yes: string; no: string };
  change: string | null;
  surrogate: { column: string; start: number; step: number } | null;
  /** what is no change in a text */
  compare: { ignore: ReadonlySet<string>; collation: string };
  /** the moment of the read, by the source's clock */
  moment: string;
  /** true where the target is yet to be made */
  fresh: boolean;
  /** true where a new target takes rows as they come: nothing in them could be turned away or must be put aside */
  direct: boolean;
  /** true where the target holds versions and their numbers already */
  dated: boolean;
  numbered: boolean;
}

const path = ["into", "history"];

function roleOf(change: ColumnChange): ColumnRole {
  return typeof change === "string" ? change : "previous";
}

function flagType(flag: Flag): string {
  return typeof flag === "boolean" ? "boolean" : typeof flag === "number" ? "integer" : "text";
}

function currentOf(current: History["current"] = "is_current"): HistoryPlan["current"] {
  if (typeof current === "string") return { column: current, type: "boolean", yes: "true", no: "false" };
  return {
    column: current.column,
    type: flagType(current.yes),
    yes: String(current.yes),
    no: String(current.no),
  };
}

/** The column that says from when a row is so. @throws PlanError where it is none that can. */
function sinceOf(history: History, dataset: Dataset, columns: readonly PlannedColumn[]): HistoryPlan["since"] {
  const name = history.since ?? "run";
  const column = dataset.columns.find((candidate) => candidate.name === name);
  if (!column) {
    if (name === "run") return null;
    throw new PlanError(`The source has no column ${name} to say from when a version is valid`, [...path, "since"]);
  }
  const type = column.warehouseType;
  if (typeFamily(type) !== "moment")
    throw new PlanError(`${name} is ${shortType(type)}; a version is valid from a date or a time`, [...path, "since"]);
  const written = columns.find(
    (candidate) => candidate.source === name && candidate.type === type && !candidate.missing,
  );
  return { source: name, type, written: written?.name ?? null };
}

/** Every name once among the columns of the load and those that the history adds. */
function refuseClashes(plan: HistoryPlan, columns: readonly PlannedColumn[]): void {
  const taken = new Set(columns.map((column) => column.name));
  const own: [string | null | undefined, string[]][] = [
    [plan.from, ["from"]],
    [plan.to, ["to"]],
    [plan.current.column, ["current"]],
    [plan.change, ["change"]],
    [plan.surrogate?.column, ["surrogate", "column"]],
    ...[...plan.previous].map(([name, before]): [string, string[]] => [before, ["columns", name]]),
  ];
  for (const [name, where] of own) {
    if (!name) continue;
    if (taken.has(name))
      throw new PlanError(`${name} is a column already; the history needs another name`, [...path, ...where]);
    taken.add(name);
  }
}

/**
 * Plans how a load's versions are kept; null where its mode keeps none.
 * @throws PlanError with the path within the load.
 */
export function planHistory(
  load: Load,
  columns: readonly PlannedColumn[],
  { dataset, target, moment }: { dataset: Dataset; target: Dataset | null; moment: string | null },
): HistoryPlan | null {
  if (load.into.mode !== "history") return null;
  if (moment === null) throw new PlanError("The source does not say what time it is there", [...path, "since"]);
  const history = load.into.history ?? {};
  const { columns: changes = {}, breach = "reject", surrogate, compare } = history;
  const key = load.into.key ?? [];
  const since = sinceOf(history, dataset, columns);
  const roles = new Map<string, ColumnRole>();
  const previous = new Map<string, string>();
  for (const column of columns) {
    if (key.includes(column.name)) continue;
    const change = Object.hasOwn(changes, column.name) ? changes[column.name] : undefined;
    const telling =
      column.name === since?.written || (column.source !== null && column.source === load.watermark?.column);
    roles.set(column.name, change !== undefined ? roleOf(change) : telling ? "follow" : "version");
    if (typeof change === "object") previous.set(column.name, change.previous);
  }
  for (const name of Object.keys(changes)) {
    if (key.includes(name))
      throw new PlanError(`${name} is part of the key, which says whose versions they are`, [...path, "columns", name]);
    if (!roles.has(name)) throw new PlanError(`${name} is not a column of the load`, [...path, "columns", name]);
  }
  const plan: HistoryPlan = {
    roles,
    previous,
    overwrite: history.overwrite ?? "all",
    breach,
    fills: history.added === "fill",
    since,
    first: history.first === undefined || history.first === "since" ? null : history.first,
    from: history.from ?? "valid_from",
    to: history.to ?? "valid_to",
    end: history.end ?? null,
    current: currentOf(history.current),
    change: history.change ?? null,
    surrogate: surrogate ? { column: surrogate.column, start: surrogate.start ?? 1, step: surrogate.step ?? 1 } : null,
    compare: {
      ignore: new Set(compare?.ignore ?? []),
      collation: compare?.locale ? `${compare.locale}-x-icu` : "und-x-icu",
    },
    moment,
    fresh: target === null,
    direct: false,
    dated: target?.columns.some((column) => column.name === (history.from ?? "valid_from")) ?? false,
    numbered: target?.columns.some((column) => column.name === surrogate?.column) ?? false,
  };
  refuseClashes(plan, columns);
  return plan;
}

/** True where a new target can take a history's rows as they come: each key once, each with its time. */
export function comesDirect(history: HistoryPlan, dataset: Dataset, keyGuaranteed: boolean, shaped: boolean): boolean {
  const since = dataset.columns.find((column) => column.name === history.since?.source);
  const dated = history.since === null || (history.since.written !== null && (since?.notNull ?? false));
  return history.fresh && history.first === null && keyGuaranteed && !shaped && dated;
}

/** The columns of a history that the source gives and whose change does one of some things, in the load's order. */
export function planColumns(
  { read, write: { history } }: Pick<LoadPlan, "read" | "write">,
  ...roles: ColumnRole[]
): PlannedColumn[] {
  return read.columns.filter((column) => {
    const role = history?.roles.get(column.name);
    return !column.missing && role !== undefined && roles.includes(role);
  });
}
