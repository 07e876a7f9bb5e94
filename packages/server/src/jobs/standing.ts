import type { PipelineSummary } from "@undercoat/core/api/api";
import type { CreationAttributes, Transaction } from "sequelize";
import { type PipelineRow, StandingRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";

/** Notes how a load stands now; what is not given stays as it was. */
export async function stand(
  values: { pipeline: string; load: string } & Partial<CreationAttributes<StandingRow>>,
  transaction: Transaction,
): Promise<void> {
  const fields = Object.keys(values) as (keyof CreationAttributes<StandingRow>)[];
  await StandingRow.upsert(values as CreationAttributes<StandingRow>, { fields, transaction });
}

const nameOf = (pipeline: string, load: string) => JSON.stringify([pipeline, load]);

/** What the latest proofs say, by load: those with a slice that disagrees, and those whose latest proof holds. */
export interface Verdicts {
  disagree: ReadonlySet<string>;
  hold: ReadonlySet<string>;
}

export async function verdicts(store: Store): Promise<Verdicts> {
  const names = async (sql: string) =>
    new Set((await store.query<{ pipeline: string; load: string }>(sql)).map((row) => nameOf(row.pipeline, row.load)));
  return {
    disagree: await names("SELECT DISTINCT pipeline, load FROM slices WHERE verdict = 'disagrees'"),
    hold: await names(
      "SELECT s.pipeline, s.load FROM standings s JOIN proofs p ON p.id = s.proof_id WHERE p.verdict = 'proved'",
    ),
  };
}

/** How a pipeline's loads stand: what needs somebody is counted for each load by its newest outcome. */
export function standingOf(
  { name, definition }: PipelineRow,
  standings: StandingRow[],
  { disagree, hold }: Verdicts,
): PipelineSummary["standing"] {
  const mine = standings.filter((row) => row.pipeline === name && Object.hasOwn(definition.loads, row.load));
  const disagrees = (load: string) => disagree.has(nameOf(name, load));
  const failed = (row: StandingRow) => row.status === "failed";
  const rejecting = (row: StandingRow) => row.rejected !== "0";
  return {
    disagrees: mine.filter((row) => disagrees(row.load)).length,
    failed: mine.filter(failed).length,
    rejecting: mine.filter(rejecting).length,
    proved: mine.filter((row) => hold.has(nameOf(name, row.load)) && !disagrees(row.load) && !failed(row)).length,
  };
}
