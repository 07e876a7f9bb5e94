import { planColumns } from "../history/plan.ts";
import type { LoadPlan, PlannedColumn } from "../plan/plan.ts";
import type { AnalysedRule } from "../shape/analyse.ts";
import { conversion, keeps, printedAlike } from "./convert.ts";
import { fence } from "./fence.ts";
import { identifier, identifiers, qualified, type TableName } from "./identifier.ts";
import { literal, typedLiteral } from "./literal.ts";
import { latestFirst, shapedValue } from "./read.ts";
import { keyValues } from "./reject.ts";
import { differ } from "./same.ts";
import { typeFamily } from "./type.ts";
import { isOpen, sinceName } from "./version.ts";

/**
 * How staged rows are checked and shaped. Faults are found first, set-wise: conditions that are certain and quick decide
 * nearly all rows, and only what they leave open is tried value by value in a function that catches errors. Where an
 * expression fails in the quick way, every row is tried.
 */

/** A row's place in the stage, under a name that no source gives a column. */
const place = identifier("place of the row in its stage");

/** The stage's rows that have no fault so far, with their place. */
function clean(stage: TableName): string {
  return `(SELECT s.ctid AS ${place}, s.* FROM ${qualified(stage)} s WHERE NOT EXISTS (SELECT 1 FROM pg_temp.fault f WHERE f.place = s.ctid) ${fence}) s`;
}

function checkedColumns(plan: LoadPlan): PlannedColumn[] {
  // A key that can be made identifies the row in the list, so its columns come first.
  const ordered = [...plan.read.columns].sort(
    (a, b) => Number(plan.write.key.includes(b.name)) - Number(plan.write.key.includes(a.name)),
  );
  return ordered.filter((column) => column.source === null || column.required || !keeps(column.type, column.given));
}

/**
 * SQL that is true only for rows whose every value certainly fits: by the forms of texts; `printed`: by how values print
 * alone; `quick`: by that, and by forms where it does not tell. By how values print it fails where one can't be read at all.
 */
function certain(plan: LoadPlan, how: "forms" | "quick" | "printed"): string | null {
  const conditions = checkedColumns(plan).flatMap((column) => {
    const value = `(${column.expression})`;
    if (keeps(column.type, column.given)) return column.required ? [`${value} IS NOT NULL`] : [];
    const told = `coalesce(${conversion(value, column.given, column.type).certain}, ${!column.required})`;
    const same = how === "forms" ? null : printedAlike(value, column.given, column.type);
    if (same === null) return [told];
    return [
      how === "printed" ? `coalesce(${same}, ${!column.required})` : `CASE WHEN ${same} THEN true ELSE ${told} END`,
    ];
  });
  return conditions.length ? conditions.join(" AND ") : null;
}

/** So many rows are looked at before all are. */
const sampled = 1000;

/**
 * How many rows are not known to fit by how their values print: `few` of the first, then of all of them. Unlike what finds
 * faults, this is asked of several processes at once.
 */
export function unlike(plan: LoadPlan, stage: TableName, few: boolean): string | null {
  const condition = certain(plan, "printed");
  if (condition === null) return null;
  const rows = few ? `(SELECT * FROM ${qualified(stage)} LIMIT ${sampled})` : qualified(stage);
  const lines = plan.shape?.lines ? ' AND s."undercoat fault" IS NULL' : "";
  return `SELECT count(*)::text AS rows FROM ${rows} s WHERE (${condition}) IS NOT TRUE${lines}`;
}

