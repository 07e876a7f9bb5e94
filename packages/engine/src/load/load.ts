import { partsOf, periodSlices } from "@undercoat/core/plan/periods";
import type { LoadPlan, Without } from "@undercoat/core/plan/plan";
import { fillsSlices, fitting, notPast, type Window } from "@undercoat/core/plan/window";
import { grouped } from "@undercoat/core/proof/decimal";
import { driftWords } from "@undercoat/core/run/drift";
import {
  balances,
  emptyTally,
  type Failure,
  type Findings,
  isDue,
  type LoadProof,
  type PhaseTime,
  type Scope,
  type Tally,
} from "@undercoat/core/run/run";
import { parseTableName } from "@undercoat/core/sql/identifier";
import type { SliceChoice } from "@undercoat/core/sql/proof";
import { failureOf, InDoubt, isAnswer, isDataError, LoadFailure, NothingThere } from "../failure.ts";
import { cellProofOf, cellsAlone, proofOf, withCounts, withVersions } from "../proof/figures.ts";
import type { FiguresOfSide } from "../proof/side.ts";
import type { Answers, News, OwnCounts, Source } from "../source/source.ts";
import type { Applied, Received, Sifted, Warehouse } from "../warehouse/warehouse.ts";
import { askCounts, compareCounts } from "./counts.ts";
import { type Ends, withEnds } from "./ends.ts";
import {
  apartFromOthers,
  findGone,
  guardReplaced,
  newsOf,
  nothingSwept,
  sweep,
  sweepListed,
  withAllWhereShared,
} from "./gone.ts";
import { definitionOf, type LoadName, type Planned, periodsFor, planFor, useFor } from "./planning.ts";
import { type LoadReport, type PhaseClock, phaseClock, tellWaiting } from "./report.ts";
import { stageRows, transfer } from "./staging.ts";
import { tellMarks } from "./tell.ts";
import { settleWindow } from "./window.ts";
import { newsWords, proofWords, reasonOf, windowWords } from "./words.ts";

export type { LoadReport } from "./report.ts";

export interface LoadOrder extends LoadName {
  scope: Scope;
  run: { id: number; uid: string };
  /** who is told of rows that were turned away, where the load says so */
  told?: Source | null;
}

export interface LoadOutcome {
  tally: Tally;
  watermark: string | null;
  proof: LoadProof;
  bytes: number;
  phases: PhaseTime[];
  findings: Findings;
}

/** Up to so many rows every run compares every cell of the whole target, which costs no more than asking. */
const tinyTable = 50_000;
/** Up to so many rows every run compares the figures of the whole target; beyond, those of the slices it touched. */
const smallTable = 500_000;

/**
 * Runs one load: reads a snapshot of the source into the warehouse and proves it, in one warehouse transaction that
 * holds the rows, the watermark, the tally and the proof, or nothing.
 * @throws LoadFailure, PlanError, Cancelled; the warehouse is then as it was before. InDoubt; then it says itself what it holds.
 */
export async function executeLoad(
  order: LoadOrder,
  source: Source,
  warehouse: Warehouse,
  report: LoadReport,
  signal: AbortSignal,
): Promise<LoadOutcome> {
  const { from, into } = definitionOf(order);
  const clock = phaseClock(report);
  clock.start("wait");
  const opening = {
    name: `undercoat run ${order.run.id}`,
    from,
    target: parseTableName(into.table),
    purpose: "load" as const,
    waiting: tellWaiting(report),
    note: report.line,
    goesOn: isDue(order.scope),
    signal,
  };
  const run = (scope: Scope) =>
    withEnds(opening, source, warehouse, (ends) =>
      new LoadRun({ ...order, scope }, ends, report, clock, signal).execute(),
    );
  return withAllWhereShared(order.scope, report, run).catch((error: unknown) => {
    if (!(error instanceof NothingThere)) throw error;
    report.line(`${error.failure.message}; nothing is to be done`);
    return nothingDone(clock);
  });
}

/** The outcome of a load that found nothing to read. */
const nothingDone = (clock: PhaseClock): LoadOutcome => ({
  tally: emptyTally,
  watermark: null,
  proof: { ...cellsAlone(null, null), how: "received" },
  bytes: 0,
  phases: clock.times(),
  findings: { reasons: [], counted: [], drift: [], late: null },
});

