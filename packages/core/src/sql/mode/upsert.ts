import type { LoadPlan } from "../../plan/plan.ts";
import { identifier, identifiers, qualified, type TableName } from "../identifier.ts";
import { literal } from "../literal.ts";
import { comparable, differs, marker, matches, written } from "../target.ts";
import type { WriteMode, WriteStep } from "./mode.ts";

/** How many accepted rows the target knows by their key; an index answers it. A key that stands there more than once counts once. */
export function knownByKey(plan: LoadPlan, rows: TableName): string {
  return `SELECT count(*)::text AS known FROM ${qualified(rows)} s WHERE EXISTS (SELECT 1 FROM ${qualified(plan.write.target)} t WHERE ${matches(plan)})`;
}

/** Adds the accepted rows whose key the target lacks. */
export function insertNew(plan: LoadPlan, rows: TableName): WriteStep {
  const names = written(plan).map((column) => column.name);
  return {
    message: "rows are added",
    sql: `INSERT INTO ${qualified(plan.write.target)} (${identifiers(names)}) SELECT ${identifiers(names, "s")} FROM ${qualified(rows)} s WHERE NOT EXISTS (SELECT 1 FROM ${qualified(plan.write.target)} t WHERE ${matches(plan)})`,
    counts: "new",
  };
}

/** How many rows are looked at to guess whether all of them are new; no fewer are worth guessing. */
export const guessedFrom = 500;

/**
 * SQL that gives `some`: true where the first accepted rows are new and the target is a plain table with a unique index on
 * exactly the key. Then the index itself tells the others apart, and nothing there can change or keep out a row.
 */
function looksNew(plan: LoadPlan, rows: TableName): string {
  const { target, key } = plan.write;
  const indexed = "(i.indkey::int2[])[0:i.indnkeyatts - 1]";
  const index = `SELECT 1 FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid WHERE c.oid = ${literal(qualified(target))}::regclass AND c.relkind = 'r' AND NOT c.relhastriggers AND NOT c.relhasrules AND i.indisunique AND i.indimmediate AND i.indisvalid AND i.indpred IS NULL AND i.indexprs IS NULL AND i.indnkeyatts = ${key.length} AND (SELECT count(*) FROM pg_attribute a WHERE a.attrelid = i.indrelid AND a.attnum = ANY (${indexed}) AND a.attname IN (${key.map(literal).join(", ")})) = ${key.length}`;
  return `SELECT EXISTS (${index}) AND NOT EXISTS (SELECT 1 FROM (SELECT ${identifiers(key)} FROM ${qualified(rows)} LIMIT ${guessedFrom}) s JOIN ${qualified(target)} t ON ${matches(plan)}) AS some`;
}

/** Adds the accepted rows whose key the target lacks, by trying each: of rows that are nearly all new this spares matching them beforehand. Null where a part of the target is another's. */
export function tryNew(plan: LoadPlan, rows: TableName): WriteStep | null {
  if (plan.write.part) return null;
  const names = written(plan).map((column) => column.name);
  return {
    message: "rows are added",
    sql: `INSERT INTO ${qualified(plan.write.target)} (${identifiers(names)}) SELECT ${identifiers(names, "s")} FROM ${qualified(rows)} s ON CONFLICT (${identifiers(plan.write.key)}) DO NOTHING`,
    counts: "new",
    only: looksNew(plan, rows),
  };
}

/** Rows are matched by their key: those that differ are rewritten, and no others; those the target lacks are added. */
export const upsert: WriteMode = {
  known: knownByKey,
  steps(plan, rows) {
    const set = [
      ...comparable(plan).map((column) => `${identifier(column.name)} = s.${identifier(column.name)}`),
      ...marker(plan).map((column) => `${identifier(column.name)} = NULL`),
    ];
    const update: WriteStep[] = set.length
      ? [
          {
            message: "rows are changed",
            sql: `UPDATE ${qualified(plan.write.target)} t SET ${set.join(", ")} FROM ${qualified(rows)} s WHERE ${matches(plan)} AND ${differs(plan)}`,
            counts: "changed",
          },
        ]
      : [];
    return [...update, insertNew(plan, rows)];
  },
  ahead: tryNew,
  weigh: (plan, rows, lacking) =>
    `SELECT count(*)::text AS known, count(*) FILTER (WHERE ${differs(plan, lacking)})::text AS changed, '0' AS deleted FROM ${qualified(rows)} s JOIN ${qualified(plan.write.target)} t ON ${matches(plan)}`,
  tally(accepted, known, counted) {
    const unknown = accepted - known;
    if (unknown < 0n || counted.changed > known || (counted.new ?? unknown) !== unknown) return null;
    return { new: unknown, changed: counted.changed, same: known - counted.changed, deleted: 0n };
  },
};
