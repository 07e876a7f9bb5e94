import type { LoadPlan } from "@undercoat/core/plan/plan";
import { grouped } from "@undercoat/core/proof/decimal";
import { type Reason, reasonWords } from "@undercoat/core/run/run";
import type { TableName } from "@undercoat/core/sql/identifier";
import { createFaults, faultReasons } from "@undercoat/core/sql/reject";
import * as shape from "@undercoat/core/sql/shape";
import { createShaped } from "@undercoat/core/sql/stage";
import { isDataError, LoadFailure } from "../../failure.ts";
import type { Session } from "../../postgres/session.ts";
import type { Sifted, Told } from "../warehouse.ts";

/** What a check found, and where the rows that passed stand. */
export interface Sieved extends Pick<Sifted, "rejected" | "reasons" | "counted"> {
  rows: TableName;
}

/**
 * Checks and shapes staged rows: first the quick way; where an expression or a rule fails on some row, everything is
 * undone and every row is tried by itself.
 */
export async function sift(
  session: Session,
  plan: LoadPlan,
  stage: TableName,
  shaped: TableName | null,
  read: string,
  told: Told,
): Promise<Sieved> {
  await session.query("SAVEPOINT sifting");
  try {
    return await attempt({ session, plan, stage, shaped, read, told, every: false });
  } catch (error) {
    if (!isDataError(error) || !plan.shape) throw error;
    told("an expression fails on some row; each row is tried by itself");
    await session.query("ROLLBACK TO SAVEPOINT sifting");
    return attempt({ session, plan, stage, shaped, read, told, every: true });
  }
}

interface Attempt {
  session: Session;
  plan: LoadPlan;
  stage: TableName;
  /** a table to be made for the rows that pass; null where they go into the new target itself */
  shaped: TableName | null;
  read: string;
  told: Told;
  /** every row is tried by itself */
  every: boolean;
}

async function attempt(work: Attempt): Promise<Sieved> {
  const { session, plan, stage, read, told, every } = work;
  await session.query(createFaults);
  const find = async (what: string, sql: string | null): Promise<boolean> => {
    if (sql === null) return false;
    const rows = await session.run(sql);
    told(`${what} checked: ${grouped(rows)} rows turned away`, sql);
    return rows !== "0";
  };
  let faulty = await find("lines", shape.lineFaults(plan, stage));
  if (plan.shape) {
    const types = shape.typeFaults(plan, stage, every ? "each" : "certain");
    if (types) {
      await session.query(shape.createFault(plan, stage));
      faulty = (await quickly(work, find, types)) || faulty;
    }
  }
  faulty = (await find("times", shape.sinceFaults(plan, stage))) || faulty;
  if (plan.write.key.length && !plan.write.keyGuaranteed) {
    if (!plan.shape) faulty = (await find("keys", shape.keyFaults(plan, stage))) || faulty;
    const repeated = await session.query(shape.repeatedKeys(plan, stage, faulty));
    if (repeated.length) faulty = (await find("repeated keys", shape.duplicateFaults(plan, stage))) || faulty;
  }
  if (every && shape.rejectingRules(plan).length) {
    await session.query(shape.createBreach(plan, stage));
    faulty = (await find("rules", shape.ruleFaultsOneByOne(stage))) || faulty;
  } else faulty = (await find("rules", shape.ruleFaults(plan, stage))) || faulty;
  faulty = (await find("kept values", shape.keptFaults(plan, stage))) || faulty;
  const reasons = faulty ? await reasonsOf(session) : [];
  const rejected = reasons.reduce((sum, reason) => sum + BigInt(reason.rows), 0n).toString();
  if (faulty) {
    told(`${grouped(rejected)} row${rejected === "1" ? "" : "s"} rejected: ${reasonWords(reasons)}`);
    refuseTooMany(plan, reasons, rejected, read);
  }
  const counted = await countBreaches(work);
  for (const { rule, rows } of counted)
    if (rows !== "0")
      told(`${grouped(rows)} row${rows === "1" ? "" : "s"} break the rule “${rule}”, which only counts`);
  return {
    rejected,
    reasons: reasons.map(({ stops: _, ...reason }) => reason),
    counted,
    rows: await place(work, faulty),
  };
}

