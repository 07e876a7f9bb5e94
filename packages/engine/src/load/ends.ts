import type { TableName } from "@undercoat/core/sql/identifier";
import { Cancelled } from "../failure.ts";
import type { Snapshot, Source } from "../source/source.ts";
import type { Warehouse, WarehouseSession } from "../warehouse/warehouse.ts";

/** The two ends of a load, open. */
export interface Ends {
  source: Snapshot;
  warehouse: WarehouseSession;
  /** true where both are one database and one session: rows don't leave it */
  inside: boolean;
}

/** Opens both ends for some work and closes them, however it ends. @throws Cancelled when the signal ended it */
export async function withEnds<T>(name: string, source: Source, warehouse: Warehouse, target: TableName, signal: AbortSignal, work: (ends: Ends) => Promise<T>): Promise<T> {
  const inside = warehouse.isInside(source);
  const opened = await Promise.allSettled([warehouse.session(name, signal), inside ? null : source.snapshot(name, signal)]);
  const [into, from] = opened;
  try {
    if (into.status === "rejected") throw into.reason;
    if (from.status === "rejected") throw from.reason;
    return await work({ source: from.value ?? into.value.inside(target), warehouse: into.value, inside });
  } catch (error) {
    throw signal.aborted ? new Cancelled("Cancelled") : error;
  } finally {
    await Promise.all(opened.map((entry) => (entry.status === "fulfilled" ? entry.value?.close() : undefined)));
  }
}
