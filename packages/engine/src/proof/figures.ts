import type { LoadPlan } from "@undercoat/core/plan/plan";
import { overallVerdict, pairSides, verdictOf } from "@undercoat/core/proof/verdict";
import type { Failure, LoadProof } from "@undercoat/core/run/run";
import type { FiguresOfSide } from "./side.ts";

/** Lays both sides' figures beside each other as a proof. `whole` says whether every slice was compared. A source that could not compute its own leaves the load unproved. */
export function proofOf(plan: LoadPlan, source: FiguresOfSide | Failure, warehouse: FiguresOfSide, whole: boolean): LoadProof {
  const names = plan.figures.map((figure) => figure.name);
  const without = plan.without ? { without: plan.without.rows } : {};
  if ("message" in source) {
    const figures = names.map((figure, at) => ({ figure, source: null, warehouse: warehouse.total[at] ?? null }));
    return { verdict: "unproved", whole: false, figures, slices: [], ...without, trouble: source.message, sourceSql: "", warehouseSql: warehouse.sql };
  }
  const slices = pairSides(names, source.slices, warehouse.slices);
  const figures = names.map((figure, at) => ({ figure, source: source.total[at] ?? null, warehouse: warehouse.total[at] ?? null }));
  const verdict = whole && slices.length === 0 ? verdictOf(figures) : overallVerdict(slices);
  return { verdict, whole, figures, slices, ...without, sourceSql: source.sql, warehouseSql: warehouse.sql };
}
