import type { Depth, Verdict } from "@undercoat/core/proof/verdict";

export type MarkState = "empty" | "loaded" | "figures" | "proved" | "disagrees" | "loading";

export const markWords: Record<MarkState, string> = { empty: "not loaded", loaded: "loaded", figures: "figures agree", proved: "every cell agrees", disagrees: "disagrees", loading: "loading" };

/** The mark of a proof's verdict. */
export function markOf(verdict: Verdict | null, depth: Depth | null): MarkState {
  if (verdict === "disagrees") return "disagrees";
  if (verdict !== "proved") return "loaded";
  return depth === "cells" ? "proved" : "figures";
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
