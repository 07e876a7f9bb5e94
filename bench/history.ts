import type { Load } from "@undercoat/core/pipeline/pipeline";
import type { TaskResult } from "./task.ts";
import { compared, type Line, median, q, task, type Yard } from "./yard.ts";

/** What a dimension holds; its rows are of the usual kind. */
const columns = "id bigint, name text, port text, phone text, region text, since date, updated_at timestamptz";
const names = columns.split(", ").map((column) => column.split(" ")[0] ?? "");
const others = names.slice(1);
const make = (rows: number) =>
  `DROP TABLE IF EXISTS party; CREATE TABLE party (${columns.replace("id bigint", "id bigint PRIMARY KEY")}); INSERT INTO party SELECT n, 'party number ' || n, 'P' || n % 11, '+47 555 ' || n, (ARRAY['north','south'])[1 + n % 2], date '2020-01-01' + (n % 900)::int, timestamptz '2026-01-01 00:00+00' + n * interval '7 milliseconds' FROM generate_series(1, ${rows}) n; ALTER TABLE party ALTER updated_at SET NOT NULL; VACUUM ANALYZE party; CHECKPOINT`;

const history: Load = {
  from: { connection: "source", table: "public.party" },
  into: {
    table: "landing.party",
    mode: "history",
    key: ["id"],
    history: { since: "updated_at", columns: { phone: "overwrite" }, surrogate: { column: "sk" } },
  },
  proof: { figures: ["rows"] },
};
const upsert: Load = { ...history, into: { table: "landing.party", mode: "upsert", key: ["id"] } };

/** The history as an engineer would keep it by hand: staged, compared, closed, opened. */
const byHand = `CREATE TABLE hand (sk bigserial PRIMARY KEY, ${columns}, valid_from timestamptz NOT NULL, valid_to timestamptz, is_current boolean NOT NULL, UNIQUE (id, valid_from))`;
const differing = others
  .filter((name) => name !== "updated_at")
  .map((name) => `h.${name} IS DISTINCT FROM s.${name}`)
  .join(" OR ");
const step = `${q} "$SOURCE" -c "COPY party TO STDOUT" | ${q} "$WAREHOUSE" -c "BEGIN" -c "CREATE TEMP TABLE fresh (${columns})" -c "COPY fresh FROM STDIN" -c "ANALYZE fresh" -c "CREATE TEMP TABLE news AS SELECT s.* FROM fresh s LEFT JOIN hand h ON h.id = s.id AND h.is_current WHERE h.id IS NULL OR ${differing}" -c "UPDATE hand h SET valid_to = n.updated_at, is_current = false FROM news n WHERE h.id = n.id AND h.is_current" -c "INSERT INTO hand (${names.join(", ")}, valid_from, is_current) SELECT ${names.map((name) => `n.${name}`).join(", ")}, n.updated_at, true FROM news n" -c "COMMIT"`;

const change = (from: number, to: number, seconds: number) =>
  `UPDATE party SET port = port || 'x', updated_at = updated_at + interval '${seconds} seconds' WHERE id BETWEEN ${from} AND ${to}; VACUUM ANALYZE party`;

