import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import { grouped } from "@undercoat/core/proof/decimal";
import type { TableName } from "@undercoat/core/sql/identifier";
import * as sql from "@undercoat/core/sql/warehouse";
import type { Session } from "../../session.ts";
import type { Told, Weighed } from "../warehouse.ts";

/** Examples of each outcome that a rehearsal shows. */
export const examples = 5;

/** What an apply would do to a target, counted without writing, with real rows. */
export async function weigh(session: Session, plan: LoadPlan, rows: TableName, accepted: string, existing: Dataset | null, told: Told): Promise<Weighed> {
  const lacking = new Set(plan.read.columns.filter((column) => !existing?.columns.some((held) => held.name === column.name)).map((column) => column.name));
  if (plan.deletions?.how === "mark" && !existing?.columns.some((held) => held.name === plan.deletions?.column)) lacking.add(plan.deletions.column);
  const names = plan.read.columns.map((_, at) => `c${at}`);
  const fresh = async (target: boolean) => (await session.query(sql.newExamples(plan, rows, target, examples))).map((row) => ({ new: names.map((name) => row[name] ?? null), held: null }));
  if (!existing) return { new: accepted, changed: "0", same: "0", deleted: "0", added: await fresh(false), altered: [] };
  if (plan.mode === "replace") return { new: accepted, changed: "0", same: "0", deleted: (await session.one(sql.countTarget(plan))).rows ?? "0", added: await fresh(false), altered: [] };
  if (plan.key.length === 0) {
    const added = (await session.one(sql.weighMissing(plan, rows))).new ?? "0";
    return { new: added, changed: "0", same: String(BigInt(accepted) - BigInt(added)), deleted: "0", added: await fresh(false), altered: [] };
  }
  const text = sql.weigh(plan, rows, lacking);
  const row = await session.one(text);
  told(`${grouped(row.known ?? "0")} known by their key, ${grouped(row.changed ?? "0")} of them other than the target's`, text);
  const known = BigInt(row.known ?? "0");
  const changed = plan.mode === "append" ? 0n : BigInt(row.changed ?? "0");
  const differing = changed === 0n ? [] : await session.query(sql.changedExamples(plan, rows, lacking, examples));
  return {
    new: String(BigInt(accepted) - known),
    changed: String(changed),
    same: String(known - changed),
    deleted: "0",
    added: BigInt(accepted) > known ? await fresh(true) : [],
    altered: differing.map((one) => ({ new: names.map((name) => one[name] ?? null), held: names.map((_, at) => one[`t${at}`] ?? null) })),
  };
}
