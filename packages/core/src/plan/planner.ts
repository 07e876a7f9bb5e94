import { type Dataset, guaranteesKey } from "../dataset/dataset.ts";
import { comesDirect, type HistoryPlan, planHistory } from "../history/plan.ts";
import { markColumns } from "../mark/mark.ts";
import { type Load, type MarkForm, type Pipeline, wholeTableRows } from "../pipeline/pipeline.ts";
import { type Figure, parseFigure } from "../proof/figure.ts";
import type { Analysis } from "../shape/analyse.ts";
import { keeps } from "../sql/convert.ts";
import { parseSourceName, parseTableName } from "../sql/identifier.ts";
import type { Slicing } from "../sql/slice.ts";
import { baseType, canBeWatermark, holds, limits, shortType, typeFamily } from "../sql/type.ts";
import { PlanError } from "./error.ts";
import { plannedPeriods } from "./periods.ts";
import {
  type DeletionPolicy,
  type Guard,
  type LoadPlan,
  lineColumns,
  type PlannedColumn,
  type PlannedShape,
  type ProvePlan,
  type ReadRequest,
  type RejectPolicy,
} from "./plan.ts";
import { spanned, spansOf } from "./span.ts";

/** What a plan is made from besides the pipeline: the source as it is now, the shape admitted, and the target as it stands. */
export interface PlanFacts {
  dataset: Dataset;
  analysis: Analysis;
  /** the type of each computed column, by the warehouse column's name */
  types: Record<string, string>;
  /** the target's columns; null where it is not there yet or was not looked at */
  target: Dataset | null;
  /** types that warehouse columns keep though the source's have changed, by the source column's name */
  held?: ReadonlyMap<string, string>;
  /** which database the source is; a watermark taken from another one does not count */
  origin?: string | null;
  /** the moment of the read, by the source's clock; only a history asks for it */
  moment?: string | null;
  /** milliseconds since the epoch, from which the days of a report are reckoned */
  now?: number;
}

/**
 * The type in which a column's values stand in the target. A target that holds every value of the type, but prints it in
 * another form (more decimals, more padding), decides the form, so that both sides of a proof are in it.
 */
function standingType(type: string, declared: string | undefined): string {
  if (declared === undefined || declared === type) return type;
  return ["numeric", "character"].includes(baseType(type)) && limits(declared).length > 0 && holds(declared, type)
    ? declared
    : type;
}

/** The columns a load writes, in order. */
function plannedColumns(load: Load, { dataset, analysis, types, target, held: kept }: PlanFacts): PlannedColumn[] {
  const bySource = new Map(dataset.columns.map((column) => [column.name, column]));
  const held = new Map((target?.columns ?? []).map((column) => [column.name, column]));
  return analysis.columns.map((column) => {
    const source = column.source === null ? undefined : bySource.get(column.source);
    const given = source?.warehouseType ?? types[column.name];
    if (given === undefined) throw new PlanError(`The type of ${column.name} is not known`, ["columns", column.name]);
    const notNull = source?.notNull ?? false;
    const required = !notNull && (load.into.key?.includes(column.name) || (held.get(column.name)?.notNull ?? false));
    const stated = column.stated ?? (column.source === null ? undefined : kept?.get(column.source)) ?? given;
    return {
      ...column,
      given,
      stated,
      type: standingType(stated, held.get(column.name)?.declared),
      cast: source !== undefined && source.warehouseType !== source.declared,
      notNull,
      required,
    };
  });
}

/** A shape is needed where a row could be turned away, or where a value is computed. */
function plannedShape(
  load: Load,
  columns: PlannedColumn[],
  history: HistoryPlan | null,
  { dataset, analysis }: PlanFacts,
  { look }: PlanUse,
): PlannedShape | null {
  const watermark = load.watermark?.column;
  // Among rows of one key the watermark tells the latest, so it must be staged.
  const ranks = watermark !== undefined && columns.every((column) => column.source !== watermark);
  const dated = history?.since && history.since.written === null;
  const keyed = columns.some((column) => column.required && load.into.key?.includes(column.name));
  const plain = columns.every(
    (column) =>
      column.source !== null &&
      keeps(column.type, column.given) &&
      (!column.required || load.into.key?.includes(column.name)),
  );
  if (plain && analysis.rules.length === 0 && !(ranks && keyed) && !dated && !dataset.lines) return null;
  const read = new Set([
    ...columns.flatMap((column) => column.reads),
    ...(watermark ? [watermark] : []),
    ...(history?.since ? [history.since.source] : []),
  ]);
  const raw = dataset.columns
    .filter((column) => read.has(column.name))
    .map((column) => ({
      name: column.name,
      type: column.warehouseType,
      cast: column.warehouseType !== column.declared,
    }));
  return {
    raw: dataset.lines ? [...raw, ...lineColumns] : raw,
    lines: dataset.lines ?? false,
    rules: look
      ? analysis.rules.map((rule) => (rule.breach === "stop" ? { ...rule, breach: "reject" as const } : rule))
      : analysis.rules,
  };
}

