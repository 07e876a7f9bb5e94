import type { PipelineSummary } from "@undercoat/core/api/api";
import type { CreationAttributes, Transaction } from "sequelize";
import { type PipelineRow, StandingRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";

/** Notes how a load stands now; what is not given stays as it was. */
export async function stand(
  values: { pipeline: string; load: string; line: string } & Partial<CreationAttributes<StandingRow>>,
  transaction: Transaction,
): Promise<void> {
  const fields = Object.keys(values) as (keyof CreationAttributes<StandingRow>)[];
  await StandingRow.upsert(values as CreationAttributes<StandingRow>, { fields, transaction });
}

/** What tells a load's line from all others. */
export const nameOf = ({ pipeline, load, line }: { pipeline: string; load: string; line: string }) =>
  JSON.stringify([pipeline, load, line]);

/** What the latest proofs say, by line: those with a slice that disagrees, and those whose latest proof holds. */
export interface Verdicts {
  disagree: ReadonlySet<string>;
  hold: ReadonlySet<string>;
}

export async function verdicts(store: Store): Promise<Verdicts> {
  const names = async (sql: string) =>
    new Set((await store.query<{ pipeline: string; load: string; line: string }>(sql)).map(nameOf));
  return {
    disagree: await names("SELECT DISTINCT pipeline, load, line FROM slices WHERE verdict = 'disagrees'"),
    hold: await names(
      "SELECT s.pipeline, s.load, s.line FROM standings s JOIN proofs p ON p.id = s.proof_id WHERE p.verdict = 'proved'",
    ),
  };
}

/** How a pipeline's loads stand: what needs somebody is counted for each load by the newest outcome of its lines. */
export function standingOf(
  { name, definition }: PipelineRow,
  standings: StandingRow[],
  { disagree, hold }: Verdicts,
): PipelineSummary["standing"] {
  const mine = standings.filter((row) => row.pipeline === name && Object.hasOwn(definition.loads, row.load));
  const disagrees = (row: StandingRow) => disagree.has(nameOf(row));
  const failed = (row: StandingRow) => row.status === "failed";
  const holds = (row: StandingRow) => hold.has(nameOf(row)) && !disagrees(row) && !failed(row);
  const loads = Object.keys(definition.loads).map((load) => mine.filter((row) => row.load === load));
  const count = (fits: (lines: StandingRow[]) => boolean) => loads.filter(fits).length;
  return {
    disagrees: count((lines) => lines.some(disagrees)),
    failed: count((lines) => lines.some(failed)),
    rejecting: count((lines) => lines.some((row) => row.rejected !== "0")),
    proved: count((lines) => lines.length > 0 && lines.every(holds)),
  };
}
