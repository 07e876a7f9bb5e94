import type { BothColumns, Preview, PreviewRow } from "@undercoat/core/api/api";
import { kindOf } from "@undercoat/core/connection/kinds";
import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { From, Load, Pipeline } from "@undercoat/core/pipeline/pipeline";
import { PlanError } from "@undercoat/core/plan/error";
import { type LoadPlan, stagedColumns } from "@undercoat/core/plan/plan";
import { trackedKey, windowFor } from "@undercoat/core/plan/window";
import { parseTableName } from "@undercoat/core/sql/identifier";
import { ownColumns } from "@undercoat/core/sql/target";
import { typeFamily } from "@undercoat/core/sql/type";
import { type Planned, periodsFor, planFor } from "@undercoat/engine/load/planning";
import { lookAtShape } from "@undercoat/engine/load/rehearse";
import { reasonOf, windowWords } from "@undercoat/engine/load/words";
import { sourceFor } from "@undercoat/engine/source/registry";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";
import type { WarehouseSnapshot } from "@undercoat/engine/warehouse/warehouse";
import type { Store } from "../store/store.ts";

/** A plan as it is, where a report does not say from when it would be asked for. */
const unsaid = (plan: LoadPlan) => (error: unknown) => {
  if (error instanceof PlanError) return plan;
  throw error;
};

/** True where a source says that it tells what changed, and the load can take it. */
const tellsChanges = ({ proposal }: Dataset, plan: LoadPlan) =>
  proposal?.tracked === true && trackedKey(plan, proposal.key) !== null;

type Values = Record<string, string | null>;

/** A load as it would read now, before its rows are laid beside the warehouse's. */
interface Look {
  planned: Planned;
  plan: LoadPlan;
  /** where the last run's reading ended */
  position: string | null;
  sql: string;
  rows: Values[];
  rejected: { reason: string; values: Values }[];
}

const silent = { line: () => undefined, phase: () => undefined, progress: () => undefined, waiting: () => undefined };

async function look(
  store: Store,
  name: string,
  pipeline: Pipeline,
  loadName: string,
  load: Load,
  limit: number,
  warehouse: WarehouseSnapshot | null,
  signal: AbortSignal,
): Promise<Look> {
  const credentials = await store.credentials(load.from.connection);
  const source = sourceFor(credentials);
  // What a source of another make prints is no text of the warehouse's: its rows are looked at as they would stand there.
  if (warehouse && (load.columns || load.rules || !kindOf(credentials.settings).warehouse)) {
    const into = warehouseFor(await store.credentials(pipeline.warehouse));
    const seen = await lookAtShape(
      { pipelineName: name, pipeline, load: loadName },
      limit,
      source,
      into,
      silent,
      signal,
    );
    const rows = seen.rows.map((row) =>
      Object.fromEntries(seen.plan.read.columns.map((column, at) => [column.name, row[at] ?? null])),
    );
    return { ...seen, rows };
  }
  const snapshot = await source.snapshot("undercoat preview", { from: load.from, signal });
  try {
    const planned = await planFor({ pipelineName: name, pipeline, load: loadName }, { source: snapshot, warehouse });
    const { plan } = planned;
    const position = planned.existing && warehouse ? await warehouse.watermark(plan) : null;
    const window = windowFor(plan, { kind: "due" }, position);
    return {
      planned,
      plan,
      position,
      sql: snapshot.statement(plan, window),
      rows: (await snapshot.answers(plan)?.preview(plan, window, limit)) ?? [],
      rejected: [],
    };
  } finally {
    await snapshot.close();
  }
}

/** The warehouse's rows of some rows' keys, by the key as JSON; none where it can't hold them yet. */
async function heldRows(
  { plan, planned, rows }: Look,
  warehouse: WarehouseSnapshot | null,
): Promise<Map<string, Map<string, string | null>>> {
  const { key } = plan.write;
  const there = new Set((planned.existing?.columns ?? []).map((column) => column.name));
  const ready =
    plan.read.columns.every((column) => column.missing || there.has(column.name)) &&
    ownColumns(plan).every((column) => there.has(column.name));
  if (!warehouse || key.length === 0 || !ready) return new Map();
  const keys = rows
    .map((row) => key.map((column) => row[column] ?? null))
    .filter((values): values is string[] => values.every((value) => value !== null));
  const side = warehouse.side(plan, null);
  const found = await side.rowsByKey(keys);
  return new Map(
    [...found].map(([name, { values }]) => [
      name,
      new Map(side.columns.map((column, at) => [column, values[at] ?? null])),
    ]),
  );
}

