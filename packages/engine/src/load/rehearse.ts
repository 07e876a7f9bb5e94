import { markOf, markWords } from "@undercoat/core/mark/mark";
import type { From, MarkForm } from "@undercoat/core/pipeline/pipeline";
import { lately, partsOf } from "@undercoat/core/plan/periods";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import { type Window, windowFor } from "@undercoat/core/plan/window";
import { grouped } from "@undercoat/core/proof/decimal";
import { driftWords } from "@undercoat/core/run/drift";
import type { Rehearsal } from "@undercoat/core/run/rehearsal";
import { isDue, type Scope } from "@undercoat/core/run/run";
import { formatTableName, parseTableName } from "@undercoat/core/sql/identifier";
import type { Source } from "../source/source.ts";
import type { Warehouse } from "../warehouse/warehouse.ts";
import { type Ends, withEnds } from "./ends.ts";
import {
  apartFromOthers,
  findGone,
  guardReplaced,
  newsOf,
  nothingSwept,
  sweepListed,
  withAllWhereShared,
} from "./gone.ts";
import { definitionOf, type LoadName, type Planned, periodsFor, planFor, useFor } from "./planning.ts";
import { type LoadReport, tellWaiting } from "./report.ts";
import { stageRows, type Transfer } from "./staging.ts";
import { markedRow } from "./tell.ts";
import { settleWindow } from "./window.ts";
import { windowWords } from "./words.ts";

export interface RehearsalOrder extends LoadName {
  scope: Scope;
  /** names the stage, which no other work may use at the same time */
  run: { id: number; uid: string };
  /** look at so many rows only */
  limit: number | null;
}

/** Marks that would be sent that are shown. */
const shownMarks = 20;

/** Keys of rows gone from the source that are shown. */
const goneShown = 20;

/** Reads, stages, shapes and checks, as the run would. */
async function staged(ends: Ends, what: Transfer, run: number | null, from: From, report: LoadReport) {
  report.phase("read");
  await ends.warehouse.begin(ends.inside ? from : null, tellWaiting(report));
  const { stage, rows: read, answers } = await stageRows(ends, what, run, report);
  report.line(`${grouped(read)} rows staged`);
  report.phase("check");
  const sifted = await stage.sift(read, false, report.line);
  return { read, sifted, answers, rejected: await sifted.rejectedExamples() };
}

/**
 * Says what a run of a load would do on the data as it is now: reads, shapes, checks and matches, and writes nothing.
 * @throws LoadFailure, PlanError, Cancelled, as the run would.
 */
export function executeRehearsal(
  order: RehearsalOrder,
  source: Source,
  warehouse: Warehouse,
  report: LoadReport,
  signal: AbortSignal,
): Promise<Rehearsal> {
  return withAllWhereShared(order.scope, report, (scope) =>
    rehearse({ ...order, scope }, source, warehouse, report, signal),
  );
}

