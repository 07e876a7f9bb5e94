import { sameValue } from "./decimal.ts";

export type Verdict = "proved" | "disagrees" | "unproved";

/** One figure from both sides, as exact text; null is SQL's null. */
export interface FigurePair {
  figure: string;
  source: string | null;
  warehouse: string | null;
}

/** The figures of one slice; `slice` is its first day or moment as text, or null for rows whose slice column is null or for a whole table. */
export interface SliceFigures {
  slice: string | null;
  figures: FigurePair[];
  verdict: Verdict;
}

/** One side's figures: slice → values in the order of the figures. */
export type SideFigures = Map<string | null, (string | null)[]>;

/** The verdict over pairs: every one must be the same value. */
export function verdictOf(pairs: readonly FigurePair[]): Verdict {
  return pairs.every((pair) => sameValue(pair.source, pair.warehouse)) ? "proved" : "disagrees";
}

/**
 * Lays the two sides beside each other. A slice that one side has no rows for stands there with 0 rows and nulls,
 * so that it is compared and not passed over.
 * @returns slices in the order of their text, the slice of nulls last.
 */
export function pairSides(figures: readonly string[], source: SideFigures, warehouse: SideFigures): SliceFigures[] {
  const empty = figures.map((figure) => (figure === "rows" || figure.startsWith("count(") ? "0" : null));
  const slices = [...new Set([...source.keys(), ...warehouse.keys()])].sort((a, b) => (a === null ? 1 : b === null ? -1 : a < b ? -1 : 1));
  return slices.map((slice) => {
    const left = source.get(slice) ?? empty;
    const right = warehouse.get(slice) ?? empty;
    const pairs = figures.map((figure, at) => ({ figure, source: left[at] ?? null, warehouse: right[at] ?? null }));
    return { slice, figures: pairs, verdict: verdictOf(pairs) };
  });
}

/** The verdict over all slices; no slice at all leaves the load unproved. */
export function overallVerdict(slices: readonly SliceFigures[]): Verdict {
  if (slices.length === 0) return "unproved";
  return slices.every((slice) => slice.verdict === "proved") ? "proved" : "disagrees";
}
