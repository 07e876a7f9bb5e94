import { type Given, lineOf, placesOf, resolve } from "@undercoat/core/parameter/resolve";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { emptyTally, type RunKind, type Scope } from "@undercoat/core/run/run";
import { Op, type Transaction } from "sequelize";
import { savePipeline } from "../pipelines/save.ts";
import { PipelineRow, RunLineRow, RunLoadRow, RunRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { withNewTables } from "./join.ts";
import type { Queue } from "./queue.ts";
import { RunRefused } from "./refused.ts";

/** What somebody asks a pipeline to do. */
export interface RunRequest {
  pipeline: string;
  kind: RunKind;
  scope: Scope;
  /** the loads concerned; all where absent */
  loads?: string[];
  wantsRows?: boolean;
  /** a rehearsal's own definition, which is not saved */
  definition?: Pipeline;
  /** the values it runs with; the defaults where absent */
  given?: Given;
  /** the first of the runs that are asked for together */
  heading?: number;
  /** a rehearsal's limit of rows */
  rowLimit?: number;
  /** the schedule that starts it */
  schedule?: string;
  /** the backfill that it is a slice of */
  backfill?: number;
  /** why it runs, as a run's page says it: `by hand`, `on schedule` */
  reason: string;
  requestedBy: string | null;
}

/** Tables that are new at a pipeline's source, and the version of the pipeline they would join. */
export interface Joining {
  definition: Pipeline;
  joined: string[];
  version: Date;
}

/** Looks for tables that join a pipeline. A source that can't be reached joins nothing; the run's own loads will say so. */
export async function newTablesOf(store: Store, { definition, updatedAt }: PipelineRow): Promise<Joining | null> {
  const found = await withNewTables(store, definition).catch(() => null);
  return found?.joined.length ? { ...found, version: updatedAt } : null;
}

/**
 * Writes a run down and hands it to the workers, both or neither. Tables that join are looked for before; where somebody
 * has changed the pipeline meanwhile, theirs stands and the tables join the next time.
 * @param within a transaction to be part of, and what was looked for before it
 * @throws RunRefused when the pipeline or a load does not exist; ResolveError where the values don't fit
 */
export async function requestRun(
  store: Store,
  queue: Queue,
  request: RunRequest,
  within?: { transaction: Transaction; joining?: Joining | null },
): Promise<RunRow> {
  if (within) return writeRun(store, queue, request, within.joining ?? null, within.transaction);
  const whole = request.kind === "load" && request.loads === undefined;
  const seen = whole ? await PipelineRow.findByPk(request.pipeline) : null;
  const joining = seen?.definition.joins ? await newTablesOf(store, seen) : null;
  return store.sequelize.transaction((transaction) => writeRun(store, queue, request, joining, transaction));
}

/**
 * Writes one run down for each set of values, all of them or none, under one heading. @throws as `requestRun` does
 */
export async function requestRuns(
  store: Store,
  queue: Queue,
  request: RunRequest,
  givens: readonly Given[],
  within?: { transaction: Transaction; joining?: Joining | null },
): Promise<RunRow[]> {
  const [first, ...others] = givens;
  if (others.length === 0) return [await requestRun(store, queue, { ...request, given: first }, within)];
  const all = async (transaction: Transaction) => {
    const runs: RunRow[] = [];
    for (const given of givens) {
      const heading = runs[0]?.id;
      runs.push(await writeRun(store, queue, { ...request, given, heading }, null, transaction));
    }
    await runs[0]?.update({ heading: runs[0].id }, { transaction });
    return runs;
  };
  return within ? all(within.transaction) : store.sequelize.transaction(all);
}

/** A backfill's slices are taken off the queue after everything else. */
const afterOthers = -1000;
/** So many runs of one pipeline that wait are told apart; the rest come in the order in which they were asked for. */
const mostTurns = 900;

/**
 * When a run's turn comes. Pipelines take turns: the second of a pipeline that waits comes after the first of each other,
 * and so on. What belongs to a backfill comes after everything else.
 */
async function turnOf({ id, pipeline, backfill }: RunRow, transaction: Transaction): Promise<number> {
  if (backfill !== null) return afterOthers;
  const before = await RunRow.count({
    where: { pipeline, status: "queued", backfill: null, id: { [Op.lt]: id } },
    transaction,
  });
  return -Math.min(before, mostTurns);
}

async function writeRun(
  store: Store,
  queue: Queue,
  request: RunRequest,
  joining: Joining | null,
  transaction: Transaction,
): Promise<RunRow> {
  const pipeline = await PipelineRow.findByPk(request.pipeline, { transaction, lock: transaction.LOCK.UPDATE });
  if (!pipeline) throw new RunRefused(`There is no pipeline ${request.pipeline}`);
  const joins = joining !== null && joining.version.getTime() === pipeline.updatedAt.getTime();
  const joined = joins ? joining.joined : [];
  const template = request.definition ?? (joins ? joining.definition : pipeline.definition);
  const given = request.given ?? {};
  const now = Date.now();
  const { definition, values } = resolve(template, given, now);
  const places = placesOf(template, now);
  const names = request.loads ?? Object.keys(definition.loads);
  const unknown = names.find((name) => !Object.hasOwn(definition.loads, name));
  if (unknown !== undefined) throw new RunRefused(`The pipeline ${request.pipeline} has no load ${unknown}`);
  const saved = joined.length
    ? await savePipeline(store, pipeline.name, template, {
        by: null,
        note: `${joined.join(", ")} joined`,
        transaction,
        before: pipeline.updatedAt,
      })
    : pipeline;
  const run = await RunRow.create(
    {
      pipeline: request.pipeline,
      title: definition.title,
      definition,
      given,
      values,
      heading: request.heading ?? null,
      version: request.definition ? null : saved.version,
      kind: request.kind,
      status: "queued",
      reason: request.reason,
      scope: request.scope,
      wantsRows: request.wantsRows ?? false,
      rowLimit: request.rowLimit ?? null,
      schedule: request.schedule ?? null,
      backfill: request.backfill ?? null,
      requestedBy: request.requestedBy,
      createdAt: new Date(),
    },
    { transaction },
  );
  await RunLoadRow.bulkCreate(
    names.map((load) => ({
      runId: run.id,
      load,
      target: definition.loads[load]?.into.table ?? "",
      line: lineOf(places, load, definition, given.set ?? null),
      status: "queued" as const,
      tally: emptyTally,
      phases: [],
      bytes: "0",
    })),
    { transaction },
  );
  if (joined.length)
    await RunLineRow.bulkCreate(
      joined.map((load) => ({
        runId: run.id,
        load,
        at: new Date(),
        message: `${definition.loads[load]?.from.table} is new at the source and has joined the pipeline`,
        sql: null,
      })),
      { transaction },
    );
  await queue.send(run.id, transaction, await turnOf(run, transaction));
  await store.tell({ kind: "run", run: run.id, pipeline: run.pipeline, status: "queued" }, transaction);
  return run;
}
