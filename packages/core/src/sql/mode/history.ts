import { type HistoryPlan, planColumns } from "../../history/plan.ts";
import type { LoadPlan, PlannedColumn } from "../../plan/plan.ts";
import { identifier, identifiers, qualified, type TableName } from "../identifier.ts";
import { literal, typedLiteral } from "../literal.ts";
import { differ } from "../same.ts";
import { differs, sameKey, written } from "../target.ts";
import { flag, historyOf, isOpen, moment, momentsTable, openEnd, openers, opens, sinceName } from "../version.ts";
import { keepNumber, nextNumber } from "../versions.ts";
import type { WriteMode, WriteStep } from "./mode.ts";

/**
 * How a history is written. Of the accepted rows those that are *news* are put aside, each with what it does:
 *
 * - `new`: the key has no version yet; one is opened.
 * - `version`: later than all that is known of the key, and other; the open version ends, another begins.
 * - `overwrite`: nothing that opens a version; the open version takes its values.
 * - `seen`: the version says it already; only the moment is kept.
 * - `late`: anything else: several rows of a key, one that belongs before others, a key that comes back, a correction.
 *   The keys of these are laid out anew from all that is known of them: each version's beginning, each kept moment, each
 *   end that a deletion made, and what has come. Neighbours that say the same fold into one version, which keeps the row
 *   and the number of the earliest that stood there. So the same changes give the same history in whatever order they
 *   come, and the same read twice changes nothing.
 */

/** Columns of the news beside the load's own, under names that no source gives a column. */
const at = identifier("undercoat at");
const held = identifier("undercoat held");
const kind = identifier("undercoat kind");
const cut = identifier("undercoat cut");
/** Columns of the points and spans that keys are laid out by. */
const version = identifier("undercoat version");
const source = identifier("undercoat source");
const word = identifier("undercoat news");
const gone = identifier("undercoat gone");
const rank = identifier("undercoat rank");
const latestAt = identifier("undercoat latest");
const back = identifier("undercoat back");
const opener = identifier("undercoat opener");
const ended = identifier("undercoat ended");
const first = identifier("undercoat first");

/** The tables that a history's writing makes for itself, named after that of the accepted rows. */
function work(rows: TableName): Record<"news" | "known" | "points" | "spans", string> {
  const named = (what: string) => qualified({ schema: rows.schema, table: `${what}_${rows.table}`.slice(0, 63) });
  return { news: named("news"), known: named("known"), points: named("points"), spans: named("spans") };
}

/** Where the news is put aside; null where a new target takes every row as it comes. */
export function putsAside(plan: LoadPlan): ((rows: TableName) => TableName) | null {
  const keeping = historyOf(plan);
  return keeping.fresh && !isLog(plan, keeping)
    ? null
    : (rows) => ({ schema: rows.schema, table: `news_${rows.table}`.slice(0, 63) });
}

/** True where some news is late, so that keys are laid out anew. */
const someLate = (rows: TableName) => `SELECT EXISTS (SELECT 1 FROM ${work(rows).news} WHERE ${kind} = 'late') AS some`;

const made = (rows: TableName, table: string) =>
  `CREATE ${rows.schema === "pg_temp" ? "TEMP" : "UNLOGGED"} TABLE ${rows.schema === "pg_temp" ? table.replace(/^"pg_temp"\./, "") : table}`;

const name = (column: { name: string }) => identifier(column.name);
const of = (row: string) => (column: string) => `${row}.${identifier(column)}`;

/** True where a staged row has met an open version `t`. */
const isKnown = (plan: LoadPlan) => `(t.${identifier(plan.write.key[0] ?? "")} IS NOT NULL)`;

/** From when a staged row is so, as SQL. */
function since(plan: LoadPlan, history: HistoryPlan): string {
  return history.since ? `s.${identifier(sinceName(history))}::timestamptz` : moment(plan);
}

/** True where the source can have several rows of a key: it keeps a log of changes rather than what is so now. */
const isLog = (plan: LoadPlan, history: HistoryPlan) => history.since !== null && !plan.write.keyGuaranteed;

