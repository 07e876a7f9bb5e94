export type Verdict = "proved" | "disagrees" | "unproved";

/** What a proof compared: counts and aggregates, or every value by checksum. */
export type Depth = "figures" | "cells";

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
  depth: Depth;
}

/** The number of some rows and the sum of the hashes of their every value. */
export interface CellSum {
  rows: string;
  checksum: string;
}

/** One side's figures of one slice, in the order of the figures; `cells` is null where only figures were asked for. */
export interface SideSlice {
  values: (string | null)[];
  cells: CellSum | null;
}

/** One side's figures by slice. */
export type SideFigures = Map<string | null, SideSlice>;

/** The verdict over pairs: every one must be the same text. */
export function verdictOf(pairs: readonly FigurePair[]): Verdict {
  return pairs.every((pair) => pair.source === pair.warehouse) ? "proved" : "disagrees";
}

/** True where two checksums are of the same rows. */
export function sameCells(source: CellSum, warehouse: CellSum): boolean {
  return source.rows === warehouse.rows && source.checksum === warehouse.checksum;
}

const noCells: CellSum = { rows: "0", checksum: "" };

/**
 * Lays the two sides beside each other. A slice that one side has no rows for stands there with 0 rows and nulls,
 * so that it is compared and not passed over.
 * @param asked slices that were asked for, which stand there though neither side has a row of them
 * @returns slices in the order of their text, the slice of nulls last.
 */
export function pairSides(
  figures: readonly string[],
  source: SideFigures,
  warehouse: SideFigures,
  asked: readonly (string | null)[] = [],
): SliceFigures[] {
  const empty = figures.map((figure) => (figure === "rows" || figure.startsWith("count(") ? "0" : null));
  const slices = [...new Set([...source.keys(), ...warehouse.keys(), ...asked])].sort((a, b) =>
    a === null ? 1 : b === null ? -1 : a < b ? -1 : 1,
  );
  return slices.map((slice) => {
    const [left, right] = [source.get(slice), warehouse.get(slice)];
    const pairs = figures.map((figure, at) => ({
      figure,
      source: (left?.values ?? empty)[at] ?? null,
      warehouse: (right?.values ?? empty)[at] ?? null,
    }));
    const compared = (left ?? right)?.cells != null;
    const same = !compared || sameCells(left?.cells ?? noCells, right?.cells ?? noCells);
    return {
      slice,
      figures: pairs,
      verdict: same ? verdictOf(pairs) : "disagrees",
      depth: compared ? "cells" : "figures",
    };
  });
}

/** The verdict over all slices; no slice at all leaves the load unproved. */
export function overallVerdict(slices: readonly SliceFigures[]): Verdict {
  if (slices.length === 0) return "unproved";
  return slices.every((slice) => slice.verdict === "proved") ? "proved" : "disagrees";
}