/** A function that tries every value of a staged row: null, or an array of code, column, reason and value. */
export function createFault(plan: LoadPlan, stage: TableName): string {
  const columns = checkedColumns(plan);
  // A cast is tried by assigning it: PostgreSQL evaluates that without running a query.
  const declared = columns.map((column, at) => `v${at} ${column.given}; c${at} ${column.type};`).join(" ");
  const steps = columns.map((column, at) => {
    const name = literal(column.name);
    const missing = column.required
      ? ` IF v${at} IS NULL THEN RETURN ARRAY['missing', ${name}, ${literal(`${column.name} is missing`)}, NULL]; END IF;`
      : "";
    const begin = `step := ${at}; v${at} := ${column.expression};${missing}`;
    if (keeps(column.type, column.given)) return begin;
    const { cast, fits, misfit, code } = conversion(`v${at}`, column.given, column.type);
    const reason = literal(`${column.name} ${misfit}`);
    return `${begin} step := ${at + columns.length}; IF v${at} IS NOT NULL AND NOT coalesce(${fits}, true) THEN RETURN ARRAY['${code}', ${name}, ${reason}, v${at}::text]; END IF; c${at} := ${cast};`;
  });
  const names = `(ARRAY[${columns.map((column) => literal(column.name)).join(", ")}]::text[])[step % ${columns.length || 1} + 1]`;
  // A text that reads like a date and names a day that the calendar lacks is told as that.
  const dates = columns.filter((column) => typeFamily(column.type) === "moment").map((column) => literal(column.name));
  const beyond = `CASE WHEN SQLSTATE = '22008'${dates.length ? ` AND ${names} IN (${dates.join(", ")})` : " AND false"} THEN ${names} || ' is not a date that exists' ELSE ${names} || ' is out of range' END`;
  const misfits = columns.map((column) =>
    literal(
      `${column.name} ${keeps(column.type, column.given) ? "does not fit" : conversion("v", column.given, column.type).misfit}`,
    ),
  );
  const values = columns.map((_, at) => `WHEN ${at + columns.length} THEN v${at}::text`).join(" ");
  const body = `DECLARE step int := 0; ${declared}
BEGIN
${steps.join("\n")}
RETURN NULL;
EXCEPTION WHEN data_exception OR program_limit_exceeded OR feature_not_supported THEN
IF step < ${columns.length} THEN RETURN ARRAY['expression', ${names}, ${names} || ' can''t be computed: ' || regexp_replace(SQLERRM, ': ".*$', ''), NULL]; END IF;
RETURN ARRAY[CASE WHEN SQLSTATE IN ('22003', '22008') THEN 'range' ELSE 'type' END, ${names}, CASE WHEN SQLSTATE IN ('22003', '22008') THEN ${beyond} ELSE (ARRAY[${misfits.join(", ")}]::text[])[step % ${columns.length || 1} + 1] END, CASE step ${values || "WHEN -1 THEN NULL"} END];
END`;
  return rowFunction("fault", stage, body);
}

/**
 * A function of the session's own over a staged row. Its body is quoted as a literal: an expression may hold any text,
 * dollar signs too. A name in an expression is a column's, whatever the body's own variables are called.
 */
function rowFunction(name: string, stage: TableName, body: string, returns = "text[]"): string {
  return `CREATE FUNCTION pg_temp.${name}(s ${qualified(stage)}) RETURNS ${returns} LANGUAGE plpgsql AS ${literal(`#variable_conflict use_column\n${body}`)}`;
}

/** Finds lines that are no rows; null where there can be none. */
export function lineFaults(plan: LoadPlan, stage: TableName): string | null {
  if (!plan.shape?.lines) return null;
  return `INSERT INTO pg_temp.fault SELECT s.ctid, 'line', NULL, s."undercoat fault", s."undercoat place", ${plan.write.rejects.breach === "stop"} FROM ${qualified(stage)} s WHERE s."undercoat fault" IS NOT NULL`;
}

/**
 * Finds the rows whose values don't fit: trying those that are not `certain` to, by their texts' forms or, several times as
 * `quick`, by how their values print; or trying each.
 */
export function typeFaults(plan: LoadPlan, stage: TableName, how: "each" | "certain" | "quick"): string | null {
  const condition = certain(plan, how === "quick" ? "quick" : "forms");
  if (how !== "each" && condition === null) return null;
  const where = [
    ...(how === "each" ? [] : [`(${condition}) IS NOT TRUE`]),
    ...(plan.shape?.lines ? ['s."undercoat fault" IS NULL'] : []),
  ];
  const rows = `SELECT s.ctid AS place, pg_temp.fault(s.*) AS f FROM ${qualified(stage)} s${where.length ? ` WHERE ${where.join(" AND ")}` : ""} ${fence}`;
  return `INSERT INTO pg_temp.fault SELECT q.place, q.f[1], q.f[2], q.f[3], q.f[4], ${plan.write.rejects.breach === "stop"} FROM (${rows}) q WHERE q.f IS NOT NULL`;
}

