import type { LoadPlan, Without } from "@undercoat/core/plan/plan";
import { asReceived } from "@undercoat/core/plan/received";
import type { Window } from "@undercoat/core/plan/window";
import type { TableName } from "@undercoat/core/sql/identifier";
import * as sql from "@undercoat/core/sql/stage";
import type { Session } from "../../postgres/session.ts";
import { PostgresSnapshot } from "../../postgres/snapshot.ts";
import type { Answers } from "../../source/source.ts";
import type { Received } from "../warehouse.ts";
import { PostgresLanding, PostgresStage } from "./stage.ts";

/** A table of rows as they were received, asked in the place of a source that answers nothing. */
class TableAnswers implements Answers {
  readonly hashing = "stored";
  private readonly table: PostgresSnapshot;

  constructor(
    session: Session,
    private readonly name: TableName,
  ) {
    this.table = new PostgresSnapshot(session);
  }

  private over(plan: LoadPlan): LoadPlan {
    return asReceived(plan, this.name);
  }

  highWater(plan: LoadPlan, window: Window) {
    return this.table.highWater(this.over(plan), window);
  }

  preview(plan: LoadPlan, window: Window, limit: number) {
    return this.table.preview(this.over(plan), window, limit);
  }

  side(plan: LoadPlan, without: Without | null, window?: Window) {
    return this.table.side(this.over(plan), without, window);
  }

  keys(plan: LoadPlan, without: Without | null) {
    return this.table.keys(this.over(plan), without);
  }

  contents(plan: LoadPlan, keys: string[][]) {
    return this.table.contents(this.over(plan), keys);
  }

  lateness(plan: LoadPlan, keys: string[][], watermark: string) {
    return this.table.lateness(this.over(plan), keys, watermark);
  }
}

export class PostgresReceived implements Received {
  readonly landing: PostgresLanding;
  readonly answers: Answers;

  private constructor(
    private readonly session: Session,
    private readonly plan: LoadPlan,
    private readonly table: TableName,
    private readonly run: number | null,
  ) {
    this.landing = new PostgresLanding(session, plan, table);
    this.answers = new TableAnswers(session, table);
  }

  /** @param run null for a table that only this session sees */
  static async make(session: Session, plan: LoadPlan, run: number | null): Promise<PostgresReceived> {
    const table = nameOf(plan, run, "received");
    await session.query(sql.createStage(plan, table));
    return new PostgresReceived(session, plan, table, run);
  }

  async stage(window: Window, limit: number | null): Promise<{ stage: PostgresStage; rows: string | null }> {
    const { session, plan, table, run } = this;
    // Without a shape the stage's own rows are what is written and dropped; what was received stays to be asked.
    if (plan.shape && (window.kind === "all" || window.kind === "changed") && limit === null)
      return { stage: new PostgresStage(session, plan, table, run, true), rows: null };
    const name = nameOf(plan, run, "stage");
    await session.query(sql.createStage(plan, name));
    const rows = await session.run(sql.takeInside(asReceived(plan, table), window, name, limit));
    return { stage: new PostgresStage(session, plan, name, run), rows };
  }

  async drop(): Promise<void> {
    await this.session.query(sql.dropStage(this.table));
  }
}

const nameOf = (plan: LoadPlan, run: number | null, what: "received" | "stage") =>
  run === null ? sql.lookingName(what) : sql.stageName(plan, run, what);
