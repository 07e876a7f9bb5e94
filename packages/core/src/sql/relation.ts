import type { LoadPlan, Without } from "../plan/plan.ts";
import type { Window } from "../plan/window.ts";
import type { Figure } from "../proof/figure.ts";
import type { Hashing } from "./hash.ts";
import { placeName } from "./house.ts";
import { identifier, identifiers, qualified, type TableName } from "./identifier.ts";
import { literal, typedLiteral } from "./literal.ts";
import { keyColumns, sourceRows } from "./read.ts";
import type { Slicing } from "./slice.ts";
import { currentRows, heldValue, ownRows } from "./target.ts";
import { historyOf, holdsAt } from "./version.ts";

/** Rows that a proof can compare with others: those of a source, of a warehouse table, or of any query that both sides' names and types fit. */
export interface Relation {
  /** a SELECT of exactly the columns */
  rows: string;
  /** bound to $1 … in `rows` */
  parameters: string[];
  /** true where values are computed, so that none of them is to be written out more than once */
  computed: boolean;
  columns: { name: string; type: string }[];
  /** the columns that tell rows apart; empty where only all of them do */
  key: string[];
  slicing: Slicing | null;
  figures: Figure[];
  hashing: Hashing;
}

/** What a load compares: the columns that both sides can give. */
function compared(plan: LoadPlan): Omit<Relation, "rows" | "parameters" | "computed"> {
  const { history } = plan.write;
  // A kept value may be other than the source's where that is only counted.
  const kept = (name: string) => history?.breach === "count" && history.roles.get(name) === "keep";
  const columns = plan.read.columns
    .filter((column) => !column.missing && !kept(column.name))
    .map(({ name, type }) => ({ name, type }));
  return {
    columns,
    key: plan.write.key,
    slicing: plan.prove.slicing,
    figures: plan.prove.figures,
    hashing: plan.hashing,
  };
}

/** The source's rows of a load, under the warehouse's names and types; of a window, or all. */
export function sourceRelation(plan: LoadPlan, without: Without | null, window?: Window): Relation {
  const computed =
    plan.shape !== null || plan.read.columns.some((column) => column.cast || column.type !== column.given);
  return {
    ...compared(plan),
    rows: sourceRows(plan, { window, without, latest: plan.write.history !== null && !plan.write.keyGuaranteed }),
    parameters: without?.contents.length ? [`{${without.contents.join(",")}}`] : [],
    computed,
  };
}

/** A condition by which a target's row `t` is one that the source should have: not marked as gone, and not standing for a rejected one. */
function currentRow(plan: LoadPlan, without: Without | null, lacking: ReadonlySet<string>): string {
  const conditions = currentRows(plan, lacking);
  if (without && plan.write.key.length) conditions.push(`NOT EXISTS (${keyRejected(plan)})`);
  return conditions.join(" AND ");
}

/** True where the key of the target's row `t` is one of a rejected row still open, of which no other row was accepted. */
function keyRejected(plan: LoadPlan): string {
  const same = keyColumns(plan).map((column, at) => `x.key[${at + 1}]::${column.type} = t.${identifier(column.name)}`);
  return `SELECT 1 FROM undercoat.rejected x WHERE x.target = ${literal(placeName(plan))} AND x.left_run IS NULL AND x.code <> 'duplicate' AND NOT x.covered AND x.key IS NOT NULL AND ${same.join(" AND ")}`;
}

/** The warehouse's rows of a load; only those whose key stands in `only` where it is given. `lacking`: columns that the target is yet to get. */
export function targetRelation(
  plan: LoadPlan,
  without: Without | null,
  only: TableName | null = null,
  lacking: ReadonlySet<string> = new Set(),
): Relation {
  const common = compared(plan);
  const matched = only
    ? ` JOIN (SELECT ${plan.write.history ? "DISTINCT " : ""}${identifiers(plan.write.key)} FROM ${qualified(only)}) o USING (${identifiers(plan.write.key)})`
    : "";
  const current = currentRow(plan, only ? null : without, lacking);
  const columns = common.columns
    .map((column) =>
      lacking.has(column.name)
        ? `${heldValue(column, lacking)} AS ${identifier(column.name)}`
        : heldValue(column, lacking),
    )
    .join(", ");
  return {
    ...common,
    rows: `SELECT ${columns} FROM ${qualified(plan.write.target)} t${matched}${current ? ` WHERE ${current}` : ""}`,
    parameters: [],
    computed: false,
  };
}

/** The versions of a history that were valid at a moment. */
export function relationAsOf(plan: LoadPlan, moment: string): Relation {
  const common = compared(plan);
  return {
    ...common,
    rows: `SELECT ${identifiers(
      common.columns.map((column) => column.name),
      "t",
    )} FROM ${qualified(plan.write.target)} t WHERE ${[...ownRows(plan), holdsAt(historyOf(plan), "t", typedLiteral(moment, "timestamptz"))].join(" AND ")}`,
    parameters: [],
    computed: false,
  };
}

/** The rows of a table that holds a load's columns as they are. */
export function tableRelation(plan: LoadPlan, table: TableName): Relation {
  const common = compared(plan);
  return {
    ...common,
    rows: `SELECT ${identifiers(common.columns.map((column) => column.name))} FROM ${qualified(table)}`,
    parameters: [],
    computed: false,
  };
}

/** The same rows, compared by their keys alone. */
export function keysOf(relation: Relation): Relation {
  return {
    ...relation,
    columns: relation.columns.filter((column) => relation.key.includes(column.name)),
    slicing: null,
    figures: [],
  };
}