/** Finds rows whose key is null, where the stage holds the warehouse's columns already. */
export function keyFaults(plan: LoadPlan, stage: TableName): string {
  const missing = plan.write.key.map((name) => `WHEN s.${identifier(name)} IS NULL THEN ${literal(name)}`).join(" ");
  return `INSERT INTO pg_temp.fault SELECT q.place, 'missing', q.col, q.col || ' is missing', NULL, ${plan.write.rejects.breach === "stop"} FROM (SELECT s.ctid AS place, CASE ${missing} END AS col FROM ${qualified(stage)} s) q WHERE q.col IS NOT NULL`;
}

/** The time from when a staged row is so, of a history that has one. */
function stagedSince(plan: LoadPlan): { name: string; sql: string } | null {
  const since = plan.write.history?.since;
  if (!since) return null;
  const name = plan.shape ? since.source : (since.written ?? since.source);
  return { name: since.source, sql: `s.${identifier(name)}` };
}

/** Finds rows of a history that don't say from when they are so; null where none could. */
export function sinceFaults(plan: LoadPlan, stage: TableName): string | null {
  const since = stagedSince(plan);
  if (!since) return null;
  return `INSERT INTO pg_temp.fault SELECT s.ctid, 'missing', NULL, ${literal(`${since.name} does not say from when the row is so`)}, (${since.sql})::text, ${plan.write.rejects.breach === "stop"} FROM ${qualified(stage)} s WHERE isfinite(${since.sql}) IS NOT TRUE AND NOT EXISTS (SELECT 1 FROM pg_temp.fault f WHERE f.place = s.ctid)`;
}

/** Finds rows that change a value which is to stay as it first was; null where none is, or where that is only counted. */
export function keptFaults(plan: LoadPlan, stage: TableName): string | null {
  const { history, target } = plan.write;
  const kept = planColumns(plan, "keep");
  if (!history || history.fresh || history.breach === "count" || kept.length === 0) return null;
  const which = kept.map(
    (column, at) =>
      `WHEN ${differ(
        [column],
        () => `t.${identifier(column.name)}`,
        () => `r.${identifier(column.name)}`,
      )} THEN ${at + 1}`,
  );
  const matched = plan.write.key.map((name) => `t.${identifier(name)} = r.${identifier(name)}`).join(" AND ");
  const broken = `SELECT r.${place} AS place, (CASE ${which.join(" ")} END) AS at, ${kept.length === 1 ? `r.${identifier(kept[0]?.name ?? "")}::text` : "NULL::text"} AS value FROM (${shapedClean(plan, stage)}) r JOIN LATERAL (SELECT * FROM ${qualified(target)} t WHERE ${matched}${history.dated ? ` ORDER BY t.${identifier(history.from)}` : ""} LIMIT 1) t ON true`;
  const names = (of: (name: string) => string) =>
    `(ARRAY[${kept.map((column) => literal(of(column.name))).join(", ")}])[q.at]`;
  return `INSERT INTO pg_temp.fault SELECT q.place, 'kept', ${names((name) => name)}, ${names((name) => `${name} is kept as it first was, and changes`)}, q.value, ${history.breach === "stop"} FROM (${broken}) q WHERE q.at IS NOT NULL`;
}

/** How many clean rows change a kept value, where that is only counted; null where it is not. */
export function countKept(plan: LoadPlan, stage: TableName): { sql: string; rules: { name: string }[] } | null {
  const { history, target } = plan.write;
  const kept = planColumns(plan, "keep");
  if (!history || history.fresh || history.breach !== "count" || kept.length === 0) return null;
  const matched = plan.write.key.map((name) => `t.${identifier(name)} = r.${identifier(name)}`).join(" AND ");
  const counts = kept.map(
    (column, at) =>
      `count(*) FILTER (WHERE ${differ(
        [column],
        () => `t.${identifier(column.name)}`,
        () => `r.${identifier(column.name)}`,
      )})::text AS c${at}`,
  );
  return {
    sql: `SELECT ${counts.join(", ")} FROM (${shapedClean(plan, stage)}) r JOIN ${qualified(target)} t ON ${[matched, ...(history.dated ? [isOpen(history, "t")] : [])].join(" AND ")}`,
    rules: kept.map((column) => ({ name: `${column.name} is kept` })),
  };
}