/** A row of a moment kept, for a key and from a time on. */
function keptMoment(plan: LoadPlan, key: string, condition: string): string {
  return `EXISTS (SELECT 1 FROM ${qualified(momentsTable(plan.write.target))} m WHERE NOT m.${gone} AND ${sameKey(plan, "m", key)} AND ${condition})`;
}

/** True where the open version `t` says already what the staged row `s` says, and its time is known. */
function said(plan: LoadPlan, history: HistoryPlan): string {
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
function kindOf(plan: LoadPlan, history: HistoryPlan): string {
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
function findNews(plan: LoadPlan, history: HistoryPlan, rows: TableName): string {
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

/** The columns that a history adds, of a version that is opened. */
function addedColumns(
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

function insert(plan: LoadPlan, values: [string, string][], from: string): string {
  return `INSERT INTO ${qualified(plan.write.target)} (${identifiers(values.map(([column]) => column))}) SELECT ${values.map(([, value]) => value).join(", ")} FROM ${from}`;
}

const numbered = (plan: LoadPlan, { surrogate }: HistoryPlan): WriteStep[] =>
  surrogate ? [{ message: "last number kept", sql: keepNumber(plan, surrogate.column), counts: null }] : [];

/** A new target takes every row as the first version of its key. */
function firstVersions(plan: LoadPlan, history: HistoryPlan, rows: TableName): WriteStep[] {
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
function taken(column: PlannedColumn): string {
  return `${name(column)} = n.${name(column)}`;
}

/** The value before of columns that keep it, where the news changes them. */
function before(plan: LoadPlan, history: HistoryPlan): string[] {
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
function inOrder(plan: LoadPlan, history: HistoryPlan, rows: TableName): WriteStep[] {
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

/** Keeps the moments of news that opened no version, and of first versions that are dated back. */
function remembered(plan: LoadPlan, history: HistoryPlan, news: string): WriteStep[] {
  if (!history.since) return [];
  const { key, target } = plan.write;
  const back = history.first === null ? "" : ", 'new'";
  return [
    {
      message: "moments kept",
      sql: `INSERT INTO ${qualified(momentsTable(target))} (${identifiers(key)}, ${at}, ${gone}) SELECT ${identifiers(key, "n")}, n.${at}, false FROM ${news} n WHERE n.${kind} IN ('overwrite', 'seen'${back}) AND NOT EXISTS (SELECT 1 FROM ${qualified(target)} t WHERE ${sameKey(plan, "t", "n")} AND t.${identifier(history.from)} = n.${at}) ON CONFLICT DO NOTHING`,
      counts: null,
    },
  ];
}

/** All versions of the keys that are laid out anew, numbered; `observed` is from when each is known to be so. */
function knownVersions(plan: LoadPlan, history: HistoryPlan, rows: TableName): string {
  const { target, key } = plan.write;
  const { news, known } = work(rows);
  const from = `t.${identifier(history.from)}`;
  const earliest = `(SELECT min(m.${at}) FROM ${qualified(momentsTable(target))} m WHERE NOT m.${gone} AND ${sameKey(plan, "m", "t")} AND m.${at} >= ${from} AND (${isOpen(history, "t")} OR m.${at} < t.${identifier(history.to)}))`;
  const observed =
    history.first === null
      ? from
      : `CASE WHEN ${from} = ${typedLiteral(history.first, "timestamptz")} THEN coalesce(${earliest}, ${from}) ELSE ${from} END`;
  return `${made(rows, known)} AS SELECT t.*, t.ctid AS ${held}, ${observed} AS ${at}, ${isOpen(history, "t")} AS "undercoat open", row_number() OVER (ORDER BY ${from}) AS ${version}
FROM ${qualified(target)} t JOIN (SELECT DISTINCT ${identifiers(key)} FROM ${news} WHERE ${kind} = 'late') k ON ${sameKey(plan, "t", "k")}`;
}

/**
 * Every moment at which something is known of the keys: `version` is the version that begins there, `source` the one whose
 * values hold, `news` the row that has come, `gone` the end that a deletion made.
 */
function points(plan: LoadPlan, history: HistoryPlan, rows: TableName): string {
  const { key, target, keyGuaranteed } = plan.write;
  const tables = work(rows);
  const columns = planColumns(plan, "version").map(name);
  const values = (row: string) => [...key.map(identifier), ...columns].map((column) => `${row}.${column}`).join(", ");
  const none = planColumns(plan, "version").map((column) => `NULL::${column.type}`);
  const to = identifier(history.to);
  const list = [...key.map(identifier), ...columns].join(", ");
  const standing = `SELECT ${values("v")}, v.${at} AS ${at}, 1 AS ${rank}, v.${version} AS ${version}, v.${version} AS ${source}, NULL::tid AS ${word}, false AS ${gone} FROM ${tables.known} v`;
  const kept = `SELECT ${values("v")}, m.${at}, 2, NULL, v.${version}, NULL, false FROM ${qualified(momentsTable(target))} m JOIN ${tables.known} v ON ${sameKey(plan, "m", "v")} WHERE NOT m.${gone} AND m.${at} > v.${at} AND (v."undercoat open" OR m.${at} < v.${to})`;
  const ends = `SELECT ${[...key.map((column) => `v.${identifier(column)}`), ...none].join(", ")}, v.${to}, 3, NULL, NULL, NULL, true FROM ${tables.known} v WHERE NOT v."undercoat open" AND NOT EXISTS (SELECT 1 FROM ${tables.known} w WHERE ${sameKey(plan, "w", "v")} AND w.${at} = v.${to})`;
  const coming = `SELECT ${values("n")}, n.${at}, 0, NULL::bigint, NULL::bigint, n.ctid, false FROM ${tables.news} n WHERE n.${kind} = 'late'`;
  // What the source says now is so now: a key that was gone is back, and a row dated before others is the latest word.
  const last = `SELECT ${identifiers(key)}, max(${at}) AS "last", (array_agg(${gone} ORDER BY ${at} DESC, ${rank}))[1] AS ${gone} FROM standing GROUP BY ${identifiers(key)}`;
  const latest = `NOT EXISTS (SELECT 1 FROM coming d WHERE ${sameKey(plan, "d", "c")} AND d.${at} >= l."last")`;
  const now = `SELECT DISTINCT ON (${identifiers(key, "c")}) ${values("c")}, greatest(${moment(plan)}, l."last" + interval '1 microsecond'), 0, NULL::bigint, NULL::bigint, c.${word}, false FROM coming c JOIN (${last}) l ON ${sameKey(plan, "l", "c")} WHERE ${keyGuaranteed ? "" : `l.${gone} AND `}${latest} ORDER BY ${identifiers(key, "c")}, c.${at} DESC`;
  return `${made(rows, tables.points)} AS
WITH standing (${list}, ${at}, ${rank}, ${version}, ${source}, ${word}, ${gone}) AS (${standing} UNION ALL ${kept} UNION ALL ${ends}),
coming (${list}, ${at}, ${rank}, ${version}, ${source}, ${word}, ${gone}) AS (${coming})
SELECT DISTINCT ON (${identifiers(key)}, ${at}) ${list}, ${at}, max(${version}) OVER (PARTITION BY ${identifiers(key)}, ${at}) AS ${version}, ${source}, ${word}, ${gone}
FROM (SELECT * FROM standing UNION ALL SELECT * FROM coming UNION ALL (${now})) p ORDER BY ${identifiers(key)}, ${at}, ${rank}`;
}

/**
 * The versions as they are to be: neighbours that say the same are one. `version` is the earliest that stood there, `news`
 * and `source` what the latest word of it is, `opener` the row that began it.
 */
function spans(plan: LoadPlan, rows: TableName): string {
  const { key } = plan.write;
  const tables = work(rows);
  const columns = planColumns(plan, "version");
  const names = identifiers(key);
  const lagged = columns.map((column, number) => `lag(p.${name(column)}) OVER w AS "last ${number}"`);
  const place = (column: string) => `q."last ${columns.findIndex((one) => one.name === column)}"`;
  const walked = `SELECT p.*, lag(p.${at}) OVER w AS "undercoat before", lag(p.${gone}) OVER w AS "undercoat after"${lagged.map((text) => `, ${text}`).join("")} FROM ${tables.points} p WINDOW w AS (PARTITION BY ${names} ORDER BY p.${at})`;
  const head = `q."undercoat before" IS NULL OR q.${gone} OR q."undercoat after" OR ${opens(plan, place, of("q"))}`;
  const headed = `SELECT q.*, (${head})::int AS "undercoat head", CASE WHEN q."undercoat before" IS NOT NULL AND NOT q.${gone} AND NOT q."undercoat after" THEN ${openers(plan, place, of("q"))} END AS ${cut} FROM (${walked}) q`;
  const counted = `SELECT h.*, sum(h."undercoat head") OVER (PARTITION BY ${names} ORDER BY h.${at}) AS "undercoat span" FROM (${headed}) h`;
  // A span is told by the point that begins it, the last one in it, and the earliest version that stood there.
  const latest = (what: string) => `last_value(c.${what}) OVER s`;
  const folded = `SELECT ${names}, c.${at}, ${latest(at)} AS ${latestAt}, c.${gone}, coalesce(c."undercoat after", false) AS ${back}, min(c.${version}) OVER s AS ${version}, ${latest(word)} AS ${word}, ${latest(source)} AS ${source}, c.${word} AS ${opener}, c.${cut}, c."undercoat head" FROM (${counted}) c WINDOW s AS (PARTITION BY ${names}, c."undercoat span" ORDER BY c.${at} ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING)`;
  return `${made(rows, tables.spans)} AS SELECT f.*, lead(f.${at}) OVER (PARTITION BY ${names} ORDER BY f.${at}) AS ${ended}, row_number() OVER (PARTITION BY ${names} ORDER BY f.${at}) = 1 AS ${first} FROM (${folded}) f WHERE f."undercoat head" = 1`;
}

/** Lays the keys with late news out anew. */
function late(plan: LoadPlan, history: HistoryPlan, rows: TableName): WriteStep[] {
  const { target, key } = plan.write;
  const tables = work(rows);
  const table = qualified(target);
  const moments = qualified(momentsTable(target));
  const only = someLate(rows);
  const names = identifiers(key);
  const start =
    history.first === null
      ? `s.${at}`
      : `CASE WHEN s.${first} THEN ${typedLiteral(history.first, "timestamptz")} ELSE s.${at} END`;
  const end = `coalesce(s.${ended}, ${openEnd(history)})`;
  const joined = `${tables.spans} s LEFT JOIN ${tables.known} v ON v.${version} = s.${version} LEFT JOIN ${tables.known} o ON o.${version} = s.${source} LEFT JOIN ${tables.news} n ON n.ctid = s.${word}`;
  // A version's values are those of the latest word of it: of the news, or of the version that held then.
  const value = (column: PlannedColumn) => {
    const standing = column.name === history.since?.written ? `s.${latestAt}::${column.type}` : `o.${name(column)}`;
    return `CASE WHEN s.${word} IS NOT NULL THEN n.${name(column)} ELSE ${standing} END`;
  };
  const mending = [
    ...planColumns(plan, "version", "follow"),
    ...(history.overwrite === "current" ? planColumns(plan, "overwrite") : []),
    ...written(plan).filter((column) => key.includes(column.name)),
  ];
  const set = [
    `${identifier(history.from)} = ${start}`,
    `${identifier(history.to)} = ${end}`,
    `${identifier(history.current.column)} = CASE WHEN s.${ended} IS NULL THEN ${flag(history, true)} ELSE ${flag(history, false)} END`,
    ...mending.map((column) => `${name(column)} = ${value(column)}`),
    ...(history.change
      ? [
          `${identifier(history.change)} = CASE WHEN s.${word} IS NOT NULL AND ${differ(
            mending,
            (column) => `v.${name(column)}`,
            (column) => `n.${name(column)}`,
          )} THEN 'overwrite' ELSE t.${identifier(history.change)} END`,
        ]
      : []),
  ];
  const inserted = [
    ...written(plan).map((column): [string, string] => [column.name, value(column)]),
    ...addedColumns(plan, history, {
      from: start,
      to: end,
      open: `s.${ended} IS NULL`,
      change: `CASE WHEN s.${back} THEN 'returned' WHEN s.${first} AND NOT EXISTS (SELECT 1 FROM ${tables.known} k WHERE ${sameKey(plan, "k", "s")}) THEN 'new' ELSE 'version' END`,
      order: `s.${at}, ${identifiers(key, "s")}`,
      previous: () => "NULL",
    }),
  ];
  return [
    { message: "versions of keys that are laid out anew", sql: knownVersions(plan, history, rows), counts: null, only },
    { message: "moments known of them", sql: points(plan, history, rows), counts: null, only },
    { message: "versions as they are to be", sql: spans(plan, rows), counts: null, only },
    {
      message: "versions fold into their neighbours",
      sql: `DELETE FROM ${table} t USING ${tables.known} v WHERE t.ctid = v.${held} AND NOT EXISTS (SELECT 1 FROM ${tables.spans} s WHERE s.${version} = v.${version})`,
      counts: null,
      only,
    },
    {
      message: "versions are mended",
      sql: `UPDATE ${table} t SET ${set.join(", ")} FROM ${joined} WHERE s.${version} IS NOT NULL AND t.ctid = v.${held}`,
      counts: null,
      only,
    },
    {
      message: "versions are opened in their place",
      sql: insert(plan, inserted, `${joined} WHERE s.${version} IS NULL AND NOT s.${gone}`),
      counts: "versions",
      only,
    },
    ...numbered(plan, history).map((step) => ({ ...step, only })),
    ...shared(plan, history, rows).map((step) => ({ ...step, only })),
    {
      message: "moments forgotten",
      sql: `DELETE FROM ${moments} m USING (SELECT DISTINCT ${names} FROM ${tables.points}) k WHERE NOT m.${gone} AND ${sameKey(plan, "m", "k")}`,
      counts: null,
      only,
    },
    {
      message: "moments kept",
      sql: `INSERT INTO ${moments} (${names}, ${at}, ${gone}) SELECT ${identifiers(key, "p")}, p.${at}, false FROM ${tables.points} p WHERE NOT p.${gone} AND NOT EXISTS (SELECT 1 FROM ${table} t WHERE ${sameKey(plan, "t", "p")} AND t.${identifier(history.from)} = p.${at})`,
      counts: null,
      only,
    },
  ];
}

/** What all versions of a key share: kept values, those overwritten in all, and values before. */
function shared(plan: LoadPlan, history: HistoryPlan, rows: TableName): WriteStep[] {
  const { key } = plan.write;
  const tables = work(rows);
  const kept = planColumns(plan, "keep");
  const overwritten = planColumns(plan, "previous", ...(history.overwrite === "all" ? (["overwrite"] as const) : []));
  if (kept.length + overwritten.length === 0) return [];
  const names = identifiers(key);
  // The latest and the first word of each key; and the version that stood last and first.
  const words = `SELECT ${names}, (array_agg(p.${word} ORDER BY p.${at} DESC))[1] AS "undercoat last_news", (array_agg(p.${word} ORDER BY p.${at}) FILTER (WHERE p.${word} IS NOT NULL))[1] AS "undercoat first_news", max(p.${version}) AS "undercoat last_version", min(p.${version}) AS "undercoat first_version" FROM ${tables.points} p WHERE NOT p.${gone} GROUP BY ${names}`;
  const latest = (column: PlannedColumn) =>
    `CASE WHEN w."undercoat last_news" IS NOT NULL THEN n.${name(column)} ELSE v.${name(column)} END`;
  const original = (column: PlannedColumn) =>
    `CASE WHEN w."undercoat first_version" IS NOT NULL THEN f.${name(column)} ELSE fn.${name(column)} END`;
  const priors = planColumns(plan, "previous").map((column) => {
    const prior = identifier(history.previous.get(column.name) ?? "");
    const other = (row: string) =>
      differ(
        [column],
        () => `${row}.${name(column)}`,
        () => `n.${name(column)}`,
      );
    // The value that stood before the latest: among what has come since the last version, else what that held.
    const come = `FROM ${tables.news} c WHERE c.${kind} = 'late' AND ${sameKey(plan, "c", "w")} AND c.${at} < n.${at} AND (v.${at} IS NULL OR c.${at} > v.${at}) AND ${other("c")}`;
    return `CASE WHEN w."undercoat last_news" IS NULL THEN v.${prior} WHEN EXISTS (SELECT 1 ${come}) THEN (SELECT c.${name(column)} ${come} ORDER BY c.${at} DESC LIMIT 1) WHEN w."undercoat last_version" IS NOT NULL AND ${other("v")} THEN v.${name(column)} ELSE v.${prior} END AS ${prior}`;
  });
  const values = `SELECT ${[
    ...key.map((column) => `w.${identifier(column)}`),
    ...overwritten.map((column) => `${latest(column)} AS ${name(column)}`),
    ...kept.map((column) => `${original(column)} AS ${name(column)}`),
    ...priors,
  ].join(
    ", ",
  )} FROM (${words}) w LEFT JOIN ${tables.known} v ON v.${version} = w."undercoat last_version" LEFT JOIN ${tables.known} f ON f.${version} = w."undercoat first_version" LEFT JOIN ${tables.news} n ON n.ctid = w."undercoat last_news" LEFT JOIN ${tables.news} fn ON fn.ctid = w."undercoat first_news"`;
  const columns = [...overwritten, ...kept]
    .map(name)
    .concat(planColumns(plan, "previous").map((column) => identifier(history.previous.get(column.name) ?? "")));
  return [
    {
      message: "versions take what they share",
      sql: `UPDATE ${qualified(plan.write.target)} t SET ${columns.map((column) => `${column} = x.${column}`).join(", ")} FROM (${values}) x WHERE ${sameKey(plan, "t", "x")} AND record_image_ne(ROW(${columns.map((column) => `t.${column}`).join(", ")}), ROW(${columns.map((column) => `x.${column}`).join(", ")}))`,
      counts: null,
    },
  ];
}

/** What late rows did, each by itself; those that changed nothing are the same. */
function lateOutcome(plan: LoadPlan, history: HistoryPlan, rows: TableName): string {
  const tables = work(rows);
  const other = (columns: PlannedColumn[]) =>
    differ(
      columns,
      (column) => `v.${name(column)}`,
      (column) => `n.${name(column)}`,
    );
  // What is overwritten in all follows the latest word of the key only.
  const own = [
    ...planColumns(plan, "version", "follow"),
    ...(history.overwrite === "current" ? planColumns(plan, "overwrite") : []),
  ];
  const laid = `FROM ${tables.spans} s LEFT JOIN ${tables.known} v ON v.${version} = s.${version}`;
  const moved = `NOT s.${first} AND v.${identifier(history.from)} IS DISTINCT FROM s.${at}`;
  const began = `SELECT s.${opener} AS place, bool_or(s.${version} IS NULL AND NOT s.${gone}) AS opened, bool_or(s.${version} IS NOT NULL AND ${moved}) AS moved ${laid} WHERE s.${opener} IS NOT NULL GROUP BY 1`;
  const changed = `${other(own)} OR (s.${ended} IS NULL AND ${other(planColumns(plan, "overwrite", "previous"))})`;
  const mended = `SELECT s.${word} AS place, bool_or(${changed}) AS changed ${laid} JOIN ${tables.news} n ON n.ctid = s.${word} WHERE s.${version} IS NOT NULL GROUP BY 1`;
  const came = `SELECT n.ctid AS place, row_number() OVER (PARTITION BY ${identifiers(plan.write.key, "n")} ORDER BY n.${at}) = 1 AND k."undercoat known" IS NULL AS unheard FROM ${tables.news} n LEFT JOIN (SELECT DISTINCT ${identifiers(plan.write.key)}, true AS "undercoat known" FROM ${tables.known}) k ON ${sameKey(plan, "k", "n")} WHERE n.${kind} = 'late'`;
  return `SELECT CASE WHEN r.unheard THEN 'new' WHEN b.opened THEN 'version' WHEN b.moved OR m.changed THEN 'overwrite' ELSE 'same' END AS did FROM (${came}) r LEFT JOIN (${began}) b ON b.place = r.place LEFT JOIN (${mended}) m ON m.place = r.place`;
}

/** Rows that open versions, are matched with them, end or overwrite them: slowly changing dimensions of types 0 to 3, by column. */
export const history: WriteMode = {
  known: () => null,
  steps(plan, rows) {
    const keeping = historyOf(plan);
    if (putsAside(plan) === null) return firstVersions(plan, keeping, rows);
    return [
      { message: "rows are news", sql: findNews(plan, keeping, rows), counts: null },
      ...inOrder(plan, keeping, rows),
      ...late(plan, keeping, rows),
    ];
  },
  weigh: () => null,
  tally(accepted, _, counted) {
    const news = (counted.new ?? 0n) + counted.changed;
    return news > accepted
      ? null
      : {
          new: counted.new ?? 0n,
          changed: counted.changed,
          same: accepted - news,
          deleted: 0n,
          versions: counted.versions,
          closed: counted.closed,
          overwritten: counted.overwritten,
        };
  },
  outcome(plan, rows) {
    const keeping = historyOf(plan);
    if (putsAside(plan) === null)
      return [
        {
          sql: `SELECT count(*)::text AS new, '0' AS changed, count(*)::text AS versions, '0' AS closed, '0' AS overwritten FROM ${qualified(rows)}`,
        },
      ];
    const { news, spans: laid, known } = work(rows);
    const count = (...kinds: string[]) => `count(*) FILTER (WHERE ${kind} IN (${kinds.map(literal).join(", ")}))::text`;
    const did = (...kinds: string[]) => `count(*) FILTER (WHERE did IN (${kinds.map(literal).join(", ")}))::text`;
    const opened = `(SELECT count(*) FROM ${laid} WHERE ${version} IS NULL AND NOT ${gone})::text`;
    const closed = `(SELECT count(*) FROM ${known} v JOIN ${laid} s ON s.${version} = v.${version} WHERE v."undercoat open" AND s.${ended} IS NOT NULL)::text`;
    return [
      {
        sql: `SELECT ${count("new")} AS new, ${count("version", "overwrite")} AS changed, ${count("new", "version")} AS versions, ${count("version")} AS closed, ${count("overwrite")} AS overwritten FROM ${news}`,
      },
      {
        sql: `SELECT ${did("new")} AS new, ${did("version", "overwrite")} AS changed, ${opened} AS versions, ${closed} AS closed, ${did("overwrite")} AS overwritten FROM (${lateOutcome(plan, keeping, rows)}) d`,
        only: someLate(rows),
      },
    ];
  },
};

/** How many versions the change of each column opened in this load. */
export function openedBy(rows: TableName): { sql: string; only?: string }[] {
  const { news, spans: laid } = work(rows);
  const counted = (values: string) => `SELECT col, count(*)::text AS versions FROM (${values}) c GROUP BY col`;
  return [
    { sql: counted(`SELECT unnest(n.${cut}) AS col FROM ${news} n WHERE n.${kind} = 'version'`) },
    {
      sql: counted(`SELECT unnest(s.${cut}) AS col FROM ${laid} s WHERE s.${version} IS NULL AND NOT s.${gone}`),
      only: someLate(rows),
    },
  ];
}

/** Drops what the writing made for itself. */
export function dropWork(rows: TableName): string[] {
  return Object.values(work(rows)).map((table) => `DROP TABLE IF EXISTS ${table}`);
}
