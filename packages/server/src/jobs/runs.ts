import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { emptyTally, type RunKind, type Scope } from "@undercoat/core/run/run";
import { PipelineRow, RunLineRow, RunLoadRow, RunRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { withNewTables } from "./join.ts";
import type { Queue } from "./queue.ts";

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
  /** a rehearsal's limit of rows */
  rowLimit?: number;
  /** why it runs, as a run's page says it: `by hand`, `on schedule` */
  reason: string;
  requestedBy: string | null;
}

/** A request that can't be met, with what is wrong. */
export class RunRefused extends Error {}

/** Writes a run down and hands it to the workers. @throws RunRefused when the pipeline or a load does not exist. */
export async function requestRun(store: Store, queue: Queue, request: RunRequest): Promise<RunRow> {
  const pipeline = await PipelineRow.findByPk(request.pipeline);
  if (!pipeline) throw new RunRefused(`There is no pipeline ${request.pipeline}`);
  const joining = request.kind === "load" && request.loads === undefined && pipeline.definition.joins !== undefined;
  // A source that can't be reached joins nothing; the run's own loads will say so.
  const { definition, joined } = joining
    ? await withNewTables(store, pipeline.definition).catch(() => ({ definition: pipeline.definition, joined: [] }))
    : { definition: request.definition ?? pipeline.definition, joined: [] };
  const names = request.loads ?? Object.keys(definition.loads);
  const unknown = names.find((name) => !definition.loads[name]);
  if (unknown !== undefined) throw new RunRefused(`The pipeline ${request.pipeline} has no load ${unknown}`);
  const run = await store.sequelize.transaction(async (transaction) => {
    if (joined.length)
      await PipelineRow.update(
        { definition, updatedAt: new Date() },
        { where: { name: request.pipeline }, transaction },
      );
    const created = await RunRow.create(
      {
        pipeline: request.pipeline,
        title: pipeline.title,
        definition,
        kind: request.kind,
        status: "queued",
        reason: request.reason,
        scope: request.scope,
        wantsRows: request.wantsRows ?? false,
        rowLimit: request.rowLimit ?? null,
        requestedBy: request.requestedBy,
        createdAt: new Date(),
      },
      { transaction },
    );
    await RunLoadRow.bulkCreate(
      names.map((load) => ({
        runId: created.id,
        load,
        target: definition.loads[load]?.into.table ?? "",
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
          runId: created.id,
          load,
          at: new Date(),
          message: `${definition.loads[load]?.from.table} is new at the source and has joined the pipeline`,
          sql: null,
        })),
        { transaction },
      );
    return created;
  });
  if (joined.length) await store.tell({ kind: "changed", what: "pipelines" });
  await queue.send(run.id);
  await store.tell({ kind: "run", run: run.id, pipeline: run.pipeline, status: "queued" });
  return run;
}