/** What is read this time, and where the last time ended. */
interface Due {
  /** the load's plan, of a report for the periods that are asked for */
  plan: LoadPlan;
  window: Window;
  /** rejected rows that are tried again */
  ids: string[] | null;
  stored: string | null;
  /** the parts of the source that are read, and those that are gone, where it is known by parts what changed */
  news: News | null;
}

/** Rows that have landed and been checked; `sifted` is null where a new target took them as they came. */
interface Landed {
  read: string;
  bytes: number;
  rejected: string;
  accepted: string;
  sifted: Sifted | null;
  /** true where the rows are in the new target already */
  fresh: boolean;
  /** who answers for the source: itself, or what was received of it */
  answers: Answers;
  received: Received | null;
  /** true where who answers knows only the rows that were read */
  partial: boolean;
}

/** One load at work, step after step. */
class LoadRun {
  constructor(
    private readonly order: LoadOrder,
    private readonly ends: Ends,
    private readonly report: LoadReport,
    private readonly clock: PhaseClock,
    private readonly signal: AbortSignal,
  ) {}

  async execute(): Promise<LoadOutcome> {
    const { order, report, clock } = this;
    const { source, warehouse, inside } = this.ends;
    const definition = definitionOf(order);
    const planned = await planFor(order, this.ends, useFor(order.scope, definition));
    const { existing, drifted } = planned;
    for (const note of drifted.notes) report.line(driftWords(note));
    const due = await this.due(planned);
    const { plan, news } = due;
    if (news) report.line(newsWords(news));
    report.line(
      `${windowWords(plan, due.window)}${reasonOf(plan, order.scope, due.window, existing !== null)}`,
      source.statement(plan, due.window),
    );

    clock.start("read");
    const changes = warehouse.changes(plan, existing, drifted.widened, planned.kept);
    if (!existing) await warehouse.makeSchema(plan.write.target.schema);
    await warehouse.begin(inside ? definition.from : null, tellWaiting(report));
    if (!existing) await warehouse.change(changes, report.line);
    // Each period of a report takes the place of its own rows, whenever it is asked for.
    const asked = plan.write.span
      ? due.window.kind === "all"
      : order.scope.kind === "gone" ||
        (isDue(order.scope) &&
          ((planned.sweep && due.window.kind !== "delta") || (plan.read.listsGone && due.window.kind === "all")));
    const looksForGone = plan.write.deletions !== null && existing !== null && asked;
    const landed = await this.land(plan, due, existing === null, looksForGone);
    if (existing) await apartFromOthers(plan, news, landed.sifted, warehouse);
    await this.keepRejected(plan, due, landed);
    if (plan.write.mode === "replace" && existing) await guardReplaced(plan, existing, landed.accepted, warehouse);
    const proving = await this.beginProof(plan, due, landed);
    if (existing && changes.length) {
      // Only now, for moments: readers of the target are not kept out while the source is read or works out its side.
      await Promise.all([proving.highest, proving.figures]);
      await warehouse.change(changes, report.line);
    }
    const late = landed.sifted && due.window.kind === "since" ? await landed.sifted.late(due.window.value) : null;
    if (late)
      report.line(
        `${grouped(late.rows)} row${late.rows === "1" ? "" : "s"} came after the watermark had passed them, by ${late.most} at most; the look-back found them`,
      );

    clock.start("apply");
    const sweeping = news
      ? plan.write.deletions !== null && existing !== null && newsOf(news).length > 0
      : looksForGone;
    const swept = sweeping
      ? await sweep(
          plan,
          await findGone(plan, proving.without, existing, { answers: landed.answers, warehouse }, report, news),
          warehouse,
          report,
        )
      : existing
        ? await sweepListed(plan, due.window, existing, { source, warehouse }, report)
        : nothingSwept;
    if (existing && changes.length === 0) await landed.sifted?.addAhead(report.line);
    const compared = await this.beginFigures(plan, landed, proving, swept.slices);
    const counting = this.beginCounts(plan, due, landed, proving, compared);
    const added = new Set(existing?.columns.map((column) => column.name));
    const applied =
      landed.fresh || !landed.sifted
        ? asTheyCame(plan, landed.accepted)
        : await landed.sifted.apply(
            existing ? plan.read.columns.map((column) => column.name).filter((name) => !added.has(name)) : [],
            report.line,
          );
    if (!existing) await warehouse.finishTarget(plan, report.line);
    if (sweeping || swept !== nothingSwept) applied.deleted = swept.rows;
    const after = landed.fresh || !landed.sifted ? null : await landed.sifted.after();
    const found = landed.fresh || !landed.sifted ? await warehouse.within(plan) : await landed.sifted.within();
    if (applied.closed !== undefined) applied.closed = (BigInt(applied.closed) + BigInt(swept.rows)).toString();
    const tally: Tally = { read: landed.read, ...applied, rejected: landed.rejected };
    if (!balances(tally))
      throw new LoadFailure({
        message: "The tally does not balance, so nothing was written",
        detail: JSON.stringify(tally),
      });

    clock.start("prove");
    const compare = await this.prove(plan, landed, proving, compared);
    await landed.received?.drop();
    const how = landed.received ? ("received" as const) : ("source" as const);
    const counts = await counting;
    const ownCounts = counts && (await compareCounts(plan, counts, warehouse, report));
    const proof = { ...withCounts(withVersions(compare, after?.history ?? null, found), ownCounts), how };
    report.line(proofWords(proof), proof.sourceSql || undefined);
    const position = isDue(order.scope) ? await source.position(due.stored, plan) : null;
    const watermark = plan.read.watermark ? ((await proving.highest) ?? due.stored) : null;
    await warehouse.record(
      plan,
      order.run.uid,
      tally,
      { watermark, position: isDue(order.scope) ? (position ?? watermark) : null },
      proof,
      { columns: drifted.known, swept: (sweeping && !news) || !existing, made: !existing },
    );
    await warehouse.commit().catch((error: unknown) => {
      throw isAnswer(error) ? error : new InDoubt(error);
    });
    report.line(watermark && isDue(order.scope) ? `committed; watermark ${watermark}` : "committed");
    // A repair reads what an ordinary run is yet to.
    if (isDue(order.scope)) for (const told of await source.finish(definition.from)) report.line(told);
    const told = await tellMarks(plan, order.run.uid, order.told ?? null, warehouse.list, report, this.signal);
    const { reasons, counted } = landed.sifted ?? { reasons: [], counted: [] };
    const files = source.parts();
    const requests = source.asked?.() ?? null;
    return {
      tally,
      watermark,
      proof,
      bytes: landed.bytes,
      phases: clock.times(),
      findings: {
        reasons,
        counted,
        drift: drifted.notes,
        late,
        ...(files.length ? { files } : {}),
        ...(requests ? { asked: requests } : {}),
        ...(after ? { opened: after.opened } : {}),
        ...(told ? { told } : {}),
      },
    };
  }

