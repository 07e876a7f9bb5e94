import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { type LoadPlan, type Window, windowFor } from "@undercoat/core/plan/plan";
import { grouped } from "@undercoat/core/proof/decimal";
import { driftWords } from "@undercoat/core/run/drift";
import { balances, type Failure, type Findings, isDue, type LoadProof, type Phase, type PhaseTime, type Scope, type Tally } from "@undercoat/core/run/run";
import { durationWords } from "@undercoat/core/schedule/duration";
import { formatTableName, parseTableName, type TableName } from "@undercoat/core/sql/identifier";
import type { SliceChoice } from "@undercoat/core/sql/proof";
import { failureOf, isDataError, LoadFailure } from "../failure.ts";
import { proofOf } from "../proof/figures.ts";
import { goneKeys } from "../proof/rows.ts";
import type { FiguresOfSide } from "../proof/side.ts";
import type { Snapshot, Source } from "../source/source.ts";
import type { Checked, Warehouse, WarehouseSession } from "../warehouse/warehouse.ts";
import { type Ends, withEnds } from "./ends.ts";
import { planFor } from "./planning.ts";
import { transfer } from "./staging.ts";

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
  findings: Findings;
}

/**
 * Runs one load: reads a snapshot of the source into the warehouse and proves it, in one warehouse transaction that
 * holds the rows, the watermark, the tally and the proof, or nothing.
 * @throws LoadFailure, PlanError, Cancelled; the warehouse is then as it was before.
 */
