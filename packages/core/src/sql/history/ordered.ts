import { type HistoryPlan, planColumns } from "../../history/plan.ts";
import type { LoadPlan, PlannedColumn } from "../../plan/plan.ts";
import { identifier, identifiers, qualified, type TableName } from "../identifier.ts";
import { typedLiteral } from "../literal.ts";
import type { WriteStep } from "../mode/mode.ts";
import { differ } from "../same.ts";
import { sameKey, written } from "../target.ts";
import { flag, isOpen, momentsTable, openEnd } from "../version.ts";
import { since } from "./news.ts";
import { addedColumns, at, gone, held, insert, isKnown, keepDeeds, kind, name, numbered, work } from "./work.ts";

/** A new target takes every row as the first version of its key. */
export function firstVersions(plan: LoadPlan, history: HistoryPlan, rows: TableName): WriteStep[] {
  const time = since(plan, history);
  const values = [
    ...written(plan).map((column): [string, string] => [column.name, `s.${name(column)}`]),
    ...addedColumns(plan, history, {
      from: history.first === null ? time : typedLiteral(history.first, "timestamptz"),
      to: openEnd(history),
      open: "true",
      change: "'new'",
      // Numbers as the rows come: to sort all of them would cost more than to write them.
      order: null,
      previous: () => "NULL",
    }),
  ];
  const remember: WriteStep[] =
    history.first !== null && history.since
      ? [
          {
            message: "moments kept",
            sql: `INSERT INTO ${qualified(momentsTable(plan.write.target))} (${identifiers(plan.write.key)}, ${at}, ${gone}) SELECT ${identifiers(plan.write.key, "s")}, ${time}, false FROM ${qualified(rows)} s`,
            counts: null,
          },
        ]
      : [];
  return [
    { message: "versions are opened", sql: insert(plan, values, `${qualified(rows)} s`), counts: "versions" },
    ...remember,
    ...numbered(plan, history),
  ];
}

/** A value that a row of the news brings in place of that of the version `t`. */
export function taken(column: PlannedColumn): string {
  return `${name(column)} = n.${name(column)}`;
}

/** The value before of columns that keep it, where the news changes them. */
export function before(plan: LoadPlan, history: HistoryPlan): string[] {
  return planColumns(plan, "previous").map((column) => {
    const kept = identifier(history.previous.get(column.name) ?? "");
    return `${kept} = CASE WHEN ${differ(
      [column],
      () => `t.${name(column)}`,
      () => `n.${name(column)}`,
    )} THEN t.${name(column)} ELSE t.${kept} END`;
  });
}

/** What is later than all that is known, each key by one row. */
export function inOrder(plan: LoadPlan, history: HistoryPlan, rows: TableName): WriteStep[] {
  const { target, key } = plan.write;
  const { news } = work(rows);
  const table = qualified(target);
  const keeping = planColumns(plan, "keep").map((column) => column.name);
  const known = isKnown(plan);
  const values = [
    ...written(plan).map((column): [string, string] => [
      column.name,
      keeping.includes(column.name)
        ? `CASE WHEN ${known} THEN t.${name(column)} ELSE n.${name(column)} END`
        : `n.${name(column)}`,
    ]),
    ...addedColumns(plan, history, {
      from:
        history.first === null
          ? `n.${at}`
          : `CASE WHEN n.${kind} = 'new' THEN ${typedLiteral(history.first, "timestamptz")} ELSE n.${at} END`,
      to: openEnd(history),
      open: "true",
      change: `n.${kind}`,
      order: `n.${at}, ${identifiers(key, "n")}`,
      previous: (column) => {
        const planned = plan.read.columns.filter((candidate) => candidate.name === column);
        return `CASE WHEN ${known} AND ${differ(
          planned,
          (one) => `t.${name(one)}`,
          (one) => `n.${name(one)}`,
        )} THEN t.${identifier(column)} ELSE t.${identifier(history.previous.get(column) ?? "")} END`;
      },
    }),
  ];
  const overwritten = [
    ...planColumns(plan, "version", "follow", "overwrite", "previous").map(taken),
    ...before(plan, history),
    ...written(plan)
      .filter((column) => key.includes(column.name))
      .map(taken),
    ...(history.change ? [`${identifier(history.change)} = 'overwrite'`] : []),
  ];
  const everywhere = history.overwrite === "all" ? planColumns(plan, "overwrite", "previous") : [];
  const past: WriteStep[] = everywhere.length
    ? [
        {
          message: "earlier versions take what is overwritten in all",
          sql: `UPDATE ${table} t SET ${[
            ...everywhere.map((column) => `${name(column)} = c.${name(column)}`),
            ...planColumns(plan, "previous").map((column) => {
              const kept = identifier(history.previous.get(column.name) ?? "");
              return `${kept} = c.${kept}`;
            }),
          ].join(
            ", ",
          )} FROM ${news} n JOIN ${table} c ON ${sameKey(plan, "c", "n")} AND ${isOpen(history, "c")} WHERE n.${kind} IN ('version', 'overwrite') AND ${sameKey(plan, "t", "n")} AND NOT ${isOpen(history, "t")} AND ${differ(
            everywhere,
            (column) => `t.${name(column)}`,
            (column) => `c.${name(column)}`,
          )}`,
          counts: null,
        },
      ]
    : [];
  return [
    {
      message: "versions are opened",
      sql: insert(
        plan,
        values,
        `${news} n LEFT JOIN ${table} t ON t.ctid = n.${held} WHERE n.${kind} IN ('new', 'version')`,
      ),
      counts: "versions",
    },
    ...numbered(plan, history),
    {
      message: "versions end",
      sql: `UPDATE ${table} t SET ${identifier(history.to)} = n.${at}, ${identifier(history.current.column)} = ${flag(history, false)} FROM ${news} n WHERE n.${kind} = 'version' AND t.ctid = n.${held}`,
      counts: "closed",
    },
    {
      message: "current versions are overwritten",
      sql: `UPDATE ${table} t SET ${overwritten.join(", ")} FROM ${news} n WHERE n.${kind} = 'overwrite' AND t.ctid = n.${held}`,
      counts: "overwritten",
    },
    ...past,
    ...remembered(plan, history, news),
  ];
}

/** Keeps what the run did, and the moments of news that opened no version, and of first versions that are dated back. */
export function remembered(plan: LoadPlan, history: HistoryPlan, news: string): WriteStep[] {
  if (!history.since) return [];
  const { key, target } = plan.write;
  const back = history.first === null ? "" : ", 'new'";
  return [
    {
      message: "what the run did is kept",
      sql: keepDeeds(
        plan,
        `SELECT ${identifiers(key, "n")}, n.${at}, n.${kind} FROM ${news} n WHERE n.${kind} IN ('new', 'version', 'overwrite')`,
      ),
      counts: null,
    },
    {
      message: "moments kept",
      sql: `INSERT INTO ${qualified(momentsTable(target))} (${identifiers(key)}, ${at}, ${gone}) SELECT ${identifiers(key, "n")}, n.${at}, false FROM ${news} n WHERE n.${kind} IN ('overwrite', 'seen'${back}) AND NOT EXISTS (SELECT 1 FROM ${qualified(target)} t WHERE ${sameKey(plan, "t", "n")} AND t.${identifier(history.from)} = n.${at}) ON CONFLICT DO NOTHING`,
      counts: null,
    },
  ];
}