/** Finds values that don't fit the quick way; where one of them can't be read at all, by their forms. */
async function quickly(
  { session, plan, stage, told, every }: Attempt,
  find: (what: string, sql: string | null) => Promise<boolean>,
  types: string,
): Promise<boolean> {
  if (every) return find("types", types);
  await session.query("SAVEPOINT typing");
  try {
    if (await allAlike({ session, plan, stage, told })) return false;
    return await find("types", shape.typeFaults(plan, stage, "quick"));
  } catch (error) {
    if (!isDataError(error)) throw error;
    await session.query("ROLLBACK TO SAVEPOINT typing");
    return find("types", types);
  }
}

/** True where every value prints as its text stands, which is known soonest; not asked of all where it is not so of a few. */
async function allAlike({
  session,
  plan,
  stage,
  told,
}: Pick<Attempt, "session" | "plan" | "stage" | "told">): Promise<boolean> {
  for (const few of [true, false]) {
    const text = shape.unlike(plan, stage, few);
    if (text === null || (await session.one(text)).rows !== "0") return false;
    if (!few) told("types checked: 0 rows turned away", text);
  }
  return true;
}

/** Where the rows that passed stand in the end. */
async function place({ session, plan, stage, shaped, told }: Attempt, faulty: boolean): Promise<TableName> {
  if (!plan.shape) return stage;
  if (shaped) await session.query(createShaped(plan, shaped));
  const rows = shaped ?? plan.write.target;
  const text = shape.shapeRows(plan, stage, rows, faulty);
  told(`${grouped(await session.run(text))} rows shaped`, text);
  return rows;
}

async function reasonsOf(session: Session): Promise<(Reason & { stops: boolean })[]> {
  return (await session.query(faultReasons)).map((row) => ({
    code: row.code ?? "",
    column: row.col ?? null,
    reason: row.reason ?? "",
    rows: row.rows ?? "0",
    examples: (row.examples ?? "{}") === "{}" ? [] : [(row.examples ?? "").slice(1, -1)],
    stops: row.stops === "t",
  }));
}

async function countBreaches(work: Attempt) {
  const { session, plan, stage } = work;
  const kept = shape.countKept(plan, stage);
  const rows = kept ? await session.one(kept.sql) : {};
  return [
    ...(await countBroken(work)),
    ...(kept?.rules ?? []).map((rule, at) => ({ rule: rule.name, rows: rows[`c${at}`] ?? "0" })),
  ];
}

async function countBroken({ session, plan, stage, every }: Attempt) {
  const asked = shape.countBreaches(plan, stage);
  if (!asked) return [];
  if (every) await session.query(shape.createCounts(plan, stage, asked.rules));
  const row = await session.one(every ? shape.countBreachesOneByOne(stage, asked.rules) : asked.sql);
  return asked.rules.map((rule, at) => ({ rule: rule.name, rows: row[`c${at}`] ?? "0" }));
}

/** Fails the load where a breach stops it, or where more rows are rejected than it allows. */
function refuseTooMany(plan: LoadPlan, reasons: (Reason & { stops: boolean })[], rejected: string, read: string): void {
  const { rows, share } = plan.write.rejects;
  const stopping = reasons.filter((reason) => reason.stops);
  const examples = reasons
    .flatMap((reason) => reason.examples.map((example) => `${reason.reason}: ${example}`))
    .slice(0, 3)
    .join("; ");
  const detail = [reasonWords(reasons), examples].filter(Boolean).join(". For example ");
  const stop = (message: string, hint: string) => {
    throw new LoadFailure({ message, detail, hint });
  };
  if (stopping.length)
    stop(
      `${reasonWords(stopping)}, and the load stops at that`,
      "Nothing was written. Mend the rows at the source, the shape or the rule; or have such rows rejected.",
    );
  if (rows !== null && BigInt(rejected) > BigInt(rows))
    stop(
      `${grouped(rejected)} rows would be rejected; the load allows ${grouped(String(rows))}`,
      "Nothing was written. Mend the rows at the source or the shape, or raise the limit.",
    );
  // Exact: rejected / read > share %, in whole numbers.
  const [whole = "0", part = ""] = (share ?? "").split(".");
  if (share !== null && BigInt(rejected) * 10n ** BigInt(part.length + 2) > BigInt(read) * BigInt(whole + part))
    stop(
      `${grouped(rejected)} of ${grouped(read)} rows would be rejected; the load allows ${share} %`,
      "Nothing was written. Mend the rows at the source or the shape, or raise the limit.",
    );
}