/** What a plan is used for, where it is not the load's next ordinary run. */
export interface PlanUse {
  /** rows are mended by their key, whatever the mode adds them by */
  repair?: boolean;
  /** rows that were rejected are tried again; they have been within the load's limit before */
  again?: boolean;
  /** somebody looks at a few rows and is to see all of them, also those that would stop the load */
  look?: boolean;
}

function rejectPolicy(load: Load, { again, look }: PlanUse): RejectPolicy {
  const { limit, breach = "reject", duplicates = "reject", keep = 10_000 } = load.rejects ?? {};
  const share = typeof limit === "string" ? limit.replace("%", "") : null;
  const bounds =
    again || look ? { rows: null, share: null } : { rows: typeof limit === "number" ? limit : null, share };
  return { ...bounds, breach: look ? "reject" : breach, duplicates: look ? "reject" : duplicates, keep };
}

function deletionPolicy({ into }: Load, columns: PlannedColumn[]): DeletionPolicy | null {
  if (into.deleted === undefined || into.deleted === "keep") return null;
  const column = into.deletions?.column ?? "deleted_at";
  if (into.deleted === "mark" && columns.some((planned) => planned.name === column))
    throw new PlanError(`${column} is a column of the load; name another one to hold the time a row was found gone`, [
      "into",
      "deletions",
      "column",
    ]);
  return { how: into.deleted, column };
}

/** A share of a few rows is no guard but a nuisance: where none was stated, ten may always go. */
function guardOf({ into }: Load): Guard {
  const most = into.deletions?.most;
  return most === undefined ? { most: 50, few: 10 } : { most, few: 0 };
}

/**
 * Plans one load: resolves its columns and types against the dataset as it is now, and checks that key, watermark and
 * proof name columns that exist and can serve.
 * @throws PlanError with the path within the load.
 */
export function planLoad(
  pipelineName: string,
  pipeline: Pipeline,
  loadName: string,
  facts: PlanFacts,
  use: PlanUse = {},
): LoadPlan {
  const load = pipeline.loads[loadName];
  if (!load) throw new PlanError(`The pipeline has no load ${loadName}`);
  const { dataset } = facts;
  const columns = plannedColumns(load, facts);
  if (columns.length === 0) throw new PlanError("The source has no columns", ["from"]);
  const byName = new Map(columns.map((column) => [column.name, column]));
  const key = load.into.key ?? [];
  for (const name of key)
    if (!byName.has(name))
      throw new PlanError(`The key names ${name}, which is not a column of the load`, ["into", "key"]);
  if (
    load.into.mode === "append" &&
    key.length === 0 &&
    !columns.some((column) => column.source === load.watermark?.column)
  )
    throw new PlanError(
      `Without a key, an append tells rows apart by all their columns, so ${load.watermark?.column} must be one of them`,
      ["columns"],
    );
  if (load.from.parameters?.split !== undefined && load.watermark)
    throw new PlanError("A report has no watermark: which of its periods are asked for is said by from and to", [
      "watermark",
    ]);
  if (load.from.files !== undefined && load.watermark)
    throw new PlanError("Files have no watermark: which of them are new or changed is known by what they hold", [
      "watermark",
    ]);
  const periods = plannedPeriods(load, columns, facts.now ?? Date.now(), pipeline.zone ?? "UTC");
  const { moment = null } = facts;
  const history = planHistory(load, columns, { dataset, target: facts.target, moment });
  const { table, query, tables, origin, where } = spanned(load.from);
  const keySources = key
    .map((name) => byName.get(name))
    .map((column) => (column && column.source !== null && keeps(column.type, column.given) ? column.source : null));
  const keyGuaranteed =
    key.length > 0 && keySources.every((name) => name !== null) && guaranteesKey(dataset, keySources as string[]);
  const shape = plannedShape(load, columns, history, facts, use);
  return {
    pipeline: pipelineName,
    load: loadName,
    connection: load.from.connection,
    warehouse: pipeline.warehouse,
    read: {
      table: table ? parseSourceName(table) : null,
      query: query ?? null,
      union:
        tables && origin
          ? {
              tables: Object.entries(tables).map(([mark, name]) => ({ mark, table: parseTableName(name) })),
              origin,
              columns: dataset.columns.map((column) => column.name).filter((name) => name !== origin),
            }
          : null,
      where: where ?? null,
      files: load.from.files ?? null,
      origin: origin ?? null,
      spans: spansOf(load.from),
      periods: periods?.read ?? null,
      columns,
      listsGone: load.from.gone !== undefined,
      watermark: plannedWatermark(load, dataset),
    },
    shape,
    write: {
      target: parseTableName(load.into.table),
      part: facts.analysis.part,
      span: periods?.span ?? null,
      mode: use.repair && key.length && !history ? "upsert" : load.into.mode,
      key,
      keyGuaranteed,
      deletions: deletionPolicy(load, columns),
      guard: guardOf(load),
      rejects: rejectPolicy(load, use),
      history: history && { ...history, direct: comesDirect(history, dataset, keyGuaranteed, shape !== null) },
      dropVersions: load.into.versions === "drop",
    },
    prove: {
      slicing: periods?.slicing ?? plannedSlices(load, byName),
      figures: plannedFigures(load, byName),
      within: plannedWithin(load, byName),
    },
    report: plannedReport(
      load,
      shape?.raw.map(({ name }) => name) ?? columns.map(({ source, name }) => source ?? name),
      dataset,
    ),
    hashing: "stored",
    fingerprint: fingerprint(load, columns, facts.origin ?? null),
  };
}