/** What no two rows of one read may share: the key, and of a history whose rows are dated their time too. */
function distinctValues(plan: LoadPlan): string[] {
  const since = stagedSince(plan);
  return [...keyValues(plan), ...(since ? [since.sql] : [])];
}

/** Up to three keys that stand on several clean rows. @param faults true where a fault was found */
export function repeatedKeys(plan: LoadPlan, stage: TableName, faults: boolean): string {
  const key = distinctValues(plan);
  const rows = faults ? clean(stage) : `${qualified(stage)} s`;
  return `SELECT concat_ws(', ', ${key.map((value) => `(${value})::text`).join(", ")}) AS key FROM ${rows} GROUP BY ${key.join(", ")} HAVING count(*) > 1 LIMIT 3`;
}

/** Finds all rows of a key but the latest. */
export function duplicateFaults(plan: LoadPlan, stage: TableName): string {
  const key = keyValues(plan);
  const named = `concat_ws(', ', ${key.map((value) => `(${value})::text`).join(", ")})`;
  const rows = `SELECT s.${place} AS place, ${named} AS key, row_number() OVER (PARTITION BY ${distinctValues(plan).join(", ")} ORDER BY ${latestFirst(plan, "stage")}) AS rank FROM ${clean(stage)}`;
  return `INSERT INTO pg_temp.fault SELECT q.place, 'duplicate', ${plan.write.key.length === 1 ? literal(plan.write.key[0] ?? "") : "NULL"}, ${literal(`${plan.write.key.join(", ")} stands more than once in what was read`)}, q.key, ${plan.write.rejects.duplicates === "stop"} FROM (${rows}) q WHERE q.rank > 1`;
}

/** SQL that is true where a row breaks a rule. */
function broken(rule: AnalysedRule): string {
  const breaks = `(${rule.check}\n) IS ${rule.null === "pass" ? "FALSE" : "NOT TRUE"}`;
  if (rule.from === null) return breaks;
  const from = typedLiteral(rule.from, "date");
  return rule.of === null
    ? `(current_date >= ${from} AND ${breaks})`
    : `(coalesce(${identifier(rule.of)} >= ${from}, true) AND ${breaks})`;
}

/** The clean rows as the warehouse would hold them. */
function shapedClean(plan: LoadPlan, stage: TableName): string {
  return `SELECT s.${place}, ${plan.read.columns.map((column) => `${shapedValue(column)} AS ${identifier(column.name)}`).join(", ")} FROM ${clean(stage)} ${fence}`;
}

/** Rules that turn rows away, those that stop the load first. */
export function rejectingRules(plan: LoadPlan): AnalysedRule[] {
  return (plan.shape?.rules ?? [])
    .filter((rule) => rule.breach !== "count")
    .sort((a, b) => Number(b.breach === "stop") - Number(a.breach === "stop"));
}

/** Finds the rows that break a rule; null where no rule rejects. */
export function ruleFaults(plan: LoadPlan, stage: TableName): string | null {
  const rules = rejectingRules(plan);
  if (rules.length === 0) return null;
  const first = rules.map((rule, at) => `WHEN ${broken(rule)} THEN ${at}`).join(" ");
  const pick = (of: (rule: AnalysedRule) => string) => `(ARRAY[${rules.map(of).join(", ")}])[q.broken + 1]`;
  return `INSERT INTO pg_temp.fault SELECT q.place, 'rule', NULL, ${pick((rule) => literal(ruleReason(rule.name)))}, NULL, ${pick((rule) => String(rule.breach === "stop"))} FROM (SELECT r.${place} AS place, CASE ${first} END AS broken FROM (${shapedClean(plan, stage)}) r) q WHERE q.broken IS NOT NULL`;
}

export const ruleReason = (name: string) => `breaks the rule “${name}”`;

/** How many clean rows break each rule that only counts, in order; null where there is none. */
export function countBreaches(plan: LoadPlan, stage: TableName): { sql: string; rules: AnalysedRule[] } | null {
  const rules = (plan.shape?.rules ?? []).filter((rule) => rule.breach === "count");
  if (rules.length === 0) return null;
  const counts = rules.map((rule, at) => `count(*) FILTER (WHERE ${broken(rule)})::text AS c${at}`);
  return { sql: `SELECT ${counts.join(", ")} FROM (${shapedClean(plan, stage)}) r`, rules };
}

