import type { LoadPlan } from "@undercoat/core/plan/plan";
import { grouped } from "@undercoat/core/proof/decimal";
import type { Findings, HistoryProof } from "@undercoat/core/run/run";
import { putsAside } from "@undercoat/core/sql/history/news";
import type { TableName } from "@undercoat/core/sql/identifier";
import { openedBy } from "@undercoat/core/sql/mode/history";
import { type Counted, modeOf } from "@undercoat/core/sql/mode/mode";
import { guessedFrom } from "@undercoat/core/sql/mode/upsert";
import { invariants, invariantWords } from "@undercoat/core/sql/versions";
import { LoadFailure } from "../../failure.ts";
import type { Session } from "../../postgres/session.ts";
import type { Applied, Told } from "../warehouse.ts";

const nothing = (): Counted => ({ new: 0n, changed: 0n, deleted: 0n, versions: 0n, closed: 0n, overwritten: 0n });

/** Statements that are needed only where something holds, which is asked once. */
function asker(session: Session): (only: string | undefined) => Promise<boolean> {
  const answers = new Map<string, Promise<boolean>>();
  return async (only) => {
    if (only === undefined) return true;
    const answer = answers.get(only) ?? session.one(only).then((row) => row.some === "t");
    answers.set(only, answer);
    return answer;
  };
}

/** Adds rows that look new before anything is matched; how many, or null where it was not tried. */
export async function addAhead(
  session: Session,
  plan: LoadPlan,
  rows: TableName,
  accepted: string,
  told: Told,
): Promise<bigint | null> {
  const step = Number(accepted) < guessedFrom ? null : modeOf(plan).ahead?.(plan, rows);
  if (!step || !(await asker(session)(step.only))) return null;
  const written = await session.run(step.sql);
  told(`${grouped(written)} ${step.message}`, step.sql);
  return BigInt(written);
}

/**
 * Writes accepted rows by their load's mode. What was written must be what was counted, in as many words.
 * @param ahead rows added already; null where that was not tried
 * @throws LoadFailure where something else wrote to the target at the same time, or keeps rows out.
 */
export async function apply(
  session: Session,
  plan: LoadPlan,
  rows: TableName,
  accepted: string,
  added: readonly string[],
  ahead: bigint | null,
  told: Told,
): Promise<Applied> {
  const mode = modeOf(plan);
  const needed = asker(session);
  const asked = String(ahead) === accepted ? null : mode.known(plan, rows);
  // What was added ahead is known too by now.
  const known = asked === null ? 0n : BigInt((await session.one(asked)).known ?? "0") - (ahead ?? 0n);
  if (asked !== null)
    told(`${grouped(String(known))} known by their key, ${grouped((BigInt(accepted) - known).toString())} new`, asked);
  const wrote = { ...nothing(), new: ahead ?? 0n };
  for (const step of mode.steps(plan, rows, added)) {
    // What the count has shown to be none needs no statement.
    if (String(ahead) === accepted || (ahead !== null && step.counts === "new")) continue;
    if (
      asked !== null &&
      ((step.counts === "changed" && known === 0n) || (step.counts === "new" && known === BigInt(accepted)))
    )
      continue;
    if (!(await needed(step.only))) continue;
    const written = BigInt(await session.run(step.sql));
    told(`${grouped(String(written))} ${step.message}`, step.sql);
    if (step.counts) wrote[step.counts] += written;
  }
  const counted = mode.outcome ? await sum(session, mode.outcome(plan, rows), needed) : wrote;
  const tally = counted.versions === wrote.versions ? mode.tally(BigInt(accepted), known, counted) : null;
  if (!tally)
    throw new LoadFailure({
      message: "The tally does not balance, so nothing was written",
      detail: plan.write.history
        ? `accepted ${accepted}, of which ${counted.new} are new and ${counted.changed} changed; wrote ${wrote.versions} versions where ${counted.versions} were to be opened`
        : `accepted ${accepted}, of which ${known} were known; wrote ${wrote.new} new and ${wrote.changed} changed`,
      hint: "Something else wrote to the target at the same time, or a trigger or rule there keeps rows out. Look at it and run again.",
    });
  const text = (count: bigint) => String(count);
  return {
    new: text(tally.new),
    changed: text(tally.changed),
    same: text(tally.same),
    deleted: text(tally.deleted),
    ...(plan.write.history
      ? {
          versions: text(tally.versions ?? 0n),
          closed: text(tally.closed ?? 0n),
          overwritten: text(tally.overwritten ?? 0n),
        }
      : {}),
  };
}

async function sum(
  session: Session,
  statements: { sql: string; only?: string }[],
  needed: (only: string | undefined) => Promise<boolean>,
): Promise<Counted> {
  const total = nothing();
  for (const { sql, only } of statements) {
    if (!(await needed(only))) continue;
    const row = await session.one(sql);
    for (const name of Object.keys(total) as (keyof Counted)[]) total[name] += BigInt(row[name] ?? "0");
  }
  return total;
}

/** What the writing of a history found out: which columns opened versions, and whether what always holds does. */
export async function afterHistory(
  session: Session,
  plan: LoadPlan,
  rows: TableName,
): Promise<{ opened: NonNullable<Findings["opened"]>; history: HistoryProof } | null> {
  const aside = plan.write.history ? putsAside(plan) : null;
  if (!aside) return null;
  const needed = asker(session);
  const opened = new Map<string, bigint>();
  for (const { sql, only } of openedBy(rows)) {
    if (!(await needed(only))) continue;
    for (const row of await session.query(sql))
      opened.set(row.col ?? "", (opened.get(row.col ?? "") ?? 0n) + BigInt(row.versions ?? "0"));
  }
  return {
    opened: [...opened]
      .sort(([a, more], [b, fewer]) => Number(fewer - more) || (a < b ? -1 : 1))
      .map(([column, versions]) => ({ column, versions: String(versions) })),
    history: await lookAtInvariants(session, plan, aside(rows)),
  };
}

/** Looks whether what always holds of a history does, of the keys in a table or of all. */
export async function lookAtInvariants(
  session: Session,
  plan: LoadPlan,
  only: TableName | null,
): Promise<HistoryProof> {
  const row = await session.one(invariants(plan, only));
  return {
    versions: row.versions ?? "0",
    of: only ? "changed" : "all",
    broken: Object.entries(invariantWords)
      .filter(([name]) => (row[name] ?? "0") !== "0")
      .map(([name, says]) => ({ says, versions: row[name] ?? "0" })),
  };
}
