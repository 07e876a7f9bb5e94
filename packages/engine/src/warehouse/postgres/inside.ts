import type { Dataset } from "@undercoat/core/dataset/dataset";
import { functionsOf, tablesOf } from "@undercoat/core/expression/parse";
import type { From } from "@undercoat/core/pipeline/pipeline";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import { formatTableName, parseTableName, type TableName } from "@undercoat/core/sql/identifier";
import type { SliceChoice } from "@undercoat/core/sql/proof";
import { volatileFunctions } from "@undercoat/core/sql/warehouse";
import { LoadFailure } from "../../failure.ts";
import type { FiguresOfSide } from "../../proof/side.ts";
import type { Session } from "../../session.ts";
import { arrayText } from "../../source/postgres/describe.ts";
import { PostgresSnapshot } from "../../source/postgres/postgres.ts";

/**
 * The warehouse's own session as the source of a load: nothing leaves the database. That session may write, so a query
 * through it may call no function that changes anything.
 */
export class InsideSnapshot extends PostgresSnapshot {
  constructor(
    private readonly own: Session,
    private readonly target: TableName,
  ) {
    super(own);
  }

  override async describe(from: From): Promise<Dataset> {
    const dataset = await super.describe(from);
    const read = from.query ? await tablesOf(from.query) : [...(from.table ? [from.table] : []), ...Object.values(from.tables ?? {})].map(parseTableName);
    const target = formatTableName(this.target);
    if (read.some((table) => (table.schema ?? "public") === this.target.schema && table.table === this.target.table))
      throw new LoadFailure({ message: `The load reads ${target}, which it writes itself`, hint: "Load into another table." });
    const called = from.query ? await functionsOf(from.query) : [];
    const [first] = called.length ? await this.own.query(volatileFunctions, [arrayText(called)]) : [];
    if (first) throw new LoadFailure({ message: `The query calls ${first.name}(), which may change something or answer differently each time`, hint: "Use functions that only compute." });
    return dataset;
  }

  /** A figure that fails must not take the load's transaction with it. */
  override async figures(plan: LoadPlan, slices: SliceChoice): Promise<FiguresOfSide> {
    await this.own.query("SAVEPOINT figures");
    try {
      return await super.figures(plan, slices);
    } catch (error) {
      await this.own.query("ROLLBACK TO SAVEPOINT figures");
      throw error;
    }
  }

  /** The session is the warehouse's and ends with it. */
  override close(): Promise<void> {
    return Promise.resolve();
  }
}

/** True where two connections lead to one database as one user. */
export function sameDatabase(a: Session["credentials"], b: Session["credentials"]): boolean {
  return a.settings.host === b.settings.host && a.settings.port === b.settings.port && a.settings.database === b.settings.database && a.settings.user === b.settings.user;
}
