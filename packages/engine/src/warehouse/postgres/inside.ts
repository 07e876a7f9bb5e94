import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { From } from "@undercoat/core/pipeline/pipeline";
import type { LoadPlan, Without } from "@undercoat/core/plan/plan";
import type { Window } from "@undercoat/core/plan/window";
import { formatTableName, qualified, type TableName } from "@undercoat/core/sql/identifier";
import { sourceRelation } from "@undercoat/core/sql/relation";
import { beginAt, shareMoment } from "@undercoat/core/sql/session";
import { LoadFailure } from "../../failure.ts";
import { tablesRead } from "../../postgres/lock.ts";
import { Session } from "../../postgres/session.ts";
import { PostgresSide } from "../../postgres/side.ts";
import { PostgresSnapshot } from "../../postgres/snapshot.ts";
import type { ProofSide } from "../../proof/side.ts";

/**
 * The warehouse's own session as the source of a load: nothing leaves the database. The source's side of the proof is
 * worked out beside it by a second session at the very same moment, while this one writes.
 */
export class InsideSnapshot extends PostgresSnapshot {
  private shared: string | null = null;
  private from: From | null = null;
  private beside: Promise<Session> | null = null;
  /** one question after another */
  private last: Promise<unknown> = Promise.resolve();

  constructor(
    session: Session,
    private readonly target: TableName,
    private readonly signal: AbortSignal | undefined,
  ) {
    super(session);
  }

  override async describe(from: From): Promise<Dataset> {
    const dataset = await super.describe(from);
    const { schema, table } = this.target;
    const own = [
      qualified(this.target),
      ...(schema === "public" ? [qualified(this.target).split(".")[1] ?? table] : []),
    ];
    if ((await tablesRead(from)).some((name) => own.includes(name)))
      throw new LoadFailure({
        message: `The load reads ${formatTableName(this.target)}, which it writes itself`,
        hint: "Load into another table.",
      });
    return dataset;
  }

  /** Called when the load's transaction has begun. */
  async share(from: From): Promise<void> {
    this.from = from;
    this.shared = (await this.session.one(shareMoment)).moment ?? null;
  }

  private async openBeside(): Promise<Session> {
    const session = await Session.open(this.session.credentials, {
      application: "undercoat proof",
      readOnly: true,
      signal: this.signal,
    });
    if (this.from?.query || this.from?.where) await session.guard(this.from.rows === "visible" ? "on" : "off");
    return session;
  }

  /** A question in a transaction of its own: what it has locked is free for the writing session as soon as it is answered. */
  private ask<T>(question: (session: Session) => Promise<T>): Promise<T> {
    const { shared: moment } = this;
    if (moment === null) return question(this.session);
    const turn = this.last.then(async () => {
      this.beside ??= this.openBeside();
      const session = await this.beside;
      await session.script(beginAt(moment));
      try {
        return await question(session);
      } finally {
        await session.query("ROLLBACK");
      }
    });
    this.last = turn.catch(() => undefined);
    return turn;
  }

  override side(plan: LoadPlan, without: Without | null, window?: Window): ProofSide {
    const relation = sourceRelation(plan, without, window);
    return Object.assign(new PostgresSide(this.session, relation), {
      figures: (...of: Parameters<ProofSide["figures"]>) =>
        this.ask((session) => new PostgresSide(session, relation).figures(...of)),
      cells: () => this.ask((session) => new PostgresSide(session, relation).cells()),
    });
  }

  /** The load's own session ends with the warehouse. */
  override async close(): Promise<void> {
    await (await this.beside?.catch(() => null))?.close();
  }
}
