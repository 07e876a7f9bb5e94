import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import type { Window } from "@undercoat/core/plan/window";
import { grouped } from "@undercoat/core/proof/decimal";
import { dropWork } from "@undercoat/core/sql/history/work";
import { placeName } from "@undercoat/core/sql/house";
import { formatTableName, type TableName } from "@undercoat/core/sql/identifier";
import { modeOf } from "@undercoat/core/sql/mode/mode";
import * as reject from "@undercoat/core/sql/reject";
import { tableRelation, targetRelation } from "@undercoat/core/sql/relation";
import { dropFaulty } from "@undercoat/core/sql/shape";
import * as sql from "@undercoat/core/sql/stage";
import * as target from "@undercoat/core/sql/target";
import { LoadFailure } from "../../failure.ts";
import { arrayText } from "../../postgres/array.ts";
import { Session } from "../../postgres/session.ts";
import { PostgresSide } from "../../postgres/side.ts";
import type { ProofSide } from "../../proof/side.ts";
import type { RowStream } from "../../source/source.ts";
import type { Applied, Landing, RowSink, Sifted, Stage, Told, Weighed } from "../warehouse.ts";
import { addAhead, afterHistory, apply } from "./apply.ts";
import { type Sieved, sift } from "./sift.ts";
import { examples, weigh } from "./weigh.ts";
import { lookWithin } from "./within.ts";

/** A table that takes rows: the stage, or a new target. */
export class PostgresLanding implements Landing {
  /** a second session that asks how far the first one is; also while it is still being opened */
  private beside: Promise<Session> | undefined;

  constructor(
    protected readonly session: Session,
    protected readonly plan: LoadPlan,
    protected readonly table: TableName,
  ) {}

  sink(format: RowStream["format"]): RowSink {
    return this.session.copyIn(sql.copyIn(this.plan, this.table, format));
  }

  take(window: Window, limit: number | null): Promise<string> {
    return this.session.run(sql.takeInside(this.plan, window, this.table, limit));
  }

  async progress(): Promise<{ rows: string; bytes: string } | null> {
    this.beside ??= Session.open(this.session.credentials, { application: "undercoat progress", readOnly: true });
    const row = await (await this.beside).one(sql.copyProgress, [this.session.pid]);
    return row.rows ? { rows: row.rows, bytes: row.bytes ?? "0" } : null;
  }

  /** A load can end before the session beside it has been opened; it must not outlive the load. */
  async close(): Promise<void> {
    await (await this.beside?.catch(() => undefined))?.close();
  }
}

export class PostgresStage extends PostgresLanding implements Stage {
  /**
   * @param run null for a stage that only this session sees
   * @param kept true where its rows are asked for later too, as those that were received
   */
  constructor(
    session: Session,
    plan: LoadPlan,
    table: TableName,
    private readonly run: number | null,
    private readonly kept = false,
  ) {
    super(session, plan, table);
  }

  async sift(read: string, intoTarget: boolean, told: Told): Promise<Sifted> {
    const { plan, table, run } = this;
    const shaped = intoTarget ? null : run === null ? sql.lookingName("shaped") : sql.stageName(plan, run, "shaped");
    const sieved = await sift(this.session, plan, table, shaped, read, told);
    if (!intoTarget && plan.write.key.length)
      for (const statement of sql.learnKeys(plan, sieved.rows)) await this.session.query(statement);
    return new PostgresSifted(this.session, plan, table, sieved, read, this.kept);
  }
}

class PostgresSifted implements Sifted {
  readonly rejected: string;
  readonly accepted: string;
  readonly reasons: Sifted["reasons"];
  readonly counted: Sifted["counted"];
  /** rows that were added before the others were matched; null where that was not tried */
  private ahead: bigint | null = null;

  constructor(
    private readonly session: Session,
    private readonly plan: LoadPlan,
    /** where the rows were staged, and where those that passed stand now */
    private readonly stage: TableName,
    private readonly sieved: Sieved,
    read: string,
    private readonly kept: boolean,
  ) {
    this.rejected = sieved.rejected;
    this.accepted = (BigInt(read) - BigInt(sieved.rejected)).toString();
    this.reasons = sieved.reasons;
    this.counted = sieved.counted;
  }

  async rejectedExamples(): Promise<{ reason: string; values: Record<string, string | null> }[]> {
    if (this.rejected === "0") return [];
    const rows = await this.session.query(reject.faultExamples(this.plan, this.stage, examples * 4));
    return rows.map((row) => ({
      reason: row.message ?? "",
      values: JSON.parse(row.original ?? "{}") as Record<string, string | null>,
    }));
  }