export async function executeLoad(order: LoadOrder, source: Source, warehouse: Warehouse, report: LoadReport, signal: AbortSignal): Promise<LoadOutcome> {
  const definition = order.pipeline.loads[order.load];
  if (!definition) throw new LoadFailure({ message: `The pipeline has no load ${order.load}` });
  const target = parseTableName(definition.into.table);
  const clock = phaseClock(report);
  return withEnds(`undercoat run ${order.run.id}`, source, warehouse, target, signal, (ends) => load(order, target, ends, report, clock, signal));
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

async function load(order: LoadOrder, target: TableName, ends: Ends, report: LoadReport, clock: PhaseClock, signal: AbortSignal): Promise<LoadOutcome> {
  const { pipelineName, pipeline, scope, run } = order;
  const { source, warehouse, inside } = ends;
  clock.start("wait");
  await warehouse.lock(target, (holder) => {
    report.waiting(holder.replace(/^undercoat /, ""));
    report.line(`waiting for ${holder.replace(/^undercoat /, "")}, which is writing ${formatTableName(target)}`);
  });
  report.waiting(null);
  // Only now: the source's snapshot begins with its first question, and one from before the wait would bring older rows over newer.
  const planned = await planFor(pipelineName, pipeline, order.load, { source, warehouse });
  const { existing, drifted } = planned;
  const plan = repairing(planned.plan, scope);
  for (const note of drifted.notes) report.line(driftWords(note));
  const stored = existing ? await warehouse.watermark(plan) : null;
  const { window, ids } = scope.kind === "rejected" ? await warehouse.chosenRejected(plan, scope.ids) : { window: windowFor(plan, scope, stored), ids: null };
  report.line(`${windowWords(plan, window)}${reasonOf(plan, scope, window, existing !== null)}`, source.statement(plan, window));

  clock.start("read");
  const created = existing === null;
  if (created) await warehouse.makeSchema(plan.target.schema);
  await warehouse.begin(inside);
  await warehouse.change(warehouse.changes(plan, existing, drifted.widened), report.line);
  const whole = window.kind === "all";
  // A new table takes the rows as they come where none of them could be turned away.
  const fresh = created && whole && (plan.key.length === 0 || plan.keyGuaranteed);
  const stage = fresh && !plan.shape ? null : await warehouse.stage(plan, run.id);
  const { rows: read, bytes } = await transfer(ends, plan, window, stage ?? plan.target, report, signal);
  report.line(`${grouped(read)} rows ${stage ? "staged" : "written"}`);

  let rows: TableName | null = null;
  let checked: Checked = { rejected: "0", reasons: [], counted: [] };
  if (stage) {
    clock.start("check");
    const sifted = await warehouse.sift(plan, stage, run.id, read, fresh ? plan.target : null, report.line);
    checked = sifted;
    rows = fresh ? null : sifted.rows;
  }
  await warehouse.keepRejected(plan, stage, run, { whole, ids }, checked.rejected);
  const accepted = (BigInt(read) - BigInt(checked.rejected)).toString();
  const sweeping = plan.deletions !== null && isDue(scope) && planned.sweep && !created;
  const swept = sweeping ? await sweep(plan, source, warehouse, report) : { rows: "0", slices: [] };
  const slices: SliceChoice = !plan.by || !rows || (await warehouse.isSmall(plan.target)) ? "all" : [...new Set([...(await warehouse.touched(plan, rows)), ...swept.slices])];
  // The source works out its watermark and figures while the warehouse applies; both come from the snapshot that was read.
  const proving = await warehouse.lessRejected(plan);
  const late = rows && window.kind === "since" ? await warehouse.late(plan, rows, window.value) : null;
  if (late) report.line(`${grouped(late.rows)} row${late.rows === "1" ? "" : "s"} came after the watermark had passed them, by ${late.most} at most; the look-back found them`);
  const sourceSide = afterReading(source, proving, window, slices);
  sourceSide.catch(() => undefined);
  // One session does one thing after another.
  if (inside) await sourceSide;
  clock.start("apply");
  const applied = rows ? await warehouse.apply(plan, rows, accepted, report.line) : { new: accepted, changed: "0", same: "0", deleted: "0" };
  if (rows) await warehouse.dropStage(rows);
  if (created) await warehouse.finishTarget(plan, report.line);
  if (sweeping) applied.deleted = swept.rows;
  const tally: Tally = { read, ...applied, rejected: checked.rejected };
  if (!balances(tally)) throw new LoadFailure({ message: "The tally does not balance, so nothing was written", detail: JSON.stringify(tally) });

  clock.start("prove");
  const [{ highest, figures }, warehouseFigures] = await Promise.all([sourceSide, warehouse.figures(proving, slices)]);
  const proof = proofOf(proving, figures, warehouseFigures, slices === "all");
  report.line(proofWords(proof), proof.sourceSql);
  const watermark = highest ?? stored;
  await warehouse.record(plan, run.uid, tally, watermark === null ? null : { value: watermark, keep: isDue(scope) }, proof, { columns: drifted.known, swept: sweeping || created });
  await warehouse.commit();
  report.line(watermark && isDue(scope) ? `committed; watermark ${watermark}` : "committed");
  const { reasons, counted } = checked;
  return { tally, watermark, proof, bytes, phases: clock.times(), findings: { reasons, counted, drift: drifted.notes, late } };
}

/** Removes or marks the rows that the source no longer has. @throws LoadFailure where more would go than the load allows. */
async function sweep(plan: LoadPlan, source: Snapshot, warehouse: WarehouseSession, report: LoadReport): Promise<{ rows: string; slices: (string | null)[] }> {
  const gone = await findGone(plan, source, warehouse, report);
  if (gone.length === 0) return { rows: "0", slices: [] };
  const swept = await warehouse.sweep(plan, gone);
  report.line(`${grouped(swept.rows)} rows gone from the source ${plan.deletions?.how === "mark" ? "marked" : "removed"}`);
  return swept;
}

/** The keys of rows gone from the source. @throws LoadFailure where they are more than the load allows. */
export async function findGone(plan: LoadPlan, source: Snapshot, warehouse: WarehouseSession, report: LoadReport): Promise<string[][]> {
  const { most } = plan.deletions ?? { most: 0 };
  const held = await warehouse.targetRows(plan);
  const allowed = Math.floor((Number(held) * most) / 100);
  const gone = await goneKeys(plan, { source, warehouse }, allowed);
  report.line(`${grouped(String(gone.checksums))} checksums of keys compared, ${grouped(String(gone.keysRead))} keys read: ${gone.complete ? grouped(String(gone.keys.length)) : "too many"} rows gone from the source`);
  if (!gone.complete)
    throw new LoadFailure({
      message: `More than ${most} % of the ${grouped(String(held))} rows of ${formatTableName(plan.target)} are gone from the source`,
      hint: "Nothing was written. If the source is right, allow more in the load's deletions and run again.",
    });
  return gone.keys;
}

/** A repair mends rows by their key whatever the mode adds them by; rejected rows that are tried again have been within the load's limit before. */
export function repairing(given: LoadPlan, scope: Scope): LoadPlan {
  if (isDue(scope)) return given;
  const plan: LoadPlan = scope.kind === "rejected" ? { ...given, rejects: { ...given.rejects, rows: null, share: null } } : given;
  if (plan.key.length === 0 && plan.mode !== "append")
    throw new LoadFailure({ message: "A part of this table can't be loaded again: the load has no key to match rows by", hint: "Give the load a key, or run the whole load." });
  return plan.key.length ? { ...plan, mode: "upsert" } : plan;
}

async function afterReading(source: Snapshot, plan: LoadPlan, window: Window, slices: SliceChoice): Promise<{ highest: string | null; figures: FiguresOfSide | Failure }> {
  const highest = await source.highWater(plan, window);
  // A row that no run has read yet may be one that the shape can't take; the load of the others does not fail for it.
  const figures = await source.figures(plan, slices).catch((error: unknown) => {
    if (!plan.shape || !isDataError(error)) throw error;
    return failureOf(error);
  });
  return { highest, figures };
}

export function windowWords(plan: LoadPlan, window: Window): string {
  const watermark = plan.read.watermark;
  switch (window.kind) {
    case "all":
      return "reading the whole dataset";
    case "since":
      return `reading ${watermark?.column} ≥ ${window.value}${watermark?.lookBack ? ` less ${durationWords(watermark.lookBack)}` : ""}`;
    case "interval":
      return `reading ${window.column} from ${window.from} to ${window.to}`;
    case "slice":
      return `reading the ${plan.by?.slice} ${window.slice ?? "without a date"}`;
    case "keys":
      return `reading ${grouped(String(window.keys.length))} rows by their key`;
    case "identities":
      return `reading ${grouped(String(window.identities.length))} rows by what identified them`;
  }
}

/** Why a whole dataset is read rather than what passed the watermark. */
export function reasonOf(plan: LoadPlan, scope: Scope, window: Window, target: boolean): string {
  if (window.kind !== "all") return "";
  if (scope.kind === "whole") return ", as it was asked for";
  if (plan.mode === "replace") return ", as the mode is replace";
  if (!plan.read.watermark) return ", as there is no watermark";
  return target ? ", as there is no watermark of this load yet" : `, as ${formatTableName(plan.target)} does not exist yet`;
}

function proofWords(proof: LoadProof): string {
  if (proof.trouble) return `proof: not possible: ${proof.trouble}`;
  const less = proof.without ? `, less ${grouped(proof.without)} rejected` : "";
  const agreeing = proof.slices.filter((slice) => slice.verdict === "proved").length;
  if (proof.slices.length === 1 && proof.slices[0]?.slice === null) return `proof: the figures ${proof.verdict === "proved" ? "agree" : "disagree"}${less}`;
  return `proof: ${grouped(String(agreeing))} of ${grouped(String(proof.slices.length))} slices agree${less}`;
}
