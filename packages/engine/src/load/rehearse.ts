import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { type LoadPlan, type Window, windowFor } from "@undercoat/core/plan/plan";
import { grouped } from "@undercoat/core/proof/decimal";
import type { Rehearsal } from "@undercoat/core/run/rehearsal";
import { isDue, type Scope } from "@undercoat/core/run/run";
import { driftWords } from "@undercoat/core/run/drift";
import { formatTableName, parseTableName, type TableName } from "@undercoat/core/sql/identifier";
import { LoadFailure } from "../failure.ts";
import type { Source } from "../source/source.ts";
import type { Warehouse } from "../warehouse/warehouse.ts";
import { type Ends, withEnds } from "./ends.ts";
import { findGone, type LoadReport, repairing, windowWords } from "./load.ts";
import { type Planned, planFor } from "./planning.ts";
import { transfer } from "./staging.ts";

export interface RehearsalOrder {
  pipelineName: string;
  pipeline: Pipeline;
  load: string;
  scope: Scope;
  /** names the stage, which no other work may use at the same time */
  run: { id: number };
  /** look at so many rows only */
  limit: number | null;
}

/** Keys of rows gone from the source that are shown. */
const goneShown = 20;

function targetOf(pipeline: Pipeline, load: string): TableName {
  const definition = pipeline.loads[load];
  if (!definition) throw new LoadFailure({ message: `The pipeline has no load ${load}` });
  return parseTableName(definition.into.table);
}

/** Reads, stages, shapes and checks, as the run would. */
async function staged(ends: Ends, plan: LoadPlan, window: Window, run: number, report: LoadReport, signal: AbortSignal) {
  report.phase("read");
  const into = ends.warehouse;
  await into.begin(ends.inside);
  const stage = await into.stage(plan, run);
  const { rows: read } = await transfer(ends, plan, window, stage, report, signal);
  report.line(`${grouped(read)} rows staged`);
  report.phase("check");
  const checked = await into.sift(plan, stage, run, read, null, report.line);
  const rejected = checked.rejected === "0" ? [] : await into.rejectedExamples(plan, stage);
  if (!plan.shape && checked.rejected !== "0") await into.discard(stage);
  return { read, checked, rejected, accepted: (BigInt(read) - BigInt(checked.rejected)).toString() };
}

/**
 * Says what a run of a load would do on the data as it is now: reads, shapes, checks and matches, and writes nothing.
 * @throws LoadFailure, PlanError, Cancelled, as the run would.
 */
export function executeRehearsal(order: RehearsalOrder, source: Source, warehouse: Warehouse, report: LoadReport, signal: AbortSignal): Promise<Rehearsal> {
  const { pipelineName, pipeline, load, scope, run, limit } = order;
  return withEnds(`undercoat rehearsal ${run.id}`, source, warehouse, targetOf(pipeline, load), signal, async (ends) => {
    const { source: from, warehouse: into } = ends;
    report.phase("wait");
    const planned = await planFor(pipelineName, pipeline, load, { source: from, warehouse: into });
    const { existing, drifted } = planned;
    const plan = repairing(planned.plan, scope);
    for (const note of drifted.notes) report.line(driftWords(note));
    const stored = existing ? await into.watermark(plan) : null;
    const { window } = scope.kind === "rejected" ? await into.chosenRejected(plan, scope.ids) : { window: windowFor(plan, scope, stored) };
    report.line(windowWords(plan, window), from.statement(plan, window));
    const changes = into.changes(plan, existing, drifted.widened);
    for (const change of changes) report.line(`would run: ${change.message}`, change.sql);
    const { read, checked, rejected, accepted } = await staged(ends, { ...plan, read: { ...plan.read, limit } }, window, run.id, report, signal);
    report.phase("apply");
    for (const step of into.steps(plan)) report.line(`would run: ${step.message}`, step.sql);
    const weighed = await into.weigh(plan, checked.rows, accepted, existing, report.line);
    const sweeps = plan.deletions !== null && isDue(scope) && planned.sweep && existing !== null;
    const marks = plan.deletions?.how !== "mark" || existing?.columns.some((column) => column.name === plan.deletions?.column);
    const gone = sweeps ? await findGone(marks ? plan : { ...plan, deletions: { ...plan.deletions, how: "remove" } as typeof plan.deletions }, from, into, report) : [];
    const { added, altered, ...applied } = weighed;
    const deleted = sweeps ? String(gone.length) : applied.deleted;
    const late = existing && window.kind === "since" && changes.length === 0 ? await into.late(plan, checked.rows, window.value) : null;
    await into.rollback();
    return {
      into: formatTableName(plan.target),
      tally: { read, ...applied, deleted, rejected: checked.rejected },
      limit: limit !== null && BigInt(read) >= BigInt(limit) ? limit : null,
      changes,
      findings: { reasons: checked.reasons, counted: checked.counted, drift: drifted.notes, late },
      columns: plan.read.columns.map((column) => column.name),
      key: plan.key,
      added,
      altered,
      rejected,
      gone: gone.slice(0, goneShown),
      watermark: stored,
    };
  });
}

/** A plan that stops at no row: whoever looks at a few rows is to see all of them. */
function unstopped(plan: LoadPlan): LoadPlan {
  const shape = plan.shape && { ...plan.shape, rules: plan.shape.rules.map((rule) => (rule.breach === "stop" ? { ...rule, breach: "reject" as const } : rule)) };
  return { ...plan, shape, rejects: { ...plan.rejects, rows: null, share: null, breach: "reject", duplicates: "reject" } };
}

/** Some rows of a load as they would be written, and those that would be turned away. */
export interface ShapedLook {
  planned: Planned;
  plan: LoadPlan;
  window: Window;
  watermark: string | null;
  rows: (string | null)[][];
  rejected: { reason: string; values: Record<string, string | null> }[];
  sql: string;
}

/** Shapes the latest rows of a load in the warehouse and undoes it, for a person to look at. */
export function lookAtShape(pipelineName: string, pipeline: Pipeline, load: string, limit: number, source: Source, warehouse: Warehouse, report: LoadReport, signal: AbortSignal): Promise<ShapedLook> {
  return withEnds("undercoat preview", source, warehouse, targetOf(pipeline, load), signal, async (ends) => {
    const { source: from, warehouse: into } = ends;
    const planned = await planFor(pipelineName, pipeline, load, { source: from, warehouse: into });
    const plan = unstopped({ ...planned.plan, read: { ...planned.plan.read, limit } });
    const watermark = planned.existing ? await into.watermark(planned.plan) : null;
    const window = windowFor(plan, { kind: "due" }, watermark);
    const { checked, rejected } = await staged(ends, plan, window, Math.floor(Math.random() * 2 ** 31), report, signal);
    const rows = await into.firstRows(plan, checked.rows, limit);
    await into.rollback();
    return { planned, plan, window, watermark, rows, rejected, sql: from.statement(planned.plan, window) };
  });
}