function rehearse(
  order: RehearsalOrder,
  source: Source,
  warehouse: Warehouse,
  report: LoadReport,
  signal: AbortSignal,
): Promise<Rehearsal> {
  const { scope, run, limit } = order;
  const definition = definitionOf(order);
  const opening = {
    name: `undercoat rehearsal ${run.id}`,
    from: definition.from,
    target: parseTableName(definition.into.table),
    purpose: "rehearse" as const,
    waiting: tellWaiting(report),
    signal,
  };
  report.phase("wait");
  return withEnds(opening, source, warehouse, async (ends) => {
    const { source: from, warehouse: into } = ends;
    const planned = await planFor(order, ends, useFor(scope, definition));
    const { existing, drifted } = planned;
    for (const note of drifted.notes) report.line(driftWords(note));
    const stored = existing && !drifted.returned ? await into.watermark(planned.plan) : null;
    const plan = await periodsFor(planned, scope, stored, into);
    const { window } =
      scope.kind === "rejected"
        ? await into.list.chosen(plan, scope.ids)
        : { window: await settleWindow(plan, planned, scope, stored, from) };
    const comparing = planned.sweep && window.kind !== "delta";
    report.line(windowWords(plan, window), from.statement(plan, window));
    const news = window.kind === "changed" ? await from.news(window.since) : null;
    const changes = into.changes(plan, existing, drifted.widened, planned.kept);
    for (const change of changes) report.line(`would run: ${change.message}`, change.sql);
    const { read, sifted, rejected, answers } = await staged(
      ends,
      { plan, window, limit, whole: plan.write.deletions !== null && comparing && existing !== null, signal },
      run.id,
      definition.from,
      report,
    );
    if (existing && limit === null) await apartFromOthers(plan, news, sifted, into);
    if (!plan.write.deletions || sifted.rejected === "0") await sifted.discardRejected();
    // Which rows were turned away decides on which are gone; the transaction is undone.
    else {
      const parts = partsOf(plan).map(({ from: day }) => day);
      if (news || parts.length) await into.list.closeFiles(plan, run.uid, news ? newsOf(news) : parts);
      await sifted.keepRejected(run, { whole: window.kind === "all" && parts.length === 0, ids: null });
    }
    report.phase("apply");
    for (const step of sifted.steps()) report.line(`would run: ${step.message}`, step.sql);
    const { added, altered, opened, ...applied } = await sifted.weigh(existing, changes, report.line);
    if (plan.write.mode === "replace" && existing && limit === null)
      await guardReplaced(plan, existing, sifted.accepted, into);
    const asked = news ? newsOf(news).length > 0 : comparing && isDue(scope);
    const sweeps = plan.write.deletions !== null && existing !== null && (plan.write.span ? limit === null : asked);
    const gone = sweeps
      ? await findGone(plan, await into.without(plan), existing, { answers, warehouse: into }, report, news)
      : [];
    const listed =
      existing && !sweeps ? await sweepListed(plan, window, existing, { source: from, warehouse: into }, report) : null;
    const late = existing && window.kind === "since" && changes.length === 0 ? await sifted.late(window.value) : null;
    await into.rollback();
    const marks = plan.report && marksFor(plan, plan.report, rejected);
    return {
      into: formatTableName(plan.write.target),
      tally: {
        read,
        ...applied,
        deleted: sweeps ? String(gone.length) : listed && listed !== nothingSwept ? listed.rows : applied.deleted,
        rejected: sifted.rejected,
      },
      limit: limit !== null && BigInt(read) >= BigInt(limit) ? limit : null,
      changes,
      findings: {
        reasons: sifted.reasons,
        counted: sifted.counted,
        drift: drifted.notes,
        late,
        ...(opened ? { opened } : {}),
      },
      columns: plan.read.columns.map((column) => column.name),
      key: plan.write.key,
      added,
      altered,
      rejected,
      ...(marks ? { marks } : {}),
      gone: gone.slice(0, goneShown),
      watermark: plan.read.watermark ? stored : null,
    };
  });
}

/** What a source would be told of rows that would be turned away. */
function marksFor(plan: LoadPlan, form: MarkForm, rejected: Rehearsal["rejected"]): NonNullable<Rehearsal["marks"]> {
  const marks = rejected.map(({ reason: message, values }) =>
    markOf(form, markedRow(plan, { reason: message.replace(/: ".*"$/s, ""), message, original: values })),
  );
  const words = marks.flatMap((mark) => ("lacks" in mark ? [] : [markWords(mark)]));
  return { words: words.slice(0, shownMarks), lacking: marks.length - words.length };
}

/** Some rows of a load as they would be written, and those that would be turned away. */
export interface ShapedLook {
  planned: Planned;
  plan: LoadPlan;
  window: Window;
  /** where the last run's reading ended */
  position: string | null;
  rows: (string | null)[][];
  rejected: { reason: string; values: Record<string, string | null> }[];
  sql: string;
}

/** Shapes the latest rows of a load in the warehouse, for a person to look at; nothing is written, and what was made is undone. */
export function lookAtShape(
  name: LoadName,
  limit: number,
  source: Source,
  warehouse: Warehouse,
  report: LoadReport,
  signal: AbortSignal,
): Promise<ShapedLook> {
  const { from, into: writing } = definitionOf(name);
  const opening = {
    name: "undercoat preview",
    from,
    target: parseTableName(writing.table),
    purpose: "look" as const,
    waiting: tellWaiting(report),
    signal,
  };
  return withEnds(opening, source, warehouse, async (ends) => {
    const planned = await planFor(name, ends, { look: true });
    const position = planned.existing ? await ends.warehouse.watermark(planned.plan) : null;
    const plan = lately(planned.plan);
    // Of files that have not changed somebody wants to see the rows too.
    const window = windowFor(plan, { kind: "due" }, plan.read.watermark ? position : null);
    const { sifted, rejected } = await staged(ends, { plan, window, limit, signal }, null, from, report);
    await sifted.discardRejected();
    const rows = await sifted.firstRows(limit);
    await ends.warehouse.rollback();
    return {
      planned,
      plan,
      window,
      position,
      rows,
      rejected,
      sql: ends.source.statement(plan, window),
    };
  });
}
