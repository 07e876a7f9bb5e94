import { tablesOf } from "@undercoat/core/expression/parse";
import type { From } from "@undercoat/core/pipeline/pipeline";
import { identifier, parseTableName, qualified } from "@undercoat/core/sql/identifier";
import { exclusiveHolders, lockable, lockShared } from "@undercoat/core/sql/session";
import { LoadFailure } from "../failure.ts";
import { arrayText } from "./array.ts";
import type { Session } from "./session.ts";

/** How long one try waits for a lock before it is told whom it waits for, and for how many tries. */
const patience = "2s";
const tries = 300;

/** Told whom a reader waits for, or null when the wait is over. */
export type Waiting = (holder: string | null) => void;

/** The tables that a load reads, quoted. */
export async function tablesRead(from: From): Promise<string[]> {
  if (from.query)
    return (await tablesOf(from.query)).map(({ schema, table }) =>
      schema === null ? identifier(table) : qualified({ schema, table }),
    );
  return [...(from.table ? [from.table] : []), ...Object.values(from.tables ?? {})].map((name) =>
    qualified(parseTableName(name)),
  );
}

/**
 * Begins a transaction whose one moment lies after tables have been locked against being emptied or rewritten: a reader
 * that took its moment first would see a table as empty that another session refills in one transaction.
 * @param begin the statement that begins it; nothing may have been asked in it before
 * @throws LoadFailure when somebody keeps a table to themselves for too long.
 */
export async function beginLocked(
  session: Session,
  begin: string,
  tables: readonly string[],
  waiting: Waiting = () => undefined,
): Promise<void> {
  const names = arrayText([...tables]);
  const found = tables.length ? await session.query(lockable, [names]) : [];
  let locked = found.map((row) => row.locked ?? "");
  for (let tried = 0; tried < tries; tried++) {
    await session.query(begin);
    try {
      for (const statement of locked.length ? lockShared(locked, patience) : []) await session.query(statement);
      if (tried > 0) waiting(null);
      return;
    } catch (error) {
      await session.query("ROLLBACK");
      const { code } = error as { code?: string };
      // A view whose owner may no longer read what is beneath it is locked by nobody; the read itself will say so.
      if (code === "42501") locked = found.filter((row) => row.relkind !== "v").map((row) => row.locked ?? "");
      else if (code !== "55P03") throw error;
      const [holder] = await session.query(exclusiveHolders, [names]);
      if (code === "55P03")
        waiting(holder ? `${holder.holder}, which keeps ${holder.name} to itself` : "another session");
    }
  }
  throw new LoadFailure({
    message: `${session.place.name}: a table could not be read, as another session has kept it to itself for ten minutes`,
    hint: "Nothing was written. See which session alters or empties it, and run again.",
  });
}