/** The columns of a load's source and of its target as they are, whatever its shape says. */
export async function columnsOfBoth(store: Store, from: From, warehouse: string, table: string): Promise<BothColumns> {
  const source = await sourceFor(await store.credentials(from.connection)).snapshot("undercoat columns");
  try {
    const target = await store
      .credentials(warehouse)
      .then((credentials) => warehouseFor(credentials).snapshot("undercoat columns"))
      .catch(() => null);
    try {
      const [dataset, existing] = await Promise.all([
        source.describe(from),
        target ? target.describe(parseTableName(table)) : null,
      ]);
      return {
        source: dataset.columns.map((column) => ({
          name: column.name,
          type: column.warehouseType,
          notNull: column.notNull,
        })),
        held: existing?.columns.map((column) => ({ name: column.name, type: column.declared })) ?? null,
      };
    } finally {
      await target?.close();
    }
  } finally {
    await source.close();
  }
}

/** How late rows came in the last runs of a load, within its look-back. */
async function lateness(store: Store, pipeline: string, load: string, plan: LoadPlan): Promise<Preview["late"]> {
  if (!plan.read.watermark || typeFamily(plan.read.watermark.type) !== "moment") return null;
  const [row] = await store.query<{ runs: number; rows: string | null; most: string | null }>(
    `SELECT count(*)::int AS runs, sum((late->>'rows')::bigint)::text AS rows, max((late->>'most')::interval)::text AS most FROM (
       SELECT l.findings->'late' AS late FROM run_loads l JOIN runs r ON r.id = l.run_id WHERE r.pipeline = :pipeline AND l.load = :load AND r.kind = 'load' AND l.findings IS NOT NULL ORDER BY l.id DESC LIMIT 50) f
     WHERE json_typeof(late) = 'object'`,
    { pipeline, load },
  );
  return row?.most && row.rows ? { runs: row.runs, rows: row.rows, most: row.most } : null;
}

/** The latest rows as a load would write them, each beside the warehouse's row of the same key, and those it would turn away. */
export async function previewLoad(
  store: Store,
  name: string,
  pipeline: Pipeline,
  loadName: string,
  limit: number,
  signal: AbortSignal,
): Promise<Preview> {
  const load = pipeline.loads[loadName];
  if (!load) throw new PlanError(`There is no load ${loadName}`);
  const warehouse = await store
    .credentials(pipeline.warehouse)
    .then((credentials) => warehouseFor(credentials).snapshot("undercoat preview", { signal }))
    .catch(() => null);
  try {
    const seen = await look(store, name, pipeline, loadName, load, limit, warehouse, signal);
    const { plan, planned, position } = seen;
    const watermark = plan.read.watermark ? position : null;
    const held = await heldRows(seen, warehouse);
    const beside = (row: Values): PreviewRow => {
      const values = held.get(JSON.stringify(plan.write.key.map((column) => row[column] ?? null)));
      return {
        values: row,
        rejected: null,
        held: values
          ? Object.fromEntries(
              plan.read.columns.map((column) => [column.name, values.get(column.name)?.slice(0, 300) ?? null]),
            )
          : null,
      };
    };
    const staged = new Set(stagedColumns(plan).map((column) => column.name));
    const turnedAway = seen.rejected.map(
      ({ reason, values }): PreviewRow => ({
        // A computed column has no value where the row is turned away; the others show what the source gives.
        values: Object.fromEntries(
          plan.read.columns.map((column) => [
            column.name,
            column.source !== null && staged.has(column.source) ? (values[column.source] ?? null) : null,
          ]),
        ),
        rejected: reason,
        held: null,
      }),
    );
    const used = new Set(plan.read.columns.flatMap((column) => column.reads));
    // What was looked at of a report are its last days; what a run would ask for is told.
    const due = await periodsFor(planned, { kind: "due" }, position, warehouse).catch(unsaid(plan));
    const window = windowFor(due, { kind: "due" }, position);
    return {
      columns: plan.read.columns.map((column) => ({
        name: column.name,
        source: column.text,
        computed: column.source === null,
        type: column.type,
        given: column.given,
        key: plan.write.key.includes(column.name),
      })),
      unused: planned.dataset.columns
        .filter((column) => !used.has(column.name))
        .map((column) => ({ name: column.name, type: column.warehouseType })),
      sourceColumns: planned.dataset.columns.map((column) => ({
        name: column.name,
        type: column.fits ?? column.warehouseType,
        notNull: column.notNull,
      })),
      rows: [...turnedAway, ...seen.rows.map(beside)],
      sql: seen.sql,
      watermark,
      tracked: window.kind === "delta" || tellsChanges(planned.dataset, plan),
      reads: `${windowWords(due, window).replace(/^reading /, "")}${reasonOf(plan, { kind: "due" }, window, planned.existing !== null)}`,
      held: planned.existing?.columns.map((column) => ({ name: column.name, type: column.declared })) ?? null,
      drift: planned.drifted.notes,
      late: await lateness(store, name, loadName, plan),
    };
  } finally {
    await warehouse?.close();
  }
}