/** How histories compare with those kept by hand. */
export async function historyLines({ repeat, rows, atSource, atWarehouse, reset, hand, sides }: Yard): Promise<Line[]> {
  const lines: Line[] = [];
  await atSource(make(rows));
  const first = await compared(
    repeat,
    reset,
    () => task({ ...sides, load: history, kind: "load" }),
    () => task({ ...sides, load: upsert, kind: "load" }),
  );
  lines.push({
    work: `history: first load of ${rows.toLocaleString("en")}`,
    ...first,
    aim: "≤ 1.15",
    note: `${first.result.told}; against an upsert's first load of the same`,
  });

  const changed = Math.round(rows / 20);
  let seconds = 0;
  const versions = await compared(
    repeat,
    async () => {
      await reset();
      await atSource(make(rows));
      await task({ ...sides, load: history, kind: "load" });
      await atWarehouse(byHand);
      await hand(step);
      seconds += 1000;
      await atSource(change(1, changed, seconds));
      await atWarehouse("VACUUM ANALYZE; CHECKPOINT");
    },
    () => task({ ...sides, load: history, kind: "load" }),
    () => hand(step),
  );
  lines.push({
    work: `history: ${rows.toLocaleString("en")} keys read, ${changed.toLocaleString("en")} open a version, all proved`,
    ...versions,
    aim: "≤ 1.2",
    note: `${versions.result.told}; against stage by COPY, compare, close and insert by hand, which proves nothing`,
  });

  const same = await compared(
    repeat,
    async () => undefined,
    () => task({ ...sides, load: history, kind: "load" }),
    () =>
      hand(
        `${q} "$SOURCE" -c "COPY party TO STDOUT" | ${q} "$WAREHOUSE" -c "BEGIN" -c "CREATE TEMP TABLE fresh (${columns})" -c "COPY fresh FROM STDIN" -c "SELECT count(*) FROM fresh s WHERE NOT EXISTS (SELECT 1 FROM landing.party h WHERE h.id = s.id AND h.is_current AND NOT (${differing}))" -c "COMMIT"`,
      ),
  );
  lines.push({
    work: "history: nothing changed, all keys read whole",
    ...same,
    aim: "≤ 1.3",
    note: `${same.result.told}; against COPY to a stage and one anti-join`,
  });

  lines.push(await lateLine({ repeat, rows, atSource, atWarehouse, reset, hand, sides }));
  const looks: [string, string, string][] = [
    [
      "history: the lifeline of a key",
      `SELECT * FROM landing.party WHERE id = ${Math.round(rows / 2)} ORDER BY valid_from`,
      "≤ 50 ms",
    ],
    [
      "history: as of a moment, the first 200",
      "SELECT * FROM landing.party_as_of('2026-01-01 01:00+00') LIMIT 200",
      "≤ 150 ms",
    ],
  ];
  for (const [work, sql, aim] of looks) {
    const { output } = await hand(
      `${q} "$WAREHOUSE" -c "SET timezone = 'UTC'" -c "EXPLAIN (ANALYZE, SUMMARY) ${sql}" | awk '/Execution Time/ {print $3}'`,
    );
    lines.push({ work, ours: Number(output) / 1000, theirs: null, aim, memory: 0, note: "" });
  }
  return lines;
}

/** Versions that belong before others, against as many in order; the source keeps a log. */
async function lateLine({ repeat, rows, atSource, atWarehouse, reset, sides }: Yard): Promise<Line> {
  const log: Load = {
    ...history,
    from: { connection: "source", table: "public.party_log" },
    watermark: { column: "written_at" },
    columns: Object.fromEntries(names.map((name) => [name, name])),
  };
  const some = Math.round(rows / 10);
  const word = (days: number, port: string, written: number, where: string) =>
    `INSERT INTO party_log SELECT id, name, port || '${port}', phone, region, since, updated_at + interval '${days} days', timestamptz '2026-11-01 00:00+00' + interval '${written} days' + id * interval '1 millisecond' FROM party WHERE ${where}`;
  const taken: { order: number[]; late: number[] } = { order: [], late: [] };
  let told: TaskResult | undefined;
  for (let time = 0; time < repeat; time++)
    for (const kind of ["order", "late"] as const) {
      await reset();
      await atSource(
        `DROP TABLE IF EXISTS party_log; CREATE TABLE party_log (${columns}, written_at timestamptz NOT NULL); ${word(0, "a", 0, "true")}; ${word(10, "b", 0, "true")}; ${word(20, "c", 0, "true")}; ALTER TABLE party_log ADD UNIQUE (id, updated_at); CREATE INDEX ON party_log (written_at); VACUUM ANALYZE party_log`,
      );
      await task({ ...sides, load: log, kind: "load" });
      await atSource(`${word(kind === "late" ? 15 : 30, "d", 1, `id <= ${some}`)}; VACUUM ANALYZE party_log`);
      await atWarehouse("VACUUM ANALYZE; CHECKPOINT");
      const done = await task({ ...sides, load: log, kind: "load" });
      taken[kind].push(done.seconds);
      if (kind === "late") told = done;
    }
  return {
    work: `history: ${some.toLocaleString("en")} late versions of ${rows.toLocaleString("en")} keys with 3 each`,
    ours: median(taken.late),
    theirs: median(taken.order),
    aim: "≤ 3",
    memory: told?.memory ?? 0,
    note: `${told?.told}; against as many that come in order`,
  };
}
