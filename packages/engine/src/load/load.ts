import { pipeline as pipe } from "node:stream/promises";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { type LoadPlan, planLoad, type Window, windowFor } from "@undercoat/core/plan/plan";
import { grouped } from "@undercoat/core/proof/decimal";
import { balances, type LoadProof, type Phase, type PhaseTime, type Scope, type Tally } from "@undercoat/core/run/run";
import { formatTableName, parseTableName, type TableName } from "@undercoat/core/sql/identifier";
import type { SliceChoice } from "@undercoat/core/sql/proof";
import { Cancelled, LoadFailure } from "../failure.ts";
import { proofOf } from "../proof/figures.ts";
import type { Snapshot, Source } from "../source/source.ts";
import type { Warehouse, WarehouseSession } from "../warehouse/warehouse.ts";

/** What a load tells while it works. */
export interface LoadReport {
  line(message: string, sql?: string): void;
  phase(phase: Phase): void;
  /** rows and bytes taken in so far */
  progress(rows: string, bytes: number): void;
  /** the run that holds the target, or null when the wait is over */
  waiting(holder: string | null): void;
}

export interface LoadOrder {
  pipelineName: string;
  pipeline: Pipeline;
  load: string;
  scope: Scope;
  run: { id: number; uid: string };
}

export interface LoadOutcome {
  tally: Tally;
  watermark: string | null;
  proof: LoadProof;
  bytes: number;
  phases: PhaseTime[];
}

/** How often a long read says how far it is, in milliseconds. */
const progressEvery = 400;

/**
 * Runs one load: reads a snapshot of the source into the warehouse and proves it, in one warehouse transaction that
 * holds the rows, the watermark, the tally and the proof, or nothing.
 * @throws LoadFailure, PlanError, Cancelled; the warehouse is then as it was before.
 */
export async function executeLoad(order: LoadOrder, source: Source, warehouse: Warehouse, report: LoadReport, signal: AbortSignal): Promise<LoadOutcome> {
  const name = `undercoat run ${order.run.id}`;
  const clock = phaseClock(report);
  const opened = await Promise.allSettled([warehouse.session(name, signal), source.snapshot(name, signal)]);
  const [into, from] = opened;
  try {
    if (into.status === "rejected") throw into.reason;
    if (from.status === "rejected") throw from.reason;
    return await load(order, from.value, into.value, report, clock, signal);
  } catch (error) {
    throw signal.aborted ? new Cancelled("Cancelled") : error;
  } finally {
    await Promise.all(opened.map((entry) => (entry.status === "fulfilled" ? entry.value.close() : undefined)));
  }
}

interface PhaseClock {
  start(phase: Phase): void;
  times(): PhaseTime[];
}

function phaseClock(report: LoadReport): PhaseClock {
  const origin = performance.now();
  const now = () => Math.round((performance.now() - origin) * 10) / 10;
  const times: PhaseTime[] = [];
  const end = () => {
    const open = times.at(-1);
    if (open) open.to = now();
  };
  return {
    start(phase) {
      end();
      times.push({ phase, from: now(), to: now() });
      report.phase(phase);
    },
    times() {
      end();
      return times;
    },
  };
}

