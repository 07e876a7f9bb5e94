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

/** Loads with a slice that disagrees. */
export async function disagreements(store: Store): Promise<Set<string>> {
  const rows = await store.query<{ pipeline: string; load: string }>(
    "SELECT DISTINCT pipeline, load FROM slices WHERE verdict = 'disagrees'",
  );
  return new Set(rows.map(({ pipeline, load }) => JSON.stringify([pipeline, load])));
}

/** How a pipeline's loads stand: what needs somebody is counted for each load by its newest outcome. */
export function standingOf(
  { name, definition }: PipelineRow,
  standings: StandingRow[],
  disagreeing: ReadonlySet<string>,
): PipelineSummary["standing"] {
  const mine = standings.filter((row) => row.pipeline === name && Object.hasOwn(definition.loads, row.load));
  const disagrees = (load: string) => disagreeing.has(JSON.stringify([name, load]));
  const failed = (row: StandingRow) => row.status === "failed";
  const rejecting = (row: StandingRow) => row.rejected !== "0";
  return {
    disagrees: mine.filter((row) => disagrees(row.load)).length,
    failed: mine.filter(failed).length,
    rejecting: mine.filter(rejecting).length,
    proved: mine.filter((row) => row.proofId !== null && !disagrees(row.load) && !failed(row)).length,
  };
}
