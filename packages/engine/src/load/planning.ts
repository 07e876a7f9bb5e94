import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { From, Pipeline } from "@undercoat/core/pipeline/pipeline";
import { type LoadPlan, planLoad } from "@undercoat/core/plan/plan";
import { analyse } from "@undercoat/core/shape/analyse";
import { parseTableName, type TableName } from "@undercoat/core/sql/identifier";
import { LoadFailure } from "../failure.ts";
import type { ProofSide } from "../proof/side.ts";

/** Who can say what a plan needs to know. */
interface Asked {
  source: { describe(from: From): Promise<Dataset> };
  /** finds the types of expressions, and describes the target; null where the warehouse can't be asked */
  warehouse: (Pick<ProofSide, "types" | "admitRules"> & { describe(target: TableName): Promise<Dataset | null> }) | null;
}

export interface Planned {
  plan: LoadPlan;
  dataset: Dataset;
  existing: Dataset | null;
}

/**
 * Plans a load against its source and its target as they are now.
 * @throws PlanError, LoadFailure, ExpressionError
 */
export async function planFor(pipelineName: string, pipeline: Pipeline, loadName: string, { source, warehouse }: Asked): Promise<Planned> {
  const load = pipeline.loads[loadName];
  if (!load) throw new LoadFailure({ message: `The pipeline has no load ${loadName}` });
  const [dataset, existing] = await Promise.all([source.describe(load.from), warehouse ? warehouse.describe(parseTableName(load.into.table)) : null]);
  const analysis = await analyse(load, dataset);
  const computed = analysis.columns.some((column) => column.source === null);
  const unasked = () => Object.fromEntries(analysis.columns.map((column) => [column.name, column.stated ?? "text"]));
  const types = !computed ? {} : warehouse ? await warehouse.types(dataset, analysis) : unasked();
  const plan = planLoad(pipelineName, pipeline, loadName, { dataset, analysis, types, target: existing });
  await warehouse?.admitRules(plan);
  return { plan, dataset, existing };
}
