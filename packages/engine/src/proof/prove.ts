import { takesAway } from "@undercoat/core/pipeline/pipeline";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import { grouped } from "@undercoat/core/proof/decimal";
import type { RowDifferences } from "@undercoat/core/proof/difference";
import type { LoadProof } from "@undercoat/core/run/run";
import { formatTableName, parseTableName } from "@undercoat/core/sql/identifier";
import type { SliceChoice } from "@undercoat/core/sql/proof";
import { Cancelled, isDataError, LoadFailure } from "../failure.ts";
import { definitionOf, type LoadName, periodsFor, planFor } from "../load/planning.ts";
import { type LoadReport, tellWaiting } from "../load/report.ts";
import { pipeRows } from "../load/staging.ts";
import { proofWords } from "../load/words.ts";
import type { Answers, Snapshot, Source } from "../source/source.ts";
import type { Warehouse, WarehouseSnapshot } from "../warehouse/warehouse.ts";
import { proofOf, withVersions } from "./figures.ts";
import { compareCells, type Sides } from "./rows.ts";
import type { ProofSide } from "./side.ts";

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
  if (takesAway({ from: reading }))
    throw new LoadFailure({
      message: "This load takes its files away once they are loaded, so they can't be read again",
      hint: "Each of its runs proved what it received before they went.",
    });
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
    return await prove(order, from.value, into.value, warehouse, report, signal);
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
  house: Warehouse,
  report: LoadReport,
  signal: AbortSignal,
): Promise<ProofOutcome> {
  const planned = await planFor(order, { source, warehouse });
  const { existing } = planned;
  const plan = await periodsFor(planned, { kind: "whole" }, null, warehouse);
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
  const own = source.answers(plan);
  const again = own ? null : await readAgain(order, plan, source, house, report, signal);
  const answers = own ?? again?.answers;
  if (!answers) throw new LoadFailure({ message: "Nothing answers for the source" });
  try {
    return await compareSides(order, plan, answers, warehouse, report, again ? "read again" : "source");
  } finally {
    await again?.close();
  }
}

/** Reads everything again into a place that only this session sees, and asks that instead of the source. */
async function readAgain(
  { run }: ProofOrder,
  plan: LoadPlan,
  source: Snapshot,
  warehouse: Warehouse,
  report: LoadReport,
  signal: AbortSignal,
): Promise<{ answers: Answers; close(): Promise<void> }> {
  report.phase("read");
  const session = await warehouse.session(`undercoat run ${run.id}`, { looking: true, signal });
  try {
    await session.begin(null, tellWaiting(report));
    const { landing, answers } = await session.receive(plan, null);
    const { rows } = await pipeRows(
      { source },
      landing,
      { plan, window: { kind: "all" }, limit: null, signal },
      report,
    );
    report.line(`${grouped(rows)} rows read again, to be compared`);
    return { answers, close: () => session.rollback().finally(() => session.close()) };
  } catch (error) {
    await session.close();
    throw error;
  }
}

async function compareSides(
  order: ProofOrder,
  plan: LoadPlan,
  source: Answers,
  warehouse: WarehouseSnapshot,
  report: LoadReport,
  how: LoadProof["how"],
): Promise<ProofOutcome> {
  report.phase("prove");
  const without = await warehouse.without(plan);
  const sides = { left: explained(plan, source.side(plan, without)), right: warehouse.side(plan, without) };
  const names = plan.prove.figures.map((figure) => figure.name);
  const watermark = order.rows ? await warehouse.watermark(plan) : null;
  const compared = order.rows
    ? await compareCells(
        sides,
        order.slices,
        plan.prove.slicing !== null,
        watermark === null ? null : (keys) => source.lateness(plan, keys, watermark),
      )
    : { ...(await figuresOf(sides, order.slices)), rows: null };
  const { left, right, rows } = compared;
  report.line(rows ? "figures and checksums of the source" : "figures of the source", left.sql);
  report.line(rows ? "figures and checksums of the warehouse" : "figures of the warehouse", right.sql);
  if (rows)
    report.line(
      `${rows.missing} missing, ${rows.extra} only in the warehouse, ${rows.different} different; found by comparing ${rows.checksums} checksums and ${rows.keysRead} keys`,
    );
  const kept = plan.write.history && order.rows ? await warehouse.history(plan) : null;
  const compare = proofOf(names, left, right, order.slices, without?.rows ?? null);
  const proof = { ...withVersions(compare, kept, await warehouse.within(plan)), how };
  report.line(proofWords(proof));
  return { proof, rows };
}

async function figuresOf({ left, right }: Sides, slices: SliceChoice) {
  const [ours, theirs] = await Promise.all([left.figures(slices, false), right.figures(slices, false)]);
  return { left: ours, right: theirs };
}

/** A row that no run has read and rejected yet may be one that the shape can't take; where a source fails on it, that is said. */
function explained(plan: LoadPlan, side: ProofSide): ProofSide {
  if (!plan.shape) return side;
  const told = (error: unknown): never => {
    if (!isDataError(error)) throw error;
    throw new LoadFailure({
      message: `The source's figures can't be computed: ${(error as Error).message}`,
      hint: "A row that has not been loaded yet may be one that the shape can't take. Run the load, which rejects it, and prove again.",
    });
  };
  const [figures, checksums] = [side.figures.bind(side), side.checksums.bind(side)];
  return Object.assign(side, {
    figures: (...of: Parameters<ProofSide["figures"]>) => figures(...of).catch(told),
    checksums: (...of: Parameters<ProofSide["checksums"]>) => checksums(...of).catch(told),
  });
}
