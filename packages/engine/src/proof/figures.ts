import { overallVerdict, pairSides, sameCells, verdictOf } from "@undercoat/core/proof/verdict";
import {
  type CellProof,
  type CountProof,
  countsAgree,
  type Failure,
  type HistoryProof,
  historyHolds,
  type LoadProof,
  type WithinProof,
} from "@undercoat/core/run/run";
import type { SliceChoice } from "@undercoat/core/sql/proof";
import type { FiguresOfSide } from "./side.ts";

/** Both sides' checksums of some rows, laid beside each other. */
export function cellProofOf(source: FiguresOfSide, warehouse: FiguresOfSide, of: CellProof["of"]): CellProof | null {
  const [left, right] = [source.total.cells, warehouse.total.cells];
  return left && right ? { rows: left.rows, verdict: sameCells(left, right) ? "proved" : "disagrees", of } : null;
}

/**
 * Lays both sides' figures beside each other as a proof. A source that could not compute its own leaves the load unproved.
 * @param asked the slices that were compared
 * @param read the proof of the cells of the rows that were read, where it is not the figures' own
 */
export function proofOf(
  names: readonly string[],
  source: FiguresOfSide | Failure,
  warehouse: FiguresOfSide,
  asked: SliceChoice,
  without: string | null,
  read: CellProof | null = null,
): LoadProof {
  const whole = asked === "all";
  const less = without === null ? {} : { without };
  if ("message" in source) {
    const figures = names.map((figure, at) => ({
      figure,
      source: null,
      warehouse: warehouse.total.values[at] ?? null,
    }));
    return {
      verdict: "unproved",
      depth: "figures",
      how: "source",
      whole: false,
      figures,
      slices: [],
      cells: null,
      ...less,
      trouble: source.message,
      sourceSql: "",
      warehouseSql: warehouse.sql,
    };
  }
  const slices = pairSides(names, source.slices, warehouse.slices, asked === "all" ? [] : asked);
  const figures = names.map((figure, at) => ({
    figure,
    source: source.total.values[at] ?? null,
    warehouse: warehouse.total.values[at] ?? null,
  }));
  const cells = read ?? cellProofOf(source, warehouse, "all");
  const bySlice = whole && slices.length === 0 ? verdictOf(figures) : overallVerdict(slices);
  const verdict = cells?.verdict === "disagrees" ? "disagrees" : bySlice;
  return {
    verdict,
    depth: cells ? "cells" : "figures",
    how: "source",
    whole,
    figures,
    slices,
    cells,
    ...less,
    sourceSql: source.sql,
    warehouseSql: warehouse.sql,
  };
}

/** The proof of a run that compared no figures: the cells of the rows that it read, and no slice. */
export function cellsAlone(cells: CellProof | null, without: string | null): LoadProof {
  return {
    verdict: cells?.verdict ?? "proved",
    depth: "cells",
    how: "source",
    whole: false,
    figures: [],
    slices: [],
    cells: cells ?? { rows: "0", verdict: "proved", of: "read" },
    ...(without === null ? {} : { without }),
    sourceSql: "",
    warehouseSql: "",
  };
}

/** A proof with what was found of versions: what always holds of a history's own, and whether rows find those that they look up. */
export function withVersions(proof: LoadProof, history: HistoryProof | null, within: WithinProof | null): LoadProof {
  const holds = (!history || historyHolds(history)) && (!within || within.astray === "0");
  return {
    ...proof,
    ...(history ? { history } : {}),
    ...(within ? { within } : {}),
    ...(holds ? {} : { verdict: "disagrees" as const }),
  };
}

/** A proof with the source's own counts. */
export function withCounts(proof: LoadProof, counted: CountProof | null): LoadProof {
  if (!counted) return proof;
  return { ...proof, counted, ...(countsAgree(counted) ? {} : { verdict: "disagrees" as const }) };
}
