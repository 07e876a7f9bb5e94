import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import type { RowDifferences } from "@undercoat/core/proof/difference";
import type { SliceFigures } from "@undercoat/core/proof/verdict";
import type { LoadProof } from "@undercoat/core/run/run";
import { formatTableName } from "@undercoat/core/sql/identifier";
import type { SliceChoice } from "@undercoat/core/sql/proof";
import { Cancelled, isDataError, LoadFailure } from "../failure.ts";
import type { LoadReport } from "../load/load.ts";
import { planFor } from "../load/planning.ts";
import type { Snapshot, Source } from "../source/source.ts";
import type { Warehouse, WarehouseSnapshot } from "../warehouse/warehouse.ts";
import { proofOf } from "./figures.ts";
import { compareRows } from "./rows.ts";

export interface ProofOrder {
  pipelineName: string;
  pipeline: Pipeline;
  load: string;
  /** the slices to prove */
  slices: SliceChoice;
  /** true to look for the very rows in the slices that disagree */
  rows: boolean;
  run: { id: number; uid: string };
}

export interface ProofOutcome {
  proof: LoadProof;
  rows: RowDifferences | null;
}

/** Slices that are searched one by one; where more disagree, the whole table is. */
const fewSlices = 40;

/**
 * Proves a load without loading: the figures of both sides, each from one snapshot, and where asked the rows that
 * differ. Rows are compared in every slice where the figures disagree; where they agree, the search covers all chosen
 * slices, because two changes can hide each other in a sum.
 */
export async function executeProof(order: ProofOrder, source: Source, warehouse: Warehouse, report: LoadReport, signal: AbortSignal): Promise<ProofOutcome> {
  const name = `undercoat run ${order.run.id}`;
  const opened = await Promise.allSettled([source.snapshot(name, signal), warehouse.snapshot(name, signal)]);
  const [from, into] = opened;
  try {
    if (from.status === "rejected") throw from.reason;
    if (into.status === "rejected") throw into.reason;
    return await prove(order, from.value, into.value, report);
  } catch (error) {
    throw signal.aborted ? new Cancelled("Cancelled") : error;
  } finally {
    await Promise.all(opened.map((entry) => (entry.status === "fulfilled" ? entry.value.close() : undefined)));
  }
}

async function prove(order: ProofOrder, source: Snapshot, warehouse: WarehouseSnapshot, report: LoadReport): Promise<ProofOutcome> {
  const definition = order.pipeline.loads[order.load];
  if (!definition) throw new LoadFailure({ message: `The pipeline has no load ${order.load}` });
  const planned = await planFor(order.pipelineName, order.pipeline, order.load, { source, warehouse });
  const { existing } = planned;
  const plan = await warehouse.lessRejected(planned.plan);
  if (!existing) throw new LoadFailure({ message: `${formatTableName(plan.target)} is not loaded yet`, hint: "Run the pipeline first." });
  const lacking = plan.read.columns.filter((column) => !existing.columns.some((held) => held.name === column.name));
  if (lacking.length) throw new LoadFailure({ message: `${formatTableName(plan.target)} has no column ${lacking.map((column) => column.name).join(", ")}`, hint: "Run the pipeline first; it adds them." });
  report.phase("prove");
  const [ours, theirs] = await Promise.all([source.figures(plan, order.slices).catch((error: unknown) => explain(plan, error)), warehouse.figures(plan, order.slices)]);
  report.line("figures of the source", ours.sql);
  report.line("figures of the warehouse", theirs.sql);
  const proof = proofOf(plan, ours, theirs, order.slices === "all");
  if (!order.rows) return { proof, rows: null };
  const disagreeing = proof.slices.filter((slice) => slice.verdict === "disagrees").map((slice) => slice.slice);
  const slices = plan.by && disagreeing.length && disagreeing.length <= fewSlices ? disagreeing : order.slices;
  const chosen = slices === "all" ? proof.slices : proof.slices.filter((slice) => slices.includes(slice.slice));
  const rows = await compareRows(plan, { source, warehouse }, { slices }, rowsOf(chosen), await warehouse.watermark(plan));
  report.line(`${rows.missing} missing, ${rows.extra} only in the warehouse, ${rows.different} different; found by comparing ${rows.checksums} checksums and ${rows.keysRead} keys`);
  const found = rows.missing + rows.extra + rows.different > 0;
  return { proof: { ...proof, verdict: found ? "disagrees" : proof.verdict }, rows };
}

/** A row that no run has read and rejected yet may be one that the shape can't take. */
function explain(plan: LoadPlan, error: unknown): never {
  if (!plan.shape || !isDataError(error)) throw error;
  throw new LoadFailure({ message: `The source's figures can't be computed: ${(error as Error).message}`, hint: "A row that has not been loaded yet may be one that the shape can't take. Run the load, which rejects it, and prove again." });
}

/** The larger side's rows in some slices, where the figures count them. */
function rowsOf(slices: readonly SliceFigures[]): bigint | null {
  const counted = slices.map((slice) => slice.figures.find((pair) => pair.figure === "rows"));
  if (counted.some((pair) => pair === undefined)) return null;
  const total = (side: "source" | "warehouse") => counted.reduce((sum, pair) => sum + BigInt(pair?.[side] ?? 0), 0n);
  const [left, right] = [total("source"), total("warehouse")];
  return left > right ? left : right;
}