  async keepRejected(run: { id: number; uid: string }, read: { whole: boolean; ids: string[] | null }): Promise<void> {
    const { plan, stage } = this;
    const name = placeName(plan);
    if ((await this.session.one(reject.anyOpenRejected, [name])).any === "t") {
      if (read.whole) await this.session.query(reject.closeAll, [run.uid, name]);
      else if (read.ids) await this.session.query(reject.closeChosen, [run.uid, name, `{${read.ids.join(",")}}`]);
      if (!read.whole) await this.session.query(reject.closeRead(plan, stage), [run.uid, name]);
    }
    if (this.rejected !== "0")
      await this.session.query(reject.keepRejected(plan, stage), [
        run.uid,
        String(run.id),
        plan.pipeline,
        plan.load,
        name,
      ]);
    if (plan.shape && !this.kept) await this.session.query(sql.dropStage(stage));
    else await this.discardRejected();
  }

  async discardRejected(): Promise<void> {
    if (!this.plan.shape && this.rejected !== "0") await this.session.query(dropFaulty(this.stage));
  }

  async firstRows(limit: number): Promise<(string | null)[][]> {
    return (await this.session.query(target.newExamples(this.plan, this.sieved.rows, false, limit))).map((row) =>
      this.plan.read.columns.map((_, at) => row[`c${at}`] ?? null),
    );
  }

  async addAhead(told: Told): Promise<void> {
    this.ahead = await addAhead(this.session, this.plan, this.sieved.rows, this.accepted, told);
  }

  async takesFromOthers(column: string, files: string[]): Promise<boolean> {
    const text = target.keysOfOthers(this.plan, this.sieved.rows, column);
    return (await this.session.one(text, [arrayText(files)])).shared === "t";
  }

  async touched(): Promise<"all" | (string | null)[]> {
    const { plan, ahead, sieved } = this;
    if (String(ahead) === this.accepted) return this.fallInto();
    const rows = await this.session.query(target.touchedSlices(plan, sieved.rows));
    if (!plan.prove.slicing) return rows.length || ahead ? "all" : [];
    if (rows.length > target.mostSlices) return "all";
    const slices = rows.map((row) => row.slice ?? null);
    // What was added ahead is no news by now; where it fell is among the slices of all accepted rows.
    const all = ahead ? await this.fallInto() : [];
    return all === "all" ? all : [...new Set([...slices, ...all])];
  }

  async fallInto(): Promise<"all" | (string | null)[]> {
    const rows = await this.session.query(target.slicesOf(this.plan, this.sieved.rows));
    if (!this.plan.prove.slicing) return rows.length ? "all" : [];
    return rows.length > target.mostSlices ? "all" : rows.map((row) => row.slice ?? null);
  }

  async late(stored: string): Promise<{ rows: string; most: string } | null> {
    const text = target.lateRows(this.plan, this.sieved.rows, stored);
    const row = text ? await this.session.one(text) : {};
    return row.most ? { rows: row.rows ?? "0", most: row.most } : null;
  }

  weigh(existing: Dataset | null, changes: readonly target.TargetChange[], told: Told): Promise<Weighed> {
    return weigh(this.session, this.plan, this.sieved.rows, this.accepted, existing, changes, told);
  }

  steps(): target.TargetChange[] {
    return modeOf(this.plan).steps(this.plan, sql.stageName(this.plan, 0, this.plan.shape ? "shaped" : "stage"), []);
  }

  apply(added: readonly string[], told: Told): Promise<Applied> {
    return apply(this.session, this.plan, this.sieved.rows, this.accepted, added, this.ahead, told);
  }

  within() {
    return lookWithin(this.session, this.plan, this.sieved.rows);
  }

  after() {
    return afterHistory(this.session, this.plan, this.sieved.rows);
  }

  async side(): Promise<ProofSide> {
    const { plan } = this;
    if (plan.write.key.length) return new PostgresSide(this.session, targetRelation(plan, null, this.sieved.rows));
    // Without a key, each accepted row must have one of its own in the target; then they stand for each other.
    const counted = modeOf(plan).weigh(plan, this.sieved.rows, new Set());
    const lacking =
      BigInt(this.accepted) - BigInt((counted === null ? null : (await this.session.one(counted)).known) ?? "0");
    if (lacking > 0n)
      throw new LoadFailure({
        message: `${grouped(String(lacking))} rows that were written do not stand in ${formatTableName(plan.write.target)} as they were read`,
        hint: "A trigger or rule there changes them. Nothing was written.",
      });
    return new PostgresSide(this.session, tableRelation(plan, this.sieved.rows));
  }

  async drop(): Promise<void> {
    if (this.plan.write.history)
      for (const statement of dropWork(this.sieved.rows)) await this.session.query(statement);
    await this.session.query(sql.dropStage(this.sieved.rows));
  }
}
