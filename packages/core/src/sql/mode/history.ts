import { late, lateOutcome } from "../history/laid.ts";
import { filled, findNews, putsAside } from "../history/news.ts";
import { firstVersions, inOrder } from "../history/ordered.ts";
import { cut, ended, gone, kind, someLate, version, work } from "../history/work.ts";
import { qualified, type TableName } from "../identifier.ts";
import { literal } from "../literal.ts";
import { historyOf } from "../version.ts";
import type { WriteMode } from "./mode.ts";

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

/** Rows that open versions, are matched with them, end or overwrite them: slowly changing dimensions of types 0 to 3, by column. */
export const history: WriteMode = {
  known: () => null,
  steps(plan, rows, added) {
    const keeping = historyOf(plan);
    if (putsAside(plan) === null) return firstVersions(plan, keeping, rows);
    return [
      ...(keeping.fills && !keeping.fresh ? filled(plan, keeping, rows, added) : []),
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
