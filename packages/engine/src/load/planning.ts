import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { From, Pipeline } from "@undercoat/core/pipeline/pipeline";
import { type LoadPlan, planLoad } from "@undercoat/core/plan/plan";
import { analyse } from "@undercoat/core/shape/analyse";
import { type Drifted, settleDrift } from "@undercoat/core/shape/drift";
import { parseTableName } from "@undercoat/core/sql/identifier";
import { LoadFailure } from "../failure.ts";
import type { WarehouseSnapshot } from "../warehouse/warehouse.ts";

/** Who can say what a plan needs to know. */
interface Asked {
  source: { describe(from: From): Promise<Dataset> };
  /** null where the warehouse can't be asked */
  warehouse: Pick<WarehouseSnapshot, "types" | "admitRules" | "describe" | "known"> | null;
}

export interface Planned {
  plan: LoadPlan;
  /** the source's columns as they are, before any drift is settled */
  dataset: Dataset;
  existing: Dataset | null;
  drifted: Drifted;
  /** true where it is time to look for rows gone from the source */
  sweep: boolean;
}

/**
 * Plans a load against its source and its target as they are now.
 * @throws PlanError, LoadFailure, ExpressionError; LoadFailure where the source's columns changed in a way the load stops at.
 */
export async function planFor(pipelineName: string, pipeline: Pipeline, loadName: string, { source, warehouse }: Asked): Promise<Planned> {
  const load = pipeline.loads[loadName];
  if (!load) throw new LoadFailure({ message: `The pipeline has no load ${loadName}` });
  const target = parseTableName(load.into.table);
  const [dataset, existing, known] = await Promise.all([
    source.describe(load.from),
    warehouse ? warehouse.describe(target) : null,
    warehouse ? warehouse.known({ pipeline: pipelineName, load: loadName, target }, load.into.deletions?.every ?? null) : { columns: null, sweep: true },
  ]);
  const drifted = await settleDrift(load, dataset, existing ? known.columns : null);
  if (drifted.stop) throw new LoadFailure(drifted.stop);
  const analysis = await analyse(load, drifted.dataset);
  const computed = analysis.columns.some((column) => column.source === null);
  const unasked = () => Object.fromEntries(analysis.columns.map((column) => [column.name, column.stated ?? "text"]));
  const types = !computed ? {} : warehouse ? await warehouse.types(drifted.dataset, analysis) : unasked();
  const plan = planLoad(pipelineName, pipeline, loadName, { dataset: drifted.dataset, analysis, types, target: existing, held: drifted.held });
  await warehouse?.admitRules(plan);
  return { plan, dataset, existing, drifted, sweep: known.sweep };
}
