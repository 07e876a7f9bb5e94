import type { LoadPlan, PlannedColumn } from "../../plan/plan.ts";
import { identifier, identifiers, qualified, type TableName } from "../identifier.ts";
import { image } from "../same.ts";
import { ownRows, written } from "../target.ts";
import type { WriteMode, WriteStep } from "./mode.ts";

/** Rows numbered among those that are the same in every one of some columns. */
function numbered(columns: readonly PlannedColumn[], table: string, where: string): string {
  const same = image(columns.map((column) => ({ sql: `r.${identifier(column.name)}`, type: column.type })));
  return `SELECT r.*, r.ctid AS place, i.same AS same, row_number() OVER (PARTITION BY i.same) AS number FROM ${table} r, LATERAL (SELECT ${same} AS same) i${where}`;
}

/** Of the target only the rows from the stage's lowest watermark on can be the same as a staged one. */
function near(plan: LoadPlan, rows: TableName): string {
  const mark = plan.read.columns.find((column) => column.source === plan.read.watermark?.column);
  const name = mark ? `r.${identifier(mark.name)}` : "";
  const conditions = [
    ...(mark ? [`(${name} >= (SELECT min(${identifier(mark.name)}) FROM ${qualified(rows)}) OR ${name} IS NULL)`] : []),
    ...ownRows(plan).map((own) => `EXISTS (SELECT 1 FROM (SELECT r.*) t WHERE ${own})`),
  ];
  return conditions.length ? ` WHERE ${conditions.join(" AND ")}` : "";
}

/**
 * Accepted rows and target's rows, each matched with one that is the same, counted as a multiset: a row that the look-back
 * reads again is not doubled, and one that really stands twice at the source stands twice here.
 */
function pairs(
  plan: LoadPlan,
  rows: TableName,
  columns: readonly PlannedColumn[],
): { staged: string; held: string; matched: string } {
  return {
    staged: numbered(columns, qualified(rows), ""),
    held: numbered(columns, qualified(plan.write.target), near(plan, rows)),
    matched: "t.same = s.same AND t.number = s.number",
  };
}

function missing(plan: LoadPlan, rows: TableName, columns: readonly PlannedColumn[]): string {
  const { staged, held, matched } = pairs(plan, rows, columns);
  return `SELECT ${identifiers(
    written(plan).map((column) => column.name),
    "s",
  )} FROM (${staged}) s LEFT JOIN (SELECT same, number FROM (${held}) h) t ON ${matched} WHERE t.number IS NULL`;
}

/** Rows that no key tells apart: those that the target lacks are added. */
export const appendWithoutKey: WriteMode = {
  known: () => null,
  steps(plan, rows, added) {
    const columns = written(plan);
    // A column that the target has only just got tells no rows apart; those that stand there take its values.
    const before = columns.filter((column) => !added.includes(column.name));
    const fresh = columns.filter((column) => added.includes(column.name));
    const { staged, held, matched } = pairs(plan, rows, before);
    const set = fresh.map((column) => `${identifier(column.name)} = m.${identifier(column.name)}`).join(", ");
    const taken = `SELECT t.place AS held, ${identifiers(
      fresh.map((column) => column.name),
      "s",
    )} FROM (${staged}) s JOIN (SELECT place, same, number FROM (${held}) h) t ON ${matched}`;
    const fill: WriteStep[] = fresh.length
      ? [
          {
            message: "rows get their new columns",
            sql: `UPDATE ${qualified(plan.write.target)} t SET ${set} FROM (${taken}) m WHERE t.ctid = m.held`,
            counts: "changed",
          },
        ]
      : [];
    return [
      ...fill,
      {
        message: "rows are added",
        sql: `INSERT INTO ${qualified(plan.write.target)} (${identifiers(columns.map((column) => column.name))}) ${missing(plan, rows, fresh.length ? columns : before)}`,
        counts: "new",
      },
    ];
  },
  weigh(plan, rows, lacking) {
    const before = written(plan).filter((column) => !lacking.has(column.name));
    const known = `(SELECT count(*) FROM ${qualified(rows)}) - (SELECT count(*) FROM (${missing(plan, rows, before)}) m)`;
    return `SELECT (${known})::text AS known, ${lacking.size ? `(${known})::text` : "'0'"} AS changed, '0' AS deleted`;
  },
  tally(accepted, known, counted) {
    const added = counted.new ?? accepted - known;
    return added > accepted || counted.changed > accepted - added
      ? null
      : { new: added, changed: counted.changed, same: accepted - added - counted.changed, deleted: 0n };
  },
};