/** What the source is told names columns that are read, so that they are known of a row that was turned away. */
function plannedReport({ report }: Load, read: readonly string[], dataset: Dataset): MarkForm | null {
  if (!report) return null;
  const path = ["report", report.sql === undefined ? "path" : "sql"];
  for (const name of markColumns(report)) {
    if (read.includes(name)) continue;
    throw new PlanError(
      dataset.columns.some((column) => column.name === name)
        ? `${name} is told to the source, but the load does not read it; take it as a column or into a rule`
        : `The source has no column ${name} to be told of; there are also reason and message`,
      path,
    );
  }
  return report;
}

/** The order of columns counts for nothing, and neither does one that the source has lost for a while. */
function fingerprint(load: Load, columns: readonly PlannedColumn[], origin: string | null): string {
  const read = columns.map(
    ({ name, source, text, stated, missing }) => [name, source ?? (missing ? text : { as: text }), stated] as const,
  );
  const sorted = read.toSorted(([a], [b]) => (a < b ? -1 : 1));
  return JSON.stringify([
    origin,
    load.from,
    load.watermark?.column ?? null,
    sorted,
    load.into.table,
    load.into.mode,
    load.into.key ?? [],
    ...(load.into.history?.since ? [load.into.history.since] : []),
    ...(load.into.part ? [{ part: load.into.part }] : []),
  ]);
}

function plannedWatermark(load: Load, dataset: Dataset): ReadRequest["watermark"] {
  if (!load.watermark) return null;
  const { column: name, lookBack } = load.watermark;
  const column = dataset.columns.find((candidate) => candidate.name === name);
  if (!column)
    throw new PlanError(`The source has no column ${name} to take a watermark from`, ["watermark", "column"]);
  const type = column.fits ?? column.warehouseType;
  if (!canBeWatermark(type))
    throw new PlanError(`${name} is ${shortType(type)}; a watermark needs a date, a time or a whole number`, [
      "watermark",
      "column",
    ]);
  const isMoment = typeFamily(type) === "moment";
  if (lookBack && isMoment !== lookBack.startsWith("P"))
    throw new PlanError(
      isMoment
        ? `The look-back for ${name} is a duration such as PT10M`
        : `The look-back for ${name} is a whole number`,
      ["watermark", "lookBack"],
    );
  return { column: name, type, given: column.warehouseType, nullable: !column.notNull, lookBack: lookBack ?? null };
}

function plannedSlices(load: Load, byName: Map<string, PlannedColumn>): Slicing | null {
  const by = load.proof?.by;
  if (!by) return null;
  const column = byName.get(by.column);
  if (!column)
    throw new PlanError(`The proof slices by ${by.column}, which is not a column of the load`, [
      "proof",
      "by",
      "column",
    ]);
  if (by.slice === "origin") {
    if (column.source === null || column.source !== load.from.origin)
      throw new PlanError(
        `${by.column} does not say where a row came from; slices of an origin need the column that does`,
        ["proof", "by", "column"],
      );
    return { column: by.column, type: column.type, unit: by.slice, zone: "UTC" };
  }
  if (typeFamily(column.type) !== "moment")
    throw new PlanError(`${by.column} is ${shortType(column.type)}; slices need a date or a time`, [
      "proof",
      "by",
      "column",
    ]);
  if (by.slice === "hour" && column.type === "date")
    throw new PlanError(`${by.column} is a date and has no hours`, ["proof", "by", "slice"]);
  return { column: by.column, type: column.type, unit: by.slice, zone: by.zone ?? "UTC" };
}

function plannedWithin(load: Load, byName: Map<string, PlannedColumn>): ProvePlan["within"] {
  const within = load.proof?.within;
  if (!within) return null;
  const key = [within.key].flat();
  const path = ["proof", "within"];
  for (const name of key)
    if (!byName.has(name)) throw new PlanError(`${name} is not a column of the load`, [...path, "key"]);
  const at = byName.get(within.at);
  if (!at) throw new PlanError(`${within.at} is not a column of the load`, [...path, "at"]);
  if (typeFamily(at.type) !== "moment")
    throw new PlanError(`${within.at} is ${shortType(at.type)}; a version is looked up at a date or a time`, [
      ...path,
      "at",
    ]);
  return { dimension: parseTableName(within.dimension), key, at: within.at };
}

function plannedFigures(load: Load, byName: Map<string, PlannedColumn>): Figure[] {
  const stated = (load.proof ?? wholeTableRows).figures.map((text) => ({ text, figure: parseFigure(text) }));
  return stated
    .filter(({ figure }) => !byName.get(figure.column ?? "")?.missing)
    .map(({ text, figure }, at) => {
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
