import { type Dataset, guaranteesKey } from "../dataset/dataset.ts";
import type { Load, Mode, Pipeline, ProofBy } from "../pipeline/pipeline.ts";
import { wholeTableRows } from "../pipeline/pipeline.ts";
import { type Figure, parseFigure } from "../proof/figure.ts";
import type { Scope } from "../run/run.ts";
import { parseTableName, type TableName } from "../sql/identifier.ts";
import { canBeWatermark, shortType, typeFamily } from "../sql/type.ts";

/** One warehouse column of a load and where it comes from. */
export interface PlannedColumn {
  name: string;
  source: string;
  /** the warehouse type, as format_type prints it */
  type: string;
  /** true where the source's own type differs, so that the read casts */
  cast: boolean;
  notNull: boolean;
}

/** What is read at the source; each source kind turns it into its own statements. */
export interface ReadRequest {
  table: TableName | null;
  query: string | null;
  where: string | null;
  columns: PlannedColumn[];
  watermark: { column: string; type: string; nullable: boolean; lookBack: string | null } | null;
}

/** Which of the request's rows are read this time. */
export type Window =
  | { kind: "all" }
  | { kind: "since"; value: string }
  | { kind: "interval"; column: string; on: "source" | "warehouse"; type: string; from: string; to: string }
  | { kind: "slice"; slice: string | null }
  | { kind: "keys"; keys: string[][] };

export interface LoadPlan {
  pipeline: string;
  load: string;
  connection: string;
  warehouse: string;
  read: ReadRequest;
  target: TableName;
  mode: Mode;
  key: string[];
  /** true where the source promises that the key is unique and never null, so that no check is needed */
  keyGuaranteed: boolean;
  by: ProofBy | null;
  figures: Figure[];
  /** changes whenever what the load reads or where it writes does; a watermark taken under another one does not count */
  fingerprint: string;
}

/** Something in a load's definition that can't work, and where. */
export class PlanError extends Error {
  constructor(
    message: string,
    readonly path: string[] = [],
  ) {
    super(message);
  }
}

/** The columns a load writes, in order. Unknown source columns throw. */
function plannedColumns(load: Load, dataset: Dataset): PlannedColumn[] {
  const pairs = load.columns ? Object.entries(load.columns) : dataset.columns.map((column) => [column.name, column.name] as const);
  return pairs.map(([name, source]) => {
    const column = dataset.columns.find((candidate) => candidate.name === source);
    if (!column) throw new PlanError(`The source has no column ${source}`, ["columns", name]);
    return { name, source, type: column.warehouseType, cast: column.warehouseType !== column.declared, notNull: column.notNull };
  });
}

/**
 * Plans one load: resolves its columns and types against the dataset as it is now, and checks that key, watermark and
 * proof name columns that exist and can serve.
 * @throws PlanError with the path within the load.
 */
export function planLoad(pipelineName: string, pipeline: Pipeline, loadName: string, dataset: Dataset): LoadPlan {
  const load = pipeline.loads[loadName];
  if (!load) throw new PlanError(`The pipeline has no load ${loadName}`);
  const columns = plannedColumns(load, dataset);
  if (columns.length === 0) throw new PlanError("The source has no columns", ["from"]);
  const byName = new Map(columns.map((column) => [column.name, column]));
  const key = load.into.key ?? [];
  for (const name of key) if (!byName.has(name)) throw new PlanError(`The key names ${name}, which is not a column of the load`, ["into", "key"]);
  if (load.into.mode === "append" && key.length === 0 && !columns.some((column) => column.source === load.watermark?.column))
    throw new PlanError(`Without a key, an append tells rows apart by all their columns, so ${load.watermark?.column} must be one of them`, ["columns"]);
  return {
    pipeline: pipelineName,
    load: loadName,
    connection: load.from.connection,
    warehouse: pipeline.warehouse,
    read: {
      table: load.from.table ? parseTableName(load.from.table) : null,
      query: load.from.query ?? null,
      where: load.from.where ?? null,
      columns,
      watermark: plannedWatermark(load, dataset),
    },
    target: parseTableName(load.into.table),
    mode: load.into.mode,
    key,
    keyGuaranteed: key.length > 0 && guaranteesKey(dataset, key.map((name) => byName.get(name)?.source ?? name)),
    by: plannedSlices(load, byName),
    figures: plannedFigures(load, byName),
    fingerprint: JSON.stringify([load.from, load.watermark?.column ?? null, columns.map(({ name, source, type }) => [name, source, type]), load.into.table, load.into.mode, key]),
  };
}

