import type { CreationAttributes, Transaction } from "sequelize";
import { StandingRow } from "../store/models.ts";

/** Notes how a load stands now; what is not given stays as it was. */
export async function stand(
  values: { pipeline: string; load: string } & Partial<CreationAttributes<StandingRow>>,
  transaction: Transaction,
): Promise<void> {
  const fields = Object.keys(values) as (keyof CreationAttributes<StandingRow>)[];
  await StandingRow.upsert(values as CreationAttributes<StandingRow>, { fields, transaction });
}
