import type { HistoryShape } from "@undercoat/core/history/shape";
import { PlanError } from "@undercoat/core/plan/error";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import type { WithinProof } from "@undercoat/core/run/run";
import { formatTableName, type TableName } from "@undercoat/core/sql/identifier";
import { historyOfTarget } from "@undercoat/core/sql/lookback";
import * as sql from "@undercoat/core/sql/within";
import type { Session } from "../../postgres/session.ts";

/**
 * Whether each row finds exactly one version of what the load looks up.
 * @param rows a table of the rows; null for all of the target
 * @throws PlanError where what is looked up keeps no versions, or goes by another key
 */
export async function lookWithin(
  session: Session,
  plan: LoadPlan,
  rows: TableName | null,
): Promise<WithinProof | null> {
  const { within } = plan.prove;
  if (!within) return null;
  const dimension = formatTableName(within.dimension);
  const [kept] = await session.query(historyOfTarget, [dimension]);
  if (!kept)
    throw new PlanError(`${dimension} keeps no versions to look up; load it in mode history first`, [
      "proof",
      "within",
      "dimension",
    ]);
  const shape = JSON.parse(kept.shape ?? "{}") as HistoryShape;
  if (shape.key.length !== within.key.length)
    throw new PlanError(`${dimension} goes by ${shape.key.join(", ")}; name as many columns`, [
      "proof",
      "within",
      "key",
    ]);
  const counts = await session.one(sql.countAstray(plan, shape, rows));
  const found = counts.astray === "0" ? [] : await session.query(sql.astray(plan, shape, rows));
  return {
    dimension,
    rows: counts.rows ?? "0",
    of: rows ? "read" : "all",
    astray: counts.astray ?? "0",
    examples: found.map((row) => ({
      key: JSON.parse(row.key ?? "[]") as string[],
      at: row.at ?? null,
      found: row.found ?? "0",
    })),
  };
}