  private async due(planned: Planned): Promise<Due> {
    const { scope } = this.order;
    const { source, warehouse } = this.ends;
    const { existing, drifted } = planned;
    const stored = existing && !drifted.returned ? await warehouse.watermark(planned.plan) : null;
    const plan = await periodsFor(planned, scope, stored, warehouse);
    if (scope.kind === "rejected")
      return { plan, ...(await warehouse.list.chosen(plan, scope.ids)), stored, news: null };
    const window = await settleWindow(plan, planned, scope, stored, source);
    const news = window.kind === "changed" ? await source.news(window.since) : null;
    return { plan, window, ids: null, stored, news };
  }

  /** Brings the rows to the warehouse and checks them. */
  private async land(plan: LoadPlan, { window }: Due, created: boolean, whole: boolean): Promise<Landed> {
    const { report, signal } = this;
    const { warehouse } = this.ends;
    // A new table takes the rows as they come where none of them could be turned away.
    const { history, key, keyGuaranteed } = plan.write;
    const unique = key.length === 0 || keyGuaranteed;
    const fresh = created && window.kind === "all" && (history ? history.direct : unique || plan.shape !== null);
    const answering = this.ends.source.answers(plan);
    if (fresh && !plan.shape && answering) {
      const landing = warehouse.direct(plan);
      const what = { plan, window, limit: null, direct: true, signal };
      const { rows: read, bytes } = await transfer(this.ends, landing, what, report);
      report.line(`${grouped(read)} rows written`);
      if (!history || !(await warehouse.withdraw(plan)))
        return {
          read,
          bytes,
          rejected: "0",
          accepted: read,
          sifted: null,
          fresh,
          answers: answering,
          received: null,
          partial: false,
        };
      report.line("a row does not say from when it is so; each is looked at");
    }
    return this.check(plan, fresh && !history && plan.shape !== null, window, whole);
  }

