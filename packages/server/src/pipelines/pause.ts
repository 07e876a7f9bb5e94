import { FactRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";

/** Why no schedule starts anything, since when, and who said so. */
export interface Paused {
  reason: string;
  by: string;
  at: string;
}

const name = "paused";

/** What was said when all schedules were paused; null while they are not. */
export async function pausedAll(): Promise<Paused | null> {
  const row = await FactRow.findByPk(name);
  return (row?.value as Paused | undefined) ?? null;
}

/** Pauses all schedules, or lets them go on; what came due meanwhile is caught up with as after downtime. */
export async function pauseAll(store: Store, paused: Paused | null): Promise<void> {
  if (paused) await FactRow.upsert({ name, value: paused });
  else await FactRow.destroy({ where: { name } });
  await store.tell({ kind: "changed", what: "pipelines" });
}
