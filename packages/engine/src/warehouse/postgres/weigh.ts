import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import { grouped } from "@undercoat/core/proof/decimal";
import { qualified, type TableName } from "@undercoat/core/sql/identifier";
import { modeOf } from "@undercoat/core/sql/mode/mode";
import * as sql from "@undercoat/core/sql/target";
import { LoadFailure } from "../../failure.ts";
import type { Session } from "../../postgres/session.ts";
import type { Told, Weighed } from "../warehouse.ts";
import { afterHistory, apply } from "./apply.ts";

/** Examples of each outcome that a rehearsal shows. */
export const examples = 5;

/** What an apply would do to a target, counted without writing, with real rows. Where only writing can tell, it is written and undone. */
export async function weigh(
  session: Session,
  plan: LoadPlan,
  rows: TableName,
  accepted: string,
  existing: Dataset | null,
  changes: readonly sql.TargetChange[],
  told: Told,
): Promise<Weighed> {
  const there = new Set(existing?.columns.map((held) => held.name));
  const lacking = new Set(
    [...plan.read.columns, ...sql.ownColumns(plan)].map((column) => column.name).filter((name) => !there.has(name)),
  );
  const names = plan.read.columns.map((_, at) => `c${at}`);
  const fresh = async (target: boolean) =>
    (await session.query(sql.newExamples(plan, rows, target, examples))).map((row) => ({
      new: names.map((name) => row[name] ?? null),
      held: null,
    }));
  if (!existing) {
    await tryKey(session, plan, rows);
    return { new: accepted, changed: "0", same: "0", deleted: "0", added: await fresh(false), altered: [] };
  }
  const mode = modeOf(plan);
  const text = mode.weigh(plan, rows, lacking);
  if (text === null || plan.write.dropVersions)
    return trial(session, plan, rows, accepted, changes, lacking, told, fresh);
  const row = await session.one(text);
  const count = (name: string) => BigInt(row[name] ?? "0");
  told(
    `${grouped(row.known ?? "0")} known already, ${grouped(row.changed ?? "0")} of them other than the target's`,
    text,
  );
  const tally = mode.tally(BigInt(accepted), count("known"), {
    new: null,
    changed: count("changed"),
    deleted: count("deleted"),
    versions: 0n,
    closed: 0n,
    overwritten: 0n,
  });
  if (!tally)
    throw new LoadFailure({
      message: "The tally would not balance",
      detail: `accepted ${accepted}, of which ${row.known} are known and ${row.changed} changed`,
      hint: "A key stands more than once in the target.",
    });
  const differing = tally.changed === 0n ? [] : await changed(session, plan, rows, lacking);
  const weighed: Weighed = {
    new: String(tally.new),
    changed: String(tally.changed),
    same: String(tally.same),
    deleted: String(tally.deleted),
    added: tally.new > 0n ? await fresh(plan.write.mode !== "replace") : [],
    altered: differing,
  };
  await tryWriting(session, plan, rows, changes, told);
  return weighed;
}

/** The first rows that change others, old beside new. */
async function changed(session: Session, plan: LoadPlan, rows: TableName, lacking: ReadonlySet<string>) {
  if (plan.write.key.length === 0) return [];
  return (await session.query(sql.changedExamples(plan, rows, lacking, examples))).map((one) => ({
    new: plan.read.columns.map((_, at) => one[`c${at}`] ?? null),
    held: plan.read.columns.map((_, at) => one[`t${at}`] ?? null),
  }));
}

/** What writing would do, found by writing and undone; versions can't be told otherwise. */
async function trial(
  session: Session,
  plan: LoadPlan,
  rows: TableName,
  accepted: string,
  changes: readonly sql.TargetChange[],
  lacking: ReadonlySet<string>,
  told: Told,
  fresh: (target: boolean) => Promise<Weighed["added"]>,
): Promise<Weighed> {
  const [added, altered] = [await fresh(true), await changed(session, plan, rows, lacking)];
  told("the rows are written, and it is undone: only so can it be told what becomes of versions");
  await session.query("SAVEPOINT trying");
  for (const change of changes) await session.query(change.sql);
  const applied = await apply(session, plan, rows, accepted, [...lacking], null, told);
  const after = await afterHistory(session, plan, rows);
  await session.query("ROLLBACK TO SAVEPOINT trying");
  return { ...applied, added, altered, ...(after ? { opened: after.opened } : {}) };
}

/** The key of a new target is built once its rows are there, and fails where it does not tell them apart. */
async function tryKey(session: Session, plan: LoadPlan, rows: TableName): Promise<void> {
  if (plan.write.key.length === 0 || plan.write.keyGuaranteed || plan.write.history) return;
  const [repeated] = await session.query(sql.repeatedKey(plan, rows));
  if (repeated)
    throw new LoadFailure({
      message: `The key ${plan.write.key.join(", ")} does not tell all rows apart`,
      hint: "Choose columns that identify a row.",
    });
}

/** Writes and undoes it, where checks, triggers or columns of the target's own making could turn rows away. */
async function tryWriting(
  session: Session,
  plan: LoadPlan,
  rows: TableName,
  changes: readonly sql.TargetChange[],
  told: Told,
): Promise<void> {
  if ((await session.one(sql.writingTells, [qualified(plan.write.target)])).tells !== "t") return;
  told("the target has checks, triggers or columns of its own making; the rows are written and it is undone");
  await session.query("SAVEPOINT trying");
  for (const change of changes) await session.query(change.sql);
  for (const step of modeOf(plan).steps(plan, rows, [])) await session.query(step.sql);
  await session.query("ROLLBACK TO SAVEPOINT trying");
}