  /** Brings rows to a stage and checks them. `fresh`: those that pass go into the new target itself */
  private async check(plan: LoadPlan, fresh: boolean, window: Window, whole: boolean): Promise<Landed> {
    const { report, clock, order, signal } = this;
    const what = { plan, window, limit: null, whole, signal };
    const { stage, rows: read, bytes, ...who } = await stageRows(this.ends, what, order.run.id, report);
    report.line(`${grouped(read)} rows staged`);
    clock.start("check");
    const sifted = await stage.sift(read, fresh, report.line);
    const { rejected, accepted } = sifted;
    return { read, bytes, rejected, accepted, sifted, fresh, ...who };
  }

  /** Brings the list of rejected rows up to date: those read again leave it, this run's join it, those gone from the source leave it too. */
  private async keepRejected(
    plan: LoadPlan,
    { window, ids, news }: Due,
    { sifted, answers, partial }: Landed,
  ): Promise<void> {
    const { run, scope } = this.order;
    const { warehouse } = this.ends;
    const parts = partsOf(plan).map(({ from }) => from);
    const whole = window.kind === "all" && parts.length === 0;
    if (parts.length && window.kind === "all") await warehouse.list.closeFiles(plan, run.uid, parts);
    if (news) await warehouse.list.closeFiles(plan, run.uid, newsOf(news));
    if (sifted) await sifted.keepRejected(run, { whole, ids });
    else if (whole) await warehouse.list.closeAll(plan, run.uid);
    // Which others still stand can't be asked of what was not received.
    if (whole || partial || parts.length || !isDue(scope)) return;
    const open = await warehouse.list.keys(plan);
    const contents = open.length
      ? await answers.contents(
          plan,
          open.map((entry) => entry.key),
        )
      : null;
    if (contents)
      await warehouse.list.closeGone(
        plan,
        run.uid,
        open.map((entry) => entry.name),
        contents,
      );
  }

  /** An interval is one of many and proves itself alone; anything else proves all of the table where that costs little. */
  private get provesAll(): boolean {
    return this.order.scope.kind !== "interval";
  }

  /**
   * Asks the source for its side of the proof, which it works out while the warehouse applies: of a whole read the figures
   * and cells of everything, of an interval those of the slices that it fills, of any other part the cells of what was
   * read. All of it comes from the snapshot that was read.
   */
  private async beginProof(plan: LoadPlan, { window }: Due, landed: Landed): Promise<Proving> {
    const { warehouse } = this.ends;
    const { answers } = landed;
    const without = await warehouse.without(plan);
    const tiny =
      this.provesAll &&
      !landed.partial &&
      landed.sifted !== null &&
      !landed.fresh &&
      (await warehouse.estimatedRows(plan.write.target)) <= tinyTable &&
      BigInt(landed.accepted) <= BigInt(tinyTable);
    const filled = landed.sifted && fillsSlices(plan, window) ? await landed.sifted.fallInto() : "all";
    const slices = plan.write.span
      ? window.kind === "all"
        ? periodSlices(plan)
        : null
      : window.kind === "all" || tiny
        ? "all"
        : filled === "all"
          ? null
          : filled;
    // A repair leaves the watermark where it is.
    const began = this.ends.source.began?.() ?? null;
    const sifted = plan.shape && landed.rejected === "0" ? fitting(plan) : plan;
    const highest = isDue(this.order.scope) ? answers.highWater(notPast(sifted, began), window) : Promise.resolve(null);
    highest.catch(() => undefined);
    const figures =
      slices === null
        ? this.asked(plan, answers.side(plan, without, window).cells())
        : this.asked(plan, answers.side(plan, without).figures(slices, true));
    return { slices, without, highest, figures };
  }

  /** An answer of the source that is under way; a failure is told where it is waited for. */
  private asked(plan: LoadPlan, answer: Promise<FiguresOfSide>): Promise<FiguresOfSide | Failure> {
    const figures = answer.catch((error: unknown) => possible(plan, error));
    figures.catch(() => undefined);
    return figures;
  }