async function load(order: LoadOrder, source: Snapshot, warehouse: WarehouseSession, report: LoadReport, clock: PhaseClock, signal: AbortSignal): Promise<LoadOutcome> {
  const { pipelineName, pipeline, scope, run } = order;
  const definition = pipeline.loads[order.load];
  if (!definition) throw new LoadFailure({ message: `The pipeline has no load ${order.load}` });
  clock.start("wait");
  const target = parseTableName(definition.into.table);
  await warehouse.lock(target, (holder) => {
    report.waiting(holder.replace(/^undercoat /, ""));
    report.line(`waiting for ${holder.replace(/^undercoat /, "")}, which is writing ${formatTableName(target)}`);
  });
  report.waiting(null);
  // Only now: the source's snapshot begins with its first question, and one from before the wait would bring older rows over newer.
  const plan = repairing(planLoad(pipelineName, pipeline, order.load, await source.describe(definition.from)), scope);
  const existing = await warehouse.describe(plan.target);
  const stored = existing ? await warehouse.watermark(plan) : null;
  const window = windowFor(plan, scope, stored);
  report.line(windowWords(plan, window), source.statement(plan, window));

  clock.start("read");
  await warehouse.begin();
  const created = await warehouse.prepare(plan, existing, report.line);
  const direct = created && window.kind === "all";
  const stage = direct ? null : await warehouse.stage(plan, run.id);
  const { rows: read, bytes } = await transfer(source, warehouse, plan, window, stage ?? plan.target, report, signal);
  report.line(`${grouped(read)} rows ${direct ? "written" : "staged"}`);

  if (stage) {
    clock.start("check");
    await warehouse.checkKeys(plan, stage);
  }
  const slices: SliceChoice = !plan.by || direct || (await warehouse.isSmall(plan.target)) ? "all" : await warehouse.touched(plan, stage as TableName);
  // The source works out its watermark and figures while the warehouse applies; both come from the snapshot that was read.
  const sourceSide = afterReading(source, plan, window, slices);
  sourceSide.catch(() => undefined);
  clock.start("apply");
  const applied = stage ? await warehouse.apply(plan, stage, read, report.line) : { new: read, changed: "0", same: "0", deleted: "0" };
  if (stage) await warehouse.dropStage(stage);
  else await warehouse.finishTarget(plan, report.line);
  const tally: Tally = { read, ...applied, rejected: "0" };
  if (!balances(tally)) throw new LoadFailure({ message: "The tally does not balance, so nothing was written", detail: JSON.stringify(tally) });

  clock.start("prove");
  const [{ highest, figures }, warehouseFigures] = await Promise.all([sourceSide, warehouse.figures(plan, slices)]);
  const proof = proofOf(plan, figures, warehouseFigures, slices === "all");
  report.line(proofWords(proof), figures.sql);
  const watermark = highest ?? stored;
  await warehouse.record(plan, run.uid, tally, watermark === null ? null : { value: watermark, keep: scope.kind === "due" }, proof);
  await warehouse.commit();
  report.line(watermark && scope.kind === "due" ? `committed; watermark ${watermark}` : "committed");
  return { tally, watermark, proof, bytes, phases: clock.times() };
}

/** A repair mends rows by their key whatever the mode adds them by. */
function repairing(plan: LoadPlan, scope: Scope): LoadPlan {
  if (scope.kind === "due") return plan;
  if (plan.key.length === 0 && plan.mode !== "append")
    throw new LoadFailure({ message: "A part of this table can't be loaded again: the load has no key to match rows by", hint: "Give the load a key, or run the whole load." });
  return plan.key.length ? { ...plan, mode: "upsert" } : plan;
}

async function afterReading(source: Snapshot, plan: LoadPlan, window: Window, slices: SliceChoice) {
  const highest = await source.highWater(plan, window);
  return { highest, figures: await source.figures(plan, slices) };
}

/** Pipes the rows across with back-pressure; both ends must have counted the same number. */
async function transfer(source: Snapshot, warehouse: WarehouseSession, plan: LoadPlan, window: Window, table: TableName, report: LoadReport, signal: AbortSignal) {
  const rows = source.rows(plan, window);
  const sink = warehouse.sink(plan, table);
  let bytes = 0;
  let asking = false;
  rows.on("data", (chunk: Buffer) => {
    bytes += chunk.length;
  });
  const ticker = setInterval(async () => {
    if (asking) return;
    asking = true;
    const seen = await warehouse.progress().catch(() => null);
    asking = false;
    if (seen) report.progress(seen.rows, bytes);
  }, progressEvery);
  try {
    await pipe(rows, sink, { signal });
  } finally {
    clearInterval(ticker);
  }
  const sent = String(rows.rowCount);
  const taken = String(sink.rowCount);
  if (sent !== taken) throw new LoadFailure({ message: `The source sent ${grouped(sent)} rows and the warehouse took ${grouped(taken)}`, hint: "Nothing was written; run again." });
  report.progress(sent, bytes);
  return { rows: sent, bytes };
}

function windowWords(plan: LoadPlan, window: Window): string {
  const watermark = plan.read.watermark;
  switch (window.kind) {
    case "all":
      return "reading the whole dataset";
    case "since":
      return `reading ${watermark?.column} ≥ ${window.value}${watermark?.lookBack ? ` less ${watermark.lookBack}` : ""}`;
    case "interval":
      return `reading ${window.column} from ${window.from} to ${window.to}`;
    case "slice":
      return `reading the ${plan.by?.slice} ${window.slice ?? "without a date"}`;
    case "keys":
      return `reading ${grouped(String(window.keys.length))} rows by their key`;
  }
}

function proofWords(proof: LoadProof): string {
  const agreeing = proof.slices.filter((slice) => slice.verdict === "proved").length;
  if (proof.slices.length === 1 && proof.slices[0]?.slice === null) return `proof: the figures ${proof.verdict === "proved" ? "agree" : "disagree"}`;
  return `proof: ${grouped(String(agreeing))} of ${grouped(String(proof.slices.length))} slices agree`;
}