/** A function that says which of the rules that only count a row breaks; one that can't be decided is broken. */
export function createCounts(plan: LoadPlan, stage: TableName, rules: readonly AnalysedRule[]): string {
  const columns = plan.read.columns.map((column) => `${shapedValue(column)} AS ${identifier(column.name)}`).join(", ");
  const steps = rules.map(
    (rule) =>
      `BEGIN SELECT ${broken(rule)} INTO breaks FROM (SELECT ${columns}) r; EXCEPTION WHEN data_exception OR program_limit_exceeded OR feature_not_supported THEN breaks := true; END; found := found || coalesce(breaks, false);`,
  );
  return rowFunction(
    "counts",
    stage,
    `DECLARE found boolean[] := '{}'; breaks boolean;\nBEGIN\n${steps.join("\n")}\nRETURN found;\nEND`,
    "boolean[]",
  );
}

/** As countBreaches, row by row. */
export function countBreachesOneByOne(stage: TableName, rules: readonly AnalysedRule[]): string {
  const counts = rules.map((_, at) => `count(*) FILTER (WHERE q.c[${at + 1}])::text AS c${at}`);
  return `SELECT ${counts.join(", ")} FROM (SELECT pg_temp.counts(t.*) AS c FROM ${qualified(stage)} t WHERE NOT EXISTS (SELECT 1 FROM pg_temp.fault f WHERE f.place = t.ctid) ${fence}) q`;
}

/** A function that tries the rules of a row one by one, for rules that fail on some rows. */
export function createBreach(plan: LoadPlan, stage: TableName): string {
  const columns = plan.read.columns.map((column) => `${shapedValue(column)} AS ${identifier(column.name)}`).join(", ");
  const steps = rejectingRules(plan).map(
    (rule) =>
      `step := ${literal(rule.name)}; stops := ${rule.breach === "stop"}; SELECT ${broken(rule)} INTO breaks FROM (SELECT ${columns}) r; IF breaks THEN RETURN ARRAY['rule', ${literal(ruleReason(rule.name))}, stops::text]; END IF;`,
  );
  const body = `DECLARE step text; stops boolean; breaks boolean;
BEGIN
${steps.join("\n")}
RETURN NULL;
EXCEPTION WHEN data_exception OR program_limit_exceeded OR feature_not_supported THEN
RETURN ARRAY['rule', 'the rule “' || step || '” can''t be decided: ' || regexp_replace(SQLERRM, ': ".*$', ''), stops::text];
END`;
  return rowFunction("breach", stage, body);
}

/** As ruleFaults, row by row. */
export function ruleFaultsOneByOne(stage: TableName): string {
  return `INSERT INTO pg_temp.fault SELECT q.place, q.f[1], NULL, q.f[2], NULL, q.f[3]::boolean FROM (SELECT t.ctid AS place, pg_temp.breach(t.*) AS f FROM ${qualified(stage)} t WHERE NOT EXISTS (SELECT 1 FROM pg_temp.fault f WHERE f.place = t.ctid) ${fence}) q WHERE q.f IS NOT NULL`;
}

/** Writes the clean rows under the warehouse's columns. */
export function shapeRows(plan: LoadPlan, stage: TableName, table: TableName, faults: boolean): string {
  const rows = faults ? clean(stage) : `${qualified(stage)} s`;
  const { history } = plan.write;
  const columns: [string, string][] = plan.read.columns.map((column) => [column.name, shapedValue(column)]);
  if (history?.since && !history.since.written)
    columns.push([sinceName(history), `s.${identifier(history.since.source)}`]);
  return `INSERT INTO ${qualified(table)} (${identifiers(columns.map(([name]) => name))}) SELECT ${columns.map(([, value]) => value).join(", ")} FROM ${rows}`;
}

/** Takes the faulty rows out of a stage that holds the warehouse's columns. */
export const dropFaulty = (stage: TableName) =>
  `DELETE FROM ${qualified(stage)} s USING pg_temp.fault f WHERE s.ctid = f.place`;