function plannedWatermark(load: Load, dataset: Dataset): ReadRequest["watermark"] {
  if (!load.watermark) return null;
  const { column: name, lookBack } = load.watermark;
  const column = dataset.columns.find((candidate) => candidate.name === name);
  if (!column) throw new PlanError(`The source has no column ${name} to take a watermark from`, ["watermark", "column"]);
  if (!canBeWatermark(column.warehouseType))
    throw new PlanError(`${name} is ${shortType(column.warehouseType)}; a watermark needs a date, a time or a whole number`, ["watermark", "column"]);
  const isMoment = typeFamily(column.warehouseType) === "moment";
  if (lookBack && isMoment !== lookBack.startsWith("P"))
    throw new PlanError(isMoment ? `The look-back for ${name} is a duration such as PT10M` : `The look-back for ${name} is a whole number`, ["watermark", "lookBack"]);
  return { column: name, type: column.warehouseType, nullable: !column.notNull, lookBack: lookBack ?? null };
}

function plannedSlices(load: Load, byName: Map<string, PlannedColumn>): ProofBy | null {
  const by = load.proof?.by;
  if (!by) return null;
  const column = byName.get(by.column);
  if (!column) throw new PlanError(`The proof slices by ${by.column}, which is not a column of the load`, ["proof", "by", "column"]);
  if (typeFamily(column.type) !== "moment") throw new PlanError(`${by.column} is ${shortType(column.type)}; slices need a date or a time`, ["proof", "by", "column"]);
  if (by.slice === "hour" && column.type === "date") throw new PlanError(`${by.column} is a date and has no hours`, ["proof", "by", "slice"]);
  return by;
}

function plannedFigures(load: Load, byName: Map<string, PlannedColumn>): Figure[] {
  return (load.proof ?? wholeTableRows).figures.map((text, at) => {
    const figure = parseFigure(text);
    if (figure.column === null) return figure;
    const path = ["proof", "figures", String(at)];
    const column = byName.get(figure.column);
    if (!column) throw new PlanError(`${text} names ${figure.column}, which is not a column of the load`, path);
    const family = typeFamily(column.type);
    if (figure.measure === "sum" && !["integer", "numeric", "float"].includes(family))
      throw new PlanError(`${figure.column} is ${shortType(column.type)} and can't be added up`, path);
    if ((figure.measure === "min" || figure.measure === "max") && family === "other")
      throw new PlanError(`${figure.column} is ${shortType(column.type)} and has no order both sides share`, path);
    return figure;
  });
}

/** The type of a column of the plan. */
export function columnType(plan: LoadPlan, name: string): string {
  const column = plan.read.columns.find((candidate) => candidate.name === name);
  if (!column) throw new PlanError(`The load has no column ${name}`);
  return column.type;
}

/**
 * The window a scope asks for.
 * @param stored the watermark kept from the last load, or null where there is none that counts
 * @throws PlanError when the load can't be cut that way.
 */
export function windowFor(plan: LoadPlan, scope: Scope, stored: string | null): Window {
  switch (scope.kind) {
    case "due":
      return plan.read.watermark && stored !== null && plan.mode !== "replace" ? { kind: "since", value: stored } : { kind: "all" };
    case "keys":
      return { kind: "keys", keys: scope.keys };
    case "slice":
      if (!plan.by) throw new PlanError("The proof of this load has no slices");
      return scope;
    case "interval": {
      if (plan.by) return { ...scope, column: plan.by.column, on: "warehouse", type: columnType(plan, plan.by.column) };
      const watermark = plan.read.watermark;
      if (!watermark) throw new PlanError("The load has neither slices nor a watermark, so it has no interval to load again");
      return { ...scope, column: watermark.column, on: "source", type: watermark.type };
    }
  }
}
