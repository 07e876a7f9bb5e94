import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { emptyTally, type RunKind, type Scope } from "@undercoat/core/run/run";
import { PipelineRow, RunLoadRow, RunRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import type { Queue } from "./queue.ts";

/** What somebody asks a pipeline to do. */
export interface RunRequest {
  pipeline: string;
  kind: RunKind;
  scope: Scope;
  /** the loads concerned; all where absent */
  loads?: string[];
  wantsRows?: boolean;
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
  const definition: Pipeline = pipeline.definition;
  const names = request.loads ?? Object.keys(definition.loads);
  const unknown = names.find((name) => !definition.loads[name]);
  if (unknown !== undefined) throw new RunRefused(`The pipeline ${request.pipeline} has no load ${unknown}`);
  const run = await store.sequelize.transaction(async (transaction) => {
    const created = await RunRow.create(
      { pipeline: request.pipeline, title: pipeline.title, definition, kind: request.kind, status: "queued", reason: request.reason, scope: request.scope, wantsRows: request.wantsRows ?? false, requestedBy: request.requestedBy, createdAt: new Date() },
      { transaction },
    );
    await RunLoadRow.bulkCreate(
      names.map((load) => ({ runId: created.id, load, target: definition.loads[load]?.into.table ?? "", status: "queued" as const, tally: emptyTally, phases: [], bytes: "0" })),
      { transaction },
    );
    return created;
  });
  await queue.send(run.id);
  await store.tell({ kind: "run", run: run.id, pipeline: run.pipeline, status: "queued" });
  return run;
}
