import type { HistoryPlan } from "../../history/plan.ts";
import type { LoadPlan } from "../../plan/plan.ts";
import { identifier, identifiers, qualified, type TableName } from "../identifier.ts";
import type { WriteStep } from "../mode/mode.ts";
import { differs, sameKey, written } from "../target.ts";
import { historyOf, isOpen, moment, momentsTable, openers, opens, sinceName } from "../version.ts";
import { at, cut, gone, held, isKnown, kind, made, name, of, work } from "./work.ts";

/** From when a staged row is so, as SQL. */
export function since(plan: LoadPlan, history: HistoryPlan): string {
  return history.since ? `s.${identifier(sinceName(history))}::timestamptz` : moment(plan);
}

/** True where the source can have several rows of a key: it keeps a log of changes rather than what is so now. */
const isLog = (plan: LoadPlan, history: HistoryPlan) => history.since !== null && !plan.write.keyGuaranteed;

/** A row of a moment kept, for a key and from a time on. */
function keptMoment(plan: LoadPlan, key: string, condition: string): string {
  return `EXISTS (SELECT 1 FROM ${qualified(momentsTable(plan.write.target))} m WHERE NOT m.${gone} AND ${sameKey(plan, "m", key)} AND ${condition})`;
}

/** True where the open version `t` says already what the staged row `s` says, and its time is known. */
export function said(plan: LoadPlan, history: HistoryPlan): string {
  const same = `NOT ${differs(plan)}`;
  if (!history.since || history.since.written) return same;
  const time = since(plan, history);
  const begun = `EXISTS (SELECT 1 FROM ${qualified(plan.write.target)} v WHERE ${sameKey(plan, "v", "s")} AND v.${identifier(history.from)} = ${time})`;
  return `(${same} AND (t.${identifier(history.from)} = ${time} OR ${keptMoment(plan, "s", `m.${at} = ${time}`)} OR ${begun}))`;
}

/** True where a version that has ended, or a moment kept in one, says already what the staged row says. */
function saidBefore(plan: LoadPlan, history: HistoryPlan): string {
  const time = since(plan, history);
  const from = `v.${identifier(history.from)}`;
  const same = `NOT ${opens(plan, of("v"), of("s"))}`;
  const before = `v.${identifier(history.to)}`;
  return `EXISTS (SELECT 1 FROM ${qualified(plan.write.target)} v WHERE ${sameKey(plan, "v", "s")} AND NOT ${isOpen(history, "v")} AND ${from} <= ${time} AND ${time} < ${before} AND ${same} AND (${from} = ${time} OR ${keptMoment(plan, "s", `m.${at} = ${time}`)}))`;
}

/** What an accepted row that is news does. */
export function kindOf(plan: LoadPlan, history: HistoryPlan): string {
  const known = isKnown(plan);
  const ever = `EXISTS (SELECT 1 FROM ${qualified(plan.write.target)} p WHERE ${sameKey(plan, "p", "s")})`;
  const opened = opens(plan, of("t"), of("s"));
  if (!history.since)
    return `CASE WHEN ${known} THEN CASE WHEN ${opened} THEN 'version' ELSE 'overwrite' END WHEN ${ever} THEN 'late' ELSE 'new' END`;
  const time = since(plan, history);
  const from = `t.${identifier(history.from)}`;
  const after = (condition: string) => `NOT ${keptMoment(plan, "s", condition)}`;
  return `CASE WHEN ${known} THEN CASE
  WHEN ${opened} THEN CASE WHEN ${time} > ${from} AND ${after(`m.${at} >= ${time}`)} THEN 'version' ELSE 'late' END
  WHEN ${time} >= ${from} AND ${after(`m.${at} > ${time}`)} THEN CASE WHEN ${differs(plan)} THEN 'overwrite' ELSE 'seen' END
  ELSE 'late' END WHEN ${ever} THEN 'late' ELSE 'new' END`;
}

/** Puts the news aside. */
export function findNews(plan: LoadPlan, history: HistoryPlan, rows: TableName): string {
  const { target, key } = plan.write;
  const columns = written(plan).map((column) => `s.${name(column)}`);
  // A key without an open version is back, whatever was said of it before it went.
  const saying = [said(plan, history), ...(isLog(plan, history) ? [saidBefore(plan, history)] : [])];
  const unsaid = `NOT (${isKnown(plan)} AND (${saying.join(" OR ")}))`;
  const openedBy = `CASE WHEN ${isKnown(plan)} THEN ${openers(plan, of("t"), of("s"))} END`;
  const found = `SELECT ${columns.join(", ")}, ${since(plan, history)} AS ${at}, t.ctid AS ${held}, ${kindOf(plan, history)} AS ${kind}, ${openedBy} AS ${cut}
FROM ${qualified(rows)} s LEFT JOIN ${qualified(target)} t ON ${sameKey(plan, "t", "s")} AND ${isOpen(history, "t")} WHERE ${unsaid}`;
  if (!isLog(plan, history)) return `${made(rows, work(rows).news)} AS ${found}`;
  const names = identifiers(written(plan).map((column) => column.name));
  return `${made(rows, work(rows).news)} AS SELECT ${names}, ${at}, ${held}, CASE WHEN count(*) OVER (PARTITION BY ${identifiers(key)}) > 1 THEN 'late' ELSE ${kind} END AS ${kind}, ${cut} FROM (${found}) n`;
}

/** Versions that stand take what their key's latest row says of columns that are new, so that these change nothing. */
export function filled(plan: LoadPlan, history: HistoryPlan, rows: TableName, added: readonly string[]): WriteStep[] {
  if (added.length === 0) return [];
  const { target, key } = plan.write;
  const latest = isLog(plan, history)
    ? `(SELECT DISTINCT ON (${identifiers(key, "s")}) s.* FROM ${qualified(rows)} s ORDER BY ${identifiers(key, "s")}, ${since(plan, history)} DESC)`
    : qualified(rows);
  const sets = added.map((column) => `${identifier(column)} = s.${identifier(column)}`);
  return [
    {
      message: `versions take ${added.join(", ")}, which ${added.length === 1 ? "is" : "are"} new`,
      sql: `UPDATE ${qualified(target)} t SET ${sets.join(", ")} FROM ${latest} s WHERE ${sameKey(plan, "t", "s")}`,
      counts: null,
    },
  ];
}

/** Where the news is put aside; null where a new target takes every row as it comes. */
export function putsAside(plan: LoadPlan): ((rows: TableName) => TableName) | null {
  const keeping = historyOf(plan);
  return keeping.fresh && !isLog(plan, keeping)
    ? null
    : (rows) => ({ schema: rows.schema, table: `news_${rows.table}`.slice(0, 63) });
}
