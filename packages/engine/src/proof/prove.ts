import type { LoadPlan } from "@undercoat/core/plan/plan";
import type { RowDifferences } from "@undercoat/core/proof/difference";
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
import { compareRows } from "./rows.ts";
import type { ProofSide } from "./side.ts";

/** Slices that are searched alone; where more differ, everything asked for is. */
const fewSlices = 1000;

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
export async function executeProof(order: ProofOrder, source: Source, warehouse: Warehouse, report: LoadReport, signal: AbortSignal): Promise<ProofOutcome> {
  const name = `undercoat run ${order.run.id}`;
  const { from: reading, into: writing } = definitionOf(order);
  const waiting = tellWaiting(report);
  const settled = warehouse.snapshot(name, { settled: parseTableName(writing.table), waiting, signal });
  const opened = await Promise.allSettled([settled, source.snapshot(name, { from: reading, after: settled, waiting, signal })]);
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

async function prove(order: ProofOrder, source: Snapshot, warehouse: WarehouseSnapshot, report: LoadReport): Promise<ProofOutcome> {
  const { plan, existing } = await planFor(order, { source, warehouse });
  const target = formatTableName(plan.write.target);
  if (!existing) throw new LoadFailure({ message: `${target} is not loaded yet`, hint: "Run the pipeline first." });
  const lacking = plan.read.columns.filter((column) => !column.missing && !existing.columns.some((held) => held.name === column.name));
  if (lacking.length) throw new LoadFailure({ message: `${target} has no column ${lacking.map((column) => column.name).join(", ")}`, hint: "Run the pipeline first; it adds them." });
  report.phase("prove");
  const without = await warehouse.without(plan);
  const sides = { left: source.side(plan, without), right: warehouse.side(plan, without) };
  const [ours, theirs] = await Promise.all([sides.left.figures(order.slices, order.rows).catch((error: unknown) => explain(plan, error)), sides.right.figures(order.slices, order.rows)]);
  report.line("figures of the source", ours.sql);
  report.line("figures of the warehouse", theirs.sql);
  const proof = proofOf(plan.prove.figures.map((figure) => figure.name), ours, theirs, order.slices === "all", without?.rows ?? null);
  report.line(proofWords(proof));
  if (!order.rows) return { proof, rows: null };
  const differing = proof.slices.filter((slice) => slice.verdict === "disagrees");
  if (differing.length === 0 && proof.verdict === "proved") return { proof, rows: noDifferences(sides.left) };
  // Where every cell of a slice is the same, no row of it differs.
  const slices: SliceChoice = plan.prove.slicing && differing.length <= fewSlices ? differing.map((slice) => slice.slice) : order.slices;
  const watermark = await warehouse.watermark(plan);
  const rows = await compareRows(sides, { slices }, null, watermark === null ? null : (keys) => source.lateness(plan, keys, watermark));
  report.line(`${rows.missing} missing, ${rows.extra} only in the warehouse, ${rows.different} different; found by comparing ${rows.checksums} checksums and ${rows.keysRead} keys`);
  return { proof, rows };
}

function noDifferences(side: ProofSide): RowDifferences {
  return { columns: [...side.columns], key: [...side.key], missing: 0, extra: 0, different: 0, complete: true, rows: [], checksums: 2, keysRead: 0, bytes: 0, causes: [] };
}

/** A row that no run has read and rejected yet may be one that the shape can't take. */
function explain(plan: LoadPlan, error: unknown): never {
  if (!plan.shape || !isDataError(error)) throw error;
  throw new LoadFailure({ message: `The source's figures can't be computed: ${(error as Error).message}`, hint: "A row that has not been loaded yet may be one that the shape can't take. Run the load, which rejects it, and prove again." });
}
