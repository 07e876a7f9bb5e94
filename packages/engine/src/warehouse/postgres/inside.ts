import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { From } from "@undercoat/core/pipeline/pipeline";
import type { LoadPlan, Window, Without } from "@undercoat/core/plan/plan";
import { formatTableName, qualified, type TableName } from "@undercoat/core/sql/identifier";
import { LoadFailure } from "../../failure.ts";
import { tablesRead } from "../../postgres/lock.ts";
import type { Session } from "../../postgres/session.ts";
import { PostgresSnapshot } from "../../postgres/snapshot.ts";
import type { FiguresOfSide, ProofSide } from "../../proof/side.ts";

/** The warehouse's own session as the source of a load: nothing leaves the database. */
export class InsideSnapshot extends PostgresSnapshot {
  constructor(
    session: Session,
    private readonly target: TableName,
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

  override side(plan: LoadPlan, without: Without | null, window?: Window): ProofSide {
    const side = super.side(plan, without, window);
    const careful = async (ask: () => Promise<FiguresOfSide>): Promise<FiguresOfSide> => {
      await this.session.query("SAVEPOINT figures");
      try {
        return await ask();
      } catch (error) {
        await this.session.query("ROLLBACK TO SAVEPOINT figures");
        throw error;
      }
    };
    // A figure that fails must not take the load's transaction with it.
    const figures = side.figures.bind(side);
    const cells = side.cells.bind(side);
    return Object.assign(side, {
      figures: (...of: Parameters<ProofSide["figures"]>) => careful(() => figures(...of)),
      cells: () => careful(() => cells()),
    });
  }

  /** The session is the warehouse's and ends with it. */
  override close(): Promise<void> {
    return Promise.resolve();
  }
}
