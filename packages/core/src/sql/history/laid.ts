import { type HistoryPlan, planColumns } from "../../history/plan.ts";
import type { LoadPlan, PlannedColumn } from "../../plan/plan.ts";
import { identifier, identifiers, qualified, type TableName } from "../identifier.ts";
import { typedLiteral } from "../literal.ts";
import type { WriteStep } from "../mode/mode.ts";
import { differ } from "../same.ts";
import { sameKey, written } from "../target.ts";
import { flag, isOpen, moment, momentsTable, openEnd, openers, opens } from "../version.ts";
import {
  addedColumns,
  at,
  back,
  cut,
  ended,
  first,
  gone,
  held,
  insert,
  keepDeeds,
  kind,
  latestAt,
  made,
  name,
  numbered,
  of,
  opener,
  rank,
  someLate,
  source,
  version,
  word,
  work,
} from "./work.ts";

/** How keys are laid out anew: points in the order of time, folded into versions. */

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
export function points(plan: LoadPlan, history: HistoryPlan, rows: TableName): string {
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
export function spans(plan: LoadPlan, rows: TableName): string {
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
export function late(plan: LoadPlan, history: HistoryPlan, rows: TableName): WriteStep[] {
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
  const mended: [string, string][] = [
    [history.from, start],
    [history.to, end],
    [
      history.current.column,
      `CASE WHEN s.${ended} IS NULL THEN ${flag(history, true)} ELSE ${flag(history, false)} END`,
    ],
    ...mending.map((column): [string, string] => [column.name, value(column)]),
  ];
  // Versions that stay as they are, most of a key's, are not written again.
  const moved = `record_image_ne(ROW(${identifiers(
    mended.map(([column]) => column),
    "v",
  )}), ROW(${mended.map(([, to]) => to).join(", ")}))`;
  const set = [
    ...mended.map(([column, to]) => `${identifier(column)} = ${to}`),
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
  const deeds: WriteStep = {
    message: "what the run did is kept",
    sql: keepDeeds(
      plan,
      `SELECT ${identifiers(key, "n")}, n.${at}, CASE d.did WHEN 'overwrite' THEN 'corrected' ELSE d.did END AS did FROM (${lateOutcome(plan, history, rows)}) d JOIN ${tables.news} n ON n.ctid = d.place WHERE d.did <> 'same'`,
    ),
    counts: null,
    only,
  };
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
      sql: `UPDATE ${table} t SET ${set.join(", ")} FROM ${joined} WHERE s.${version} IS NOT NULL AND t.ctid = v.${held} AND ${moved}`,
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
    ...(history.since ? [deeds] : []),
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
export function shared(plan: LoadPlan, history: HistoryPlan, rows: TableName): WriteStep[] {
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
export function lateOutcome(plan: LoadPlan, history: HistoryPlan, rows: TableName): string {
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
  return `SELECT r.place, CASE WHEN r.unheard THEN 'new' WHEN b.opened THEN 'version' WHEN b.moved OR m.changed THEN 'overwrite' ELSE 'same' END AS did FROM (${came}) r LEFT JOIN (${began}) b ON b.place = r.place LEFT JOIN (${mended}) m ON m.place = r.place`;
}
