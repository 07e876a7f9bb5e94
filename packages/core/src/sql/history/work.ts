import type { HistoryPlan } from "../../history/plan.ts";
import type { LoadPlan } from "../../plan/plan.ts";
import { identifier, identifiers, qualified, type TableName } from "../identifier.ts";
import type { WriteStep } from "../mode/mode.ts";
import { deedsTable, flag, moment } from "../version.ts";
import { keepNumber, nextNumber } from "../versions.ts";

/** What the writing of a history makes for itself, and what its statements share. */

/** Columns of the news beside the load's own, under names that no source gives a column. */
export const at = identifier("undercoat at");
export const held = identifier("undercoat held");
export const kind = identifier("undercoat kind");
export const cut = identifier("undercoat cut");
/** Columns of the points and spans that keys are laid out by. */
export const version = identifier("undercoat version");
export const source = identifier("undercoat source");
export const word = identifier("undercoat news");
export const gone = identifier("undercoat gone");
export const rank = identifier("undercoat rank");
export const latestAt = identifier("undercoat latest");
export const back = identifier("undercoat back");
export const opener = identifier("undercoat opener");
export const ended = identifier("undercoat ended");
export const first = identifier("undercoat first");

/** The tables that a history's writing makes for itself, named after that of the accepted rows. */
export function work(rows: TableName): Record<"news" | "known" | "points" | "spans", string> {
  const named = (what: string) => qualified({ schema: rows.schema, table: `${what}_${rows.table}`.slice(0, 63) });
  return { news: named("news"), known: named("known"), points: named("points"), spans: named("spans") };
}

/** True where some news is late, so that keys are laid out anew. */
export const someLate = (rows: TableName) =>
  `SELECT EXISTS (SELECT 1 FROM ${work(rows).news} WHERE ${kind} = 'late') AS some`;

export const made = (rows: TableName, table: string) =>
  `CREATE ${rows.schema === "pg_temp" ? "TEMP" : "UNLOGGED"} TABLE ${rows.schema === "pg_temp" ? table.replace(/^"pg_temp"\./, "") : table}`;

export const name = (column: { name: string }) => identifier(column.name);
export const of = (row: string) => (column: string) => `${row}.${identifier(column)}`;

/** True where a staged row has met an open version `t`. */
export const isKnown = (plan: LoadPlan) => `(t.${identifier(plan.write.key[0] ?? "")} IS NOT NULL)`;

/** The columns that a history adds, of a version that is opened. */
export function addedColumns(
  plan: LoadPlan,
  history: HistoryPlan,
  value: {
    from: string;
    to: string;
    open: string;
    change: string;
    order: string | null;
    previous: (column: string) => string;
  },
): [string, string][] {
  return [
    ...[...history.previous].map(([column, before]): [string, string] => [before, value.previous(column)]),
    [history.from, value.from],
    [history.to, value.to],
    [
      history.current.column,
      value.open === "true"
        ? flag(history, true)
        : `CASE WHEN ${value.open} THEN ${flag(history, true)} ELSE ${flag(history, false)} END`,
    ],
    ...(history.change ? [[history.change, value.change] as [string, string]] : []),
    ...(history.surrogate
      ? [
          [
            history.surrogate.column,
            `${nextNumber(plan, history.surrogate)} + ${history.surrogate.step} * (row_number() OVER (${value.order === null ? "" : `ORDER BY ${value.order}`}) - 1)`,
          ] as [string, string],
        ]
      : []),
  ];
}

export function insert(plan: LoadPlan, values: [string, string][], from: string): string {
  return `INSERT INTO ${qualified(plan.write.target)} (${identifiers(values.map(([column]) => column))}) SELECT ${values.map(([, value]) => value).join(", ")} FROM ${from}`;
}

export const numbered = (plan: LoadPlan, { surrogate }: HistoryPlan): WriteStep[] =>
  surrogate ? [{ message: "last number kept", sql: keepNumber(plan, surrogate.column), counts: null }] : [];

/** Keeps what the run did to keys: `deeds` gives the key, the time and what was done. */
export function keepDeeds(plan: LoadPlan, deeds: string): string {
  return `INSERT INTO ${qualified(deedsTable(plan.write.target))} (${identifiers(plan.write.key)}, ${at}, "undercoat did", "undercoat moment") SELECT d.*, ${moment(plan)} FROM (${deeds}) d`;
}

/** Drops what the writing made for itself. */
export function dropWork(rows: TableName): string[] {
  return Object.values(work(rows)).map((table) => `DROP TABLE IF EXISTS ${table}`);
}
