import type { Verdict } from "@undercoat/core/proof/verdict";
import type { CellProof } from "@undercoat/core/run/run";

export type MarkState = "empty" | "loaded" | "figures" | "proved" | "disagrees" | "loading";

export const markWords: Record<MarkState, string> = {
  empty: "not loaded",
  loaded: "loaded",
  figures: "figures agree",
  proved: "every cell agrees",
  disagrees: "disagrees",
  loading: "loading",
};

/** The mark of a proof: at full height only where every cell that it is about was compared. */
export function markOf({ verdict, cells }: { verdict: Verdict | null; cells: CellProof | null }): MarkState {
  if (verdict === "disagrees") return "disagrees";
  if (verdict !== "proved") return "loaded";
  return cells?.of === "all" ? "proved" : "figures";
}

/** The product's sign: the lower coat says loaded; the upper says proved, at half height by figures, at full height by every cell. */
export function Mark({ state, wide = false }: { state: MarkState; wide?: boolean }) {
  return (
    <span className={`coat ${state}${wide ? " wide" : ""}`} aria-hidden="true">
      <i />
      <i />
    </span>
  );
}

export function Legend() {
  return (
    <div className="legend">
      {(["empty", "loaded", "figures", "proved", "disagrees"] as const).map((state) => (
        <span key={state}>
          <Mark state={state} /> {markWords[state]}
        </span>
      ))}
    </div>
  );
}