  /** Asks the source for the figures of the slices that a part brings news to, or of all where that costs little; it works them out while the warehouse applies. */
  private async beginFigures(
    plan: LoadPlan,
    { sifted, answers, partial, fresh }: Landed,
    proving: Proving,
    swept: (string | null)[],
  ): Promise<Compared | null> {
    if (proving.slices === "all" || !sifted) return null;
    const { warehouse } = this.ends;
    const news = fresh ? "all" : await sifted.touched();
    // Each period takes the place of its own rows, and no other is touched.
    if (plan.write.span && proving.slices)
      return {
        slices: proving.slices,
        touched: news === "all" ? news : [...new Set([...news, ...swept])],
        figures: proving.figures,
      };
    const touched = news === "all" ? news : [...new Set([...news, ...swept])];
    // What was not received can't be asked for the figures of a slice.
    if (partial) return { slices: proving.slices ?? [], touched, figures: proving.slices ? proving.figures : null };
    if (proving.slices) {
      // A row that was known in another slice has left it.
      const slices = touched === "all" ? touched : [...new Set([...proving.slices, ...touched])];
      const figures =
        slices.length === proving.slices.length
          ? proving.figures
          : this.asked(plan, answers.side(plan, proving.without).figures(slices, true));
      return { slices, touched, figures };
    }
    const small = this.provesAll && (await warehouse.estimatedRows(plan.write.target)) <= smallTable;
    if (!small && touched.length === 0) return null;
    // A large table without slices has no part to compare; its figures come with the next proof of all of it.
    if (!small && !plan.prove.slicing) return { slices: [], touched: [null], figures: null };
    const slices: SliceChoice = small ? "all" : touched;
    return { slices, touched, figures: this.asked(plan, answers.side(plan, proving.without).figures(slices, false)) };
  }

  /** Asks a source of which a part was read how many rows it has by its own word; it counts while the warehouse applies. */
  private beginCounts(
    plan: LoadPlan,
    { window }: Due,
    { partial }: Landed,
    { without }: Proving,
    compared: Compared | null,
  ): Promise<OwnCounts | null> {
    if (!partial || !isDue(this.order.scope)) return Promise.resolve(null);
    const counts = askCounts(plan, window, compared?.touched ?? "all", without, this.ends.source, this.report);
    counts.catch(() => undefined);
    return counts;
  }

  private async prove(
    plan: LoadPlan,
    landed: Landed,
    { slices, without, figures }: Proving,
    compared: Compared | null,
  ): Promise<LoadProof> {
    const { warehouse } = this.ends;
    const names = plan.prove.figures.map((figure) => figure.name);
    const less = without?.rows ?? null;
    const rows = landed.fresh ? null : landed.sifted;
    if (slices === "all") {
      await rows?.drop();
      const [ours, theirs] = await Promise.all([figures, warehouse.side(plan, without).figures("all", true)]);
      return proofOf(names, ours, theirs, "all", less);
    }
    const touched = !compared ? { touched: [] } : compared.touched === "all" ? {} : { touched: compared.touched };
    if (slices && compared?.figures) {
      await rows?.drop();
      const theirs = warehouse.side(plan, without).figures(compared.slices, true);
      const [left, right] = await Promise.all([compared.figures, theirs]);
      return { ...proofOf(names, left, right, compared.slices, less), ...touched };
    }
    const ours = await figures;
    const theirs = await (await rows?.side())?.cells();
    await rows?.drop();
    const cells = theirs && !("message" in ours) ? cellProofOf(ours, theirs, "read") : null;
    if (!compared?.figures)
      return "message" in ours
        ? proofOf(names, ours, theirs ?? noFigures, [], less)
        : { ...cellsAlone(cells, less), ...touched };
    const [left, right] = await Promise.all([
      compared.figures,
      warehouse.side(plan, without).figures(compared.slices, false),
    ]);
    return { ...proofOf(names, "message" in ours ? ours : left, right, compared.slices, less, cells), ...touched };
  }
}

/** What a new target did with rows that it took as they came. */
function asTheyCame({ write: { history } }: LoadPlan, rows: string): Applied {
  const applied = { new: rows, changed: "0", same: "0", deleted: "0" };
  return history ? { ...applied, versions: rows, closed: "0", overwritten: "0" } : applied;
}

/** Figures of some slices, under way at the source. */
interface Compared {
  slices: SliceChoice;
  /** the slices that the run brings news to */
  touched: SliceChoice;
  /** null where no figures are compared */
  figures: Promise<FiguresOfSide | Failure> | null;
}

const noFigures: FiguresOfSide = { slices: new Map(), total: { values: [], cells: null }, sql: "" };

/** The source's side of a proof, under way. */
interface Proving {
  /** the slices of which figures and cells are compared; null where the cells of what was read are */
  slices: SliceChoice | null;
  without: Without | null;
  highest: Promise<string | null>;
  figures: Promise<FiguresOfSide | Failure>;
}

/** A row that no run has read yet may be one that the shape can't take; the load of the others does not fail for it. */
function possible(plan: LoadPlan, error: unknown): Failure {
  if (!plan.shape || !isDataError(error)) throw error;
  return failureOf(error);
}
