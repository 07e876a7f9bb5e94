import type { From } from "@undercoat/core/pipeline/pipeline";
import type { TableName } from "@undercoat/core/sql/identifier";
import { Cancelled, InDoubt } from "../failure.ts";
import type { Snapshot, Source } from "../source/source.ts";
import type { Waiting, Warehouse, WarehouseSession } from "../warehouse/warehouse.ts";

/** The two ends of a load, open. */
export interface Ends {
  source: Snapshot;
  warehouse: WarehouseSession;
  /** true where both are one database: rows don't leave it */
  inside: boolean;
}

/** What is opened for some work. */
export interface Opening {
  /** the sessions' name at their servers */
  name: string;
  from: From;
  target: TableName;
  /** a load writes and holds its target; a rehearsal does neither; a look leaves no trace at all */
  purpose: "load" | "rehearse" | "look";
  waiting: Waiting;
  /** told what people should know of how the rows come */
  note?: (words: string) => void;
  /** true where what was read before a load was cut is read on from */
  goesOn?: boolean;
  signal: AbortSignal;
}

/**
 * Opens both ends for some work and closes them, however it ends. The source's one moment begins after the target is
 * held: one from before the wait would bring older rows over newer.
 * @throws Cancelled when the signal ended it
 */
export async function withEnds<T>(
  opening: Opening,
  source: Source,
  warehouse: Warehouse,
  work: (ends: Ends) => Promise<T>,
): Promise<T> {
  const { name, from, target, purpose, waiting, note, goesOn, signal } = opening;
  const inside = warehouse.isInside(source);
  const session = warehouse.session(name, { looking: purpose === "look", signal });
  const held = session.then((open) => (purpose === "load" ? open.lock(target, waiting) : undefined));
  const opened = await Promise.allSettled([
    session,
    inside ? null : source.snapshot(name, { from, after: held, waiting, note, signal, goesOn }),
    held,
  ]);
  const [into, read, locked] = opened;
  try {
    if (into.status === "rejected") throw into.reason;
    if (locked.status === "rejected") throw locked.reason;
    if (read.status === "rejected") throw read.reason;
    return await work({ source: read.value ?? into.value.inside(target, signal), warehouse: into.value, inside });
  } catch (error) {
    throw signal.aborted && !(error instanceof InDoubt) ? new Cancelled("Cancelled") : error;
  } finally {
    await Promise.all([into, read].map((entry) => (entry.status === "fulfilled" ? entry.value?.close() : undefined)));
  }
}
