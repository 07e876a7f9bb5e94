import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { HistoryShape } from "@undercoat/core/history/shape";
import type { Load, Pipeline } from "@undercoat/core/pipeline/pipeline";
import { isOfPeriods, withinPeriods } from "@undercoat/core/plan/periods";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import { type PlanUse, planLoad } from "@undercoat/core/plan/planner";
import { spanned } from "@undercoat/core/plan/span";
import { isDue, type Scope } from "@undercoat/core/run/run";
import { analyse } from "@undercoat/core/shape/analyse";
import { type Drifted, settleDrift } from "@undercoat/core/shape/drift";
import { parseTableName } from "@undercoat/core/sql/identifier";
import { LoadFailure } from "../failure.ts";
import type { Snapshot } from "../source/source.ts";
import type { WarehouseSnapshot } from "../warehouse/warehouse.ts";

/** One load of a pipeline. */
export interface LoadName {
  pipelineName: string;
  pipeline: Pipeline;
  load: string;
}

/** Who can say what a plan needs to know. */
interface Asked {
  source: Pick<Snapshot, "describe" | "identity" | "moment" | "answers">;
  /** null where the warehouse can't be asked */
  warehouse: Pick<WarehouseSnapshot, "types" | "admit" | "describe" | "known"> | null;
}

export interface Planned {
  plan: LoadPlan;
  /** the source's columns as they are, before any drift is settled */
  dataset: Dataset;
  existing: Dataset | null;
  drifted: Drifted;
  /** true where it is time to look for rows gone from the source */
  sweep: boolean;
  /** true where it is time, and the load itself says how often */
  compares: boolean;
  /** the history that the target keeps as yet */
  kept: HistoryShape | null;
}

/** One load, as it reads everything. @throws LoadFailure when the pipeline has no such load. */
export function definitionOf({ pipeline, load }: LoadName): Load {
  const definition = Object.hasOwn(pipeline.loads, load) ? pipeline.loads[load] : undefined;
  if (!definition) throw new LoadFailure({ message: `The pipeline has no load ${load}` });
  return { ...definition, from: spanned(definition.from) };
}

/** How a plan for some scope differs from the load's next ordinary run. @throws LoadFailure where a part of the table can't be told. */
export function useFor(scope: Scope, { from, into }: Load): PlanUse {
  if (isDue(scope) || isOfPeriods({ from }, scope)) return {};
  if (!into.key?.length && into.mode !== "append")
    throw new LoadFailure({
      message: "A part of this table can't be loaded again: the load has no key to match rows by",
      hint: "Give the load a key, or run the whole load.",
    });
  return { repair: true, again: scope.kind === "rejected" };
}

/** A report's plan for a scope, by what its target holds: of which periods it asks. Any other stays as it is. @throws PlanError */
export async function periodsFor(
  { plan, existing }: Pick<Planned, "plan" | "existing">,
  scope: Scope,
  stored: string | null,
  warehouse: Pick<WarehouseSnapshot, "standing"> | null,
): Promise<LoadPlan> {
  if (!plan.read.periods) return plan;
  return withinPeriods(plan, scope, stored, (await warehouse?.standing(plan, existing)) ?? null);
}

/**
 * Plans a load against its source and its target as they are now.
 * @throws PlanError, LoadFailure, ExpressionError; LoadFailure where the source's columns changed in a way the load stops at.
 */
export async function planFor(name: LoadName, { source, warehouse }: Asked, use: PlanUse = {}): Promise<Planned> {
  const load = definitionOf(name);
  const target = parseTableName(load.into.table);
  const [dataset, origin, existing, known] = await Promise.all([
    source.describe(load.from),
    source.identity(),
    warehouse ? warehouse.describe(target) : null,
    warehouse
      ? warehouse.known(
          { pipeline: name.pipelineName, load: name.load, target, part: load.into.part ?? null },
          load.into.deletions?.every ?? null,
        )
      : { columns: null, sweep: true, history: null },
  ]);
  // The moment lies after the snapshot's, which the first question took.
  const moment = load.into.mode === "history" ? await source.moment() : null;
  const drifted = await settleDrift(load, dataset, existing ? known.columns : null);
  if (drifted.stop) throw new LoadFailure(drifted.stop);
  const analysis = await analyse(load, drifted.dataset);
  const computed = analysis.columns.some((column) => column.source === null);
  const unasked = () => Object.fromEntries(analysis.columns.map((column) => [column.name, column.stated ?? "text"]));
  const types = !computed ? {} : warehouse ? await warehouse.types(drifted.dataset, analysis) : unasked();
  const made = planLoad(
    name.pipelineName,
    name.pipeline,
    name.load,
    { dataset: drifted.dataset, analysis, types, target: existing, held: drifted.held, origin, moment },
    use,
  );
  const plan = { ...made, hashing: source.answers(made)?.hashing ?? made.hashing };
  await warehouse?.admit(plan);
  // Where the source lists what it has deleted, keys are compared only when it is said how often.
  const often = load.into.deletions?.every !== undefined;
  const sweep = known.sweep && (!plan.read.listsGone || often);
  return { plan, dataset, existing, drifted, sweep, compares: sweep && often, kept: known.history };
}
