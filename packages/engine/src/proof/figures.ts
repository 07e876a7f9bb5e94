import type { LoadPlan } from "@undercoat/core/plan/plan";
import { overallVerdict, pairSides, verdictOf } from "@undercoat/core/proof/verdict";
import type { LoadProof } from "@undercoat/core/run/run";
import type { FiguresOfSide } from "./side.ts";

/** Lays both sides' figures beside each other as a proof. `whole` says whether every slice was compared. */
export function proofOf(plan: LoadPlan, source: FiguresOfSide, warehouse: FiguresOfSide, whole: boolean): LoadProof {
  const names = plan.figures.map((figure) => figure.name);
  const slices = pairSides(names, source.slices, warehouse.slices);
  const figures = names.map((figure, at) => ({ figure, source: source.total[at] ?? null, warehouse: warehouse.total[at] ?? null }));
  const verdict = whole && slices.length === 0 ? verdictOf(figures) : overallVerdict(slices);
  return { verdict, whole, figures, slices, sourceSql: source.sql, warehouseSql: warehouse.sql };
}
