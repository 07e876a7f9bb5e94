import type { LoadPlan } from "@undercoat/core/plan/plan";
import type { RowDifferences } from "@undercoat/core/proof/difference";
import type { SliceFigures } from "@undercoat/core/proof/verdict";
import type { LoadProof } from "@undercoat/core/run/run";
import { formatTableName, parseTableName } from "@undercoat/core/sql/identifier";
import type { SliceChoice } from "@undercoat/core/sql/proof";
import { Cancelled, isDataError, LoadFailure } from "../failure.ts";
import { definitionOf, type LoadName, planFor } from "../load/planning.ts";
import { type LoadReport, tellWaiting } from "../load/report.ts";
import { proofWords } from "../load/words.ts";
import type { Snapshot, Source } from "../source/source.ts";
import type { Warehouse, WarehouseSnapshot } from "../warehouse/warehouse.ts";
import { proofOf } from "./figures.ts";
import { type Compared, compareRows, type Sides } from "./rows.ts";
import type { FiguresOfSide } from "./side.ts";

export interface ProofOrder extends LoadName {
  /** the slices to prove */
  slices: SliceChoice;
  /** true to compare every cell, down to the very rows that differ */
  rows: boolean;
  run: { id: number; uid: string };
}

export interface ProofOutcome {
  proof: LoadProof;
  rows: RowDifferences | null;
}

/**
 * Proves a load without loading: the figures of both sides, each from one snapshot that no run of the load falls into; and
 * where asked every cell by checksum, with the rows that differ. Cells are compared everywhere that was asked for, also
 * where figures agree, because changes can hide each other in a sum.
 */
export async function executeProof(
  order: ProofOrder,
  source: Source,
  warehouse: Warehouse,
  report: LoadReport,
  signal: AbortSignal,
): Promise<ProofOutcome> {
  const name = `undercoat run ${order.run.id}`;
  const { from: reading, into: writing } = definitionOf(order);
  const waiting = tellWaiting(report);
  const settled = warehouse.snapshot(name, { settled: parseTableName(writing.table), waiting, signal });
  const opened = await Promise.allSettled([
    settled,
    source.snapshot(name, { from: reading, after: settled, waiting, signal }),
  ]);
  const [into, from] = opened;
  try {
    if (into.status === "rejected") throw into.reason;
    if (from.status === "rejected") throw from.reason;
    return await prove(order, from.value, into.value, report);
  } catch (error) {
    throw signal.aborted ? new Cancelled("Cancelled") : error;
  } finally {
    await Promise.all(opened.map((entry) => (entry.status === "fulfilled" ? entry.value.close() : undefined)));
  }
}

async function prove(
  order: ProofOrder,
  source: Snapshot,
  warehouse: WarehouseSnapshot,
  report: LoadReport,
): Promise<ProofOutcome> {
  const { plan, existing } = await planFor(order, { source, warehouse });
  const target = formatTableName(plan.write.target);
  if (!existing) throw new LoadFailure({ message: `${target} is not loaded yet`, hint: "Run the pipeline first." });
  const lacking = plan.read.columns.filter(
    (column) => !column.missing && !existing.columns.some((held) => held.name === column.name),
  );
  if (lacking.length)
    throw new LoadFailure({
      message: `${target} has no column ${lacking.map((column) => column.name).join(", ")}`,
      hint: "Run the pipeline first; it adds them.",
    });
  report.phase("prove");
  const without = await warehouse.without(plan);
  const sides = { left: source.side(plan, without), right: warehouse.side(plan, without) };
  const figures = (cells: boolean) =>
    Promise.all([
      sides.left.figures(order.slices, cells).catch((error: unknown) => explain(plan, error)),
      sides.right.figures(order.slices, cells),
    ]);
  const names = plan.prove.figures.map((figure) => figure.name);
  const lay = (ours: FiguresOfSide, theirs: FiguresOfSide) =>
    proofOf(names, ours, theirs, order.slices, without?.rows ?? null);
  const [ours, theirs] = await figures(false);
  report.line("figures of the source", ours.sql);
  report.line("figures of the warehouse", theirs.sql);
  if (!order.rows) {
    const proof = lay(ours, theirs);
    report.line(proofWords(proof));
    return { proof, rows: null };
  }
  const watermark = await warehouse.watermark(plan);
  const rows = await compareRows(
    sides,
    { slices: order.slices },
    watermark === null ? null : (keys) => source.lateness(plan, keys, watermark),
  );
  report.line(
    `${rows.missing} missing, ${rows.extra} only in the warehouse, ${rows.different} different; found by comparing ${rows.checksums} checksums and ${rows.keysRead} keys`,
  );
  const differing = rows.complete ? await slicesThatDiffer(sides, rows, plan.prove.slicing !== null) : null;
  // Where the search stopped, or no key tells where its rows lie, each slice has its own checksum.
  const proof = differing ? withCells(lay(ours, theirs), rows, differing) : lay(...(await figures(true)));
  report.line(proofWords(proof));
  const { compared: _, found: __, ...shown } = rows;
  return { proof, rows: shown };
}

/** The slices of the rows that differ; null where that can't be told from keys. */
async function slicesThatDiffer(
  { left, right }: Sides,
  { found }: Compared,
  sliced: boolean,
): Promise<Set<string | null> | null> {
  if (found.length === 0) return new Set();
  if (!sliced) return new Set([null]);
  const keys = found.filter((key): key is string[] => key.every((value) => value !== null));
  if (left.key.length === 0 || keys.length < found.length) return null;
  return new Set((await Promise.all([left.slicesOf(keys), right.slicesOf(keys)])).flat());
}

/** A proof by figures, raised to the depth of a comparison of every cell. */
function withCells(proof: LoadProof, { found, compared }: Compared, differing: ReadonlySet<string | null>): LoadProof {
  const slices = proof.slices.map(
    (slice): SliceFigures => ({
      ...slice,
      depth: "cells",
      verdict: differing.has(slice.slice) ? "disagrees" : slice.verdict,
    }),
  );
  const same = found.length === 0;
  return {
    ...proof,
    slices,
    depth: "cells",
    cells: { rows: compared, verdict: same ? "proved" : "disagrees", of: "all" },
    verdict: same ? proof.verdict : "disagrees",
  };
}

/** A row that no run has read and rejected yet may be one that the shape can't take. */
function explain(plan: LoadPlan, error: unknown): never {
  if (!plan.shape || !isDataError(error)) throw error;
  throw new LoadFailure({
    message: `The source's figures can't be computed: ${(error as Error).message}`,
    hint: "A row that has not been loaded yet may be one that the shape can't take. Run the load, which rejects it, and prove again.",
  });
}
