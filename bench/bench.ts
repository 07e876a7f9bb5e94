import { chmodSync, mkdtempSync, rmSync } from "node:fs";
import { cpus, tmpdir, totalmem } from "node:os";
import { join } from "node:path";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import { fileLines } from "./files.ts";
import { historyLines } from "./history.ts";
import { mariaLines } from "./mariadb.ts";
import { productLines } from "./product.ts";
import { columns, dataset, makeRows } from "./rows.ts";
import type { TaskResult } from "./task.ts";
import { webLines } from "./web.ts";
import { compared as compare, type Line, median, q, shell, startServer, task } from "./yard.ts";

/**
 * Measures this product against hand-written psql in the same run, between two PostgreSQL servers, and prints ratios.
 * `./undercoat bench [--rows N] [--large N] [--repeat N] [--only files|mariadb|web|history|product]`
 */
const option = (name: string, otherwise: number) => {
  const at = process.argv.indexOf(`--${name}`);
  return at > 0 ? Number(process.argv[at + 1]) : otherwise;
};
const rows = option("rows", 1_000_000);
const large = option("large", 5_000_000);
const repeat = option("repeat", 3);
if (process.argv.includes("--help")) {
  console.log(
    "./undercoat bench [--rows 1000000] [--large 5000000] [--repeat 3] [--only files|mariadb|web|history|product]",
  );
  process.exit(0);
}

const folder = mkdtempSync(join(tmpdir(), "undercoat-bench-"));
chmodSync(folder, 0o755);
const load: Load = {
  from: { connection: "source", table: "public.fact" },
  watermark: { column: "updated_at" },
  into: { table: "landing.fact", mode: "upsert", key: ["id"] },
  proof: { figures: ["rows", "sum(amount)", "max(updated_at)"] },
};
const lines: Line[] = [];
const only = process.argv.includes("--only") ? process.argv[process.argv.indexOf("--only") + 1] : null;
const compared = (...work: Parameters<typeof compare> extends [number, ...infer Rest] ? Rest : never) =>
  compare(repeat, ...work);
const [source, warehouse] = [await startServer(folder, "source"), await startServer(folder, "warehouse")];
const sides = { source: source.credentials, warehouse: warehouse.credentials, load };
const atSource = (sql: string) => shell(source, warehouse, `${q} "$SOURCE" <<'SQL'\n${sql}\nSQL`);
const atWarehouse = (sql: string) => shell(source, warehouse, `${q} "$WAREHOUSE" <<'SQL'\n${sql}\nSQL`);
const reset = () =>
  atWarehouse(
    "DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE; DROP TABLE IF EXISTS hand; CHECKPOINT",
  );
try {
  console.log(
    `${cpus().length} cores, ${Math.round(totalmem() / 2 ** 30)} GiB, two PostgreSQL servers on loopback, ${rows.toLocaleString("en")} rows × 12 columns, median of ${repeat}`,
  );
  if (only === null) await loadsAndProofs();
  const yard = {
    repeat,
    rows,
    atSource,
    atWarehouse,
    reset,
    sides,
    hand: (line: string) => shell(source, warehouse, line),
  };
  if (only === null || only === "files") lines.push(...(await fileLines(yard)));
  if (only === null || only === "mariadb") lines.push(...(await mariaLines(yard)));
  if (only === null || only === "web") lines.push(...(await webLines(yard)));
  if (only === null || only === "history") lines.push(...(await historyLines(yard)));
  if (only === null || only === "product") {
    await reset();
    lines.push(...(await productLines(yard)));
  }

  console.log(
    `\n${"work".padEnd(62)}${"this".padStart(8)}${"psql".padStart(8)}${"ratio".padStart(7)}${"memory".padStart(9)}  aim`,
  );
  for (const { work, ours, theirs, aim, memory, note } of lines) {
    console.log(
      `${work.padEnd(62)}${`${ours.toFixed(2)} s`.padStart(8)}${(theirs === null ? "" : `${theirs.toFixed(2)} s`).padStart(8)}${(theirs === null ? "" : (ours / theirs).toFixed(2)).padStart(7)}${`${(memory / 1e6).toFixed(0)} MB`.padStart(9)}  ${aim}`,
    );
    if (note) console.log(`  ${note}`);
  }
} finally {
  await source.cluster.stop();
  await warehouse.cluster.stop();
  rmSync(folder, { recursive: true, force: true });
}

/** Loads, proofs, shapes, deletions, many tables and rehearsals. */
async function loadsAndProofs(): Promise<void> {
  await atSource(`${dataset}; ${makeRows(rows)}`);

  const first = await compared(
    reset,
    () => task({ ...sides, kind: "load" }),
    () =>
      shell(
        source,
        warehouse,
        `${q} "$WAREHOUSE" -c "CREATE TABLE hand (${columns}, PRIMARY KEY (id))"; ${q} "$SOURCE" -c "COPY fact TO STDOUT" | ${q} "$WAREHOUSE" -c "COPY hand FROM STDIN"`,
      ),
  );
  lines.push({
    work: "first load into a new keyed table, tally, every cell proved",
    ...first,
    aim: "≤ 1.0",
    note: "against COPY (text) piped to COPY into a table with that primary key",
  });

  // The watermark's column moves for all 50,000, so it is left out of what is compared: 10,000 rows change.
  const { updated_at: _, ...rest } = Object.fromEntries(
    columns.split(", ").map((column) => [column.split(" ")[0] ?? "", column.split(" ")[0] ?? ""]),
  );
  const narrow: Load = { ...load, columns: rest, proof: { figures: ["rows", "sum(amount)"] } };
  const narrowSides = { ...sides, load: narrow };
  const names = Object.keys(rest);
  const upsert = await compared(
    async () => {
      await reset();
      await atWarehouse(`CREATE TABLE hand (${columns}, PRIMARY KEY (id))`);
      await shell(
        source,
        warehouse,
        `${q} "$SOURCE" -c "COPY (SELECT * FROM fact) TO STDOUT" | ${q} "$WAREHOUSE" -c "COPY hand FROM STDIN"`,
      );
      await task({ ...narrowSides, kind: "load" });
      await atSource(
        "UPDATE fact SET amount = amount + 1 WHERE id <= 10000; UPDATE fact SET updated_at = (SELECT max(updated_at) FROM fact) + interval '1 second' WHERE id <= 50000; VACUUM ANALYZE fact",
      );
      await atWarehouse("VACUUM ANALYZE; CHECKPOINT");
    },
    () => task({ ...narrowSides, kind: "load" }),
    () =>
      shell(
        source,
        warehouse,
        `since=$(psql -XAtc "SELECT max(updated_at) FROM hand" "$WAREHOUSE")
${q} "$SOURCE" -c "COPY (SELECT ${names.join(", ")} FROM fact WHERE updated_at >= '$since') TO STDOUT" | ${q} "$WAREHOUSE" -c "BEGIN" -c "CREATE TEMP TABLE fresh AS SELECT ${names.join(", ")} FROM hand LIMIT 0" -c "COPY fresh FROM STDIN" -c "INSERT INTO hand (${names.join(", ")}) SELECT * FROM fresh ON CONFLICT (id) DO UPDATE SET ${names
          .slice(1)
          .map((name) => `${name} = excluded.${name}`)
          .join(", ")} WHERE (${names
          .slice(1)
          .map((name) => `hand.${name}`)
          .join(", ")}) IS DISTINCT FROM (${names
          .slice(1)
          .map((name) => `excluded.${name}`)
          .join(", ")})" -c "COMMIT"`,
      ),
  );
  lines.push({
    work: "upsert of 50,000 rows, 10,000 changed, every cell read proved",
    ...upsert,
    aim: "≤ 1.1",
    note: `tally ${upsert.result.told}; the hand-written way proves nothing`,
  });

  await reset();
  // One row alone carries the highest watermark, as it does between two business moments.
  await atSource("UPDATE fact SET updated_at = updated_at + interval '1 second' WHERE id = 1");
  await task({ ...sides, kind: "load" });
  await atWarehouse("VACUUM ANALYZE");
  const idle: TaskResult[] = [];
  for (let time = 0; time < repeat; time++) idle.push(await task({ ...sides, kind: "load" }));
  lines.push({
    work: "a run that finds nothing",
    ours: median(idle.map((one) => one.seconds)),
    theirs: null,
    aim: "≤ 0.15 s",
    memory: idle.at(-1)?.memory ?? 0,
    note: `tally ${idle.at(-1)?.told}; reads and proves the row that holds the watermark, of ${rows.toLocaleString("en")}`,
  });

  const exported = () =>
    shell(
      source,
      warehouse,
      `${q} "$SOURCE" -c "COPY (SELECT * FROM fact ORDER BY id) TO STDOUT" > ${folder}/left & ${q} "$WAREHOUSE" -c "COPY (SELECT * FROM landing.fact ORDER BY id) TO STDOUT" > ${folder}/right; wait; diff ${folder}/left ${folder}/right > ${folder}/found || true; wc -c < ${folder}/left`,
    );
  const whole = await compared(
    async () => undefined,
    () => task({ ...sides, kind: "prove" }),
    exported,
  );
  lines.push({
    work: "the whole table cell by cell, nothing differs",
    ...whole,
    aim: "≤ 0.5",
    note: `${whole.result.told}; against exporting both sorted and comparing`,
  });

  await atWarehouse("UPDATE landing.fact SET amount = amount + 0.01 WHERE id IN (77, 500000, 999999)");
  const found = await compared(
    async () => undefined,
    () => task({ ...sides, kind: "prove" }),
    exported,
  );
  const { output } = await shell(source, warehouse, `cat ${folder}/left ${folder}/right | wc -c`);
  const share = (100 * (found.result.bytes ?? 0)) / Number(output);
  lines.push({
    work: `find 3 differing rows of ${rows.toLocaleString("en")}`,
    ...found,
    aim: "≤ 0.6, under 2 % of the bytes",
    note: `${found.result.told}; ${((found.result.bytes ?? 0) / 1000).toFixed(0)} kB of answers, ${share.toFixed(2)} % of ${(Number(output) / 1e6).toFixed(0)} MB`,
  });

  // A hundredth of the rows break a type or a rule.
  await atSource(
    "DROP TABLE IF EXISTS raw; CREATE TABLE raw AS SELECT id, customer, region, status, CASE WHEN id % 250 = 0 THEN 'n/a' ELSE amount::text END AS amount, discount::text AS discount, CASE WHEN id % 250 = 1 THEN -1 ELSE quantity END AS quantity, CASE WHEN id % 500 = 2 THEN '2026-02-30' ELSE day::text END AS day, note, flag, score, updated_at FROM fact; ALTER TABLE raw ADD PRIMARY KEY (id), ALTER COLUMN updated_at SET NOT NULL; VACUUM ANALYZE raw; CHECKPOINT",
  );
  const shaped: Load = {
    from: { connection: "source", table: "public.raw" },
    watermark: { column: "updated_at" },
    columns: {
      id: "id",
      customer: "customer",
      region: "upper(region)",
      status: "coalesce(nullif(btrim(status), ''), 'unknown')",
      amount: { as: "amount", type: "numeric(12,2)" },
      net: { as: "quantity * score", type: "double precision" },
      quantity: "quantity",
      day: { as: "day", type: "date" },
      note: "left(note, 40)",
      who: "concat_ws(' ', region, status, customer)",
      flag: "flag",
      updated_at: "updated_at",
    },
    rules: {
      "quantity is not negative": "quantity >= 0",
      "region is known": "region IN ('NORTH', 'SOUTH', 'EAST', 'WEST')",
      "amount is reasonable": "amount < 100000",
    },
    into: { table: "landing.shaped", mode: "upsert", key: ["id"] },
    proof: { figures: ["rows", "sum(amount)", "max(updated_at)"] },
  };
  const shapedColumns =
    "id bigint PRIMARY KEY, customer bigint, region text, status text, amount numeric(12,2), net double precision, quantity integer, day date, note text, who text, flag boolean, updated_at timestamptz";
  const fits =
    "amount ~ '^[-+]?[0-9]{1,10}(\\.[0-9]{0,2})?$' AND day ~ '^[1-9][0-9]{3}-(0[1-9]|1[0-2])-(0[1-9]|1[0-9]|2[0-9]|3[01])$' AND day NOT LIKE '%-02-30' AND quantity::int >= 0 AND upper(region) IN ('NORTH', 'SOUTH', 'EAST', 'WEST') AND (CASE WHEN amount ~ '^[-+]?[0-9]{1,10}(\\.[0-9]{0,2})?$' THEN amount::numeric < 100000 END)";
  const shape = await compared(
    () =>
      atWarehouse(
        "DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE; DROP TABLE IF EXISTS hand, hand_raw, hand_rejected; CHECKPOINT",
      ),
    () => task({ ...sides, load: shaped, kind: "load" }),
    () =>
      shell(
        source,
        warehouse,
        `${q} "$WAREHOUSE" -c "CREATE UNLOGGED TABLE hand_raw (${["id", "customer", "region", "status", "amount", "discount", "quantity", "day", "note", "flag", "score", "updated_at"].map((name) => `${name} text`).join(", ")})" -c "CREATE TABLE hand (${shapedColumns})"
${q} "$SOURCE" -c "COPY raw TO STDOUT" | ${q} "$WAREHOUSE" -c "COPY hand_raw FROM STDIN"
${q} "$WAREHOUSE" <<'SQL'
BEGIN;
CREATE TABLE hand_rejected AS SELECT * FROM hand_raw WHERE (${fits}) IS NOT TRUE;
INSERT INTO hand SELECT id::bigint, customer::bigint, upper(region), coalesce(nullif(btrim(status), ''), 'unknown'), amount::numeric(12,2), quantity::int * score::float8, quantity::int, day::date, left(note, 40), concat_ws(' ', region, status, customer), flag::boolean, updated_at::timestamptz FROM hand_raw WHERE ${fits};
COMMIT; DROP TABLE hand_raw;
SQL`,
      ),
  );
  lines.push({
    work: "first load with 5 expressions and 3 rules, 1 % rejected",
    ...shape,
    aim: "≤ 1.2",
    note: `tally ${shape.result.told}; against COPY into a text table, the same checks and INSERT … SELECT into a keyed table`,
  });

  await reset();
  const sweeping: Load = { ...load, into: { ...load.into, deleted: "remove" } };
  const gone = await compared(
    async () => {
      await reset();
      await atSource(
        "INSERT INTO fact SELECT id + 100000000, customer, region, status, amount, discount, quantity, day, note, flag, score, updated_at FROM fact WHERE id <= 100; VACUUM ANALYZE fact",
      );
      await task({ ...sides, load: sweeping, kind: "load" });
      await atSource("DELETE FROM fact WHERE id > 100000000; VACUUM ANALYZE fact");
      await atWarehouse("VACUUM ANALYZE landing.fact; CHECKPOINT");
    },
    () => task({ ...sides, load: sweeping, kind: "gone" }),
    () =>
      shell(
        source,
        warehouse,
        `${q} "$SOURCE" -c "COPY (SELECT id FROM fact) TO STDOUT" > ${folder}/left & ${q} "$WAREHOUSE" -c "COPY (SELECT id FROM landing.fact) TO STDOUT" > ${folder}/right; wait
${q} "$WAREHOUSE" -c "CREATE TEMP TABLE a (id bigint)" -c "CREATE TEMP TABLE b (id bigint)" -c "\\copy a FROM ${folder}/left" -c "\\copy b FROM ${folder}/right" -c "SELECT count(*) FROM (SELECT id FROM b EXCEPT SELECT id FROM a) g"`,
      ),
  );
  lines.push({ work: "find 100 rows gone of 1 M by comparing keys", ...gone, aim: "≤ 1.0", note: gone.result.told });

  await atSource("DROP TABLE IF EXISTS raw");
  const small = Array.from({ length: 40 }, (_, n) => `small_${n}`);
  await atSource(
    `${small.map((name) => `DROP TABLE IF EXISTS ${name}; CREATE TABLE ${name} (id int PRIMARY KEY, name text, updated_at timestamptz NOT NULL); INSERT INTO ${name} SELECT n, 'row ' || n, timestamptz '2026-01-01 00:00+00' + n * interval '1 second' FROM generate_series(1, 1000) n`).join("; ")}`,
  );
  const many = {
    ...sides,
    load,
    loads: Object.fromEntries(
      small.map((name): [string, Load] => [
        name,
        {
          ...load,
          from: { connection: "source", table: `public.${name}` },
          into: { ...load.into, table: `landing.${name}` },
          proof: { figures: ["rows", "max(updated_at)"] },
        },
      ]),
    ),
  };
  await task({ ...many, kind: "loads" });
  const unchanged: TaskResult[] = [];
  for (let time = 0; time < repeat; time++) unchanged.push(await task({ ...many, kind: "loads" }));
  lines.push({
    work: "40 small tables, nothing changed",
    ours: median(unchanged.map((one) => one.seconds)),
    theirs: null,
    aim: "≤ 1 s",
    memory: unchanged.at(-1)?.memory ?? 0,
    note: unchanged.at(-1)?.told ?? "",
  });
  await atSource(small.map((name) => `DROP TABLE ${name}`).join("; "));

  await reset();
  await atWarehouse(`CREATE SCHEMA landing; CREATE TABLE landing.given (${columns}, PRIMARY KEY (id))`);
  await shell(
    source,
    warehouse,
    `${q} "$SOURCE" -c "COPY fact TO STDOUT" | ${q} "$WAREHOUSE" -c "COPY landing.given FROM STDIN"`,
  );
  await atWarehouse("VACUUM ANALYZE landing.given");
  const within: Load = {
    ...load,
    from: { connection: "warehouse", table: "landing.given" },
    into: { table: "mart.fact", mode: "upsert", key: ["id"] },
  };
  const inside = await compared(
    () =>
      atWarehouse(
        "DROP SCHEMA IF EXISTS mart CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE; DROP TABLE IF EXISTS hand; CHECKPOINT",
      ),
    () => task({ ...sides, source: warehouse.credentials, load: within, kind: "load" }),
    () => atWarehouse(`CREATE TABLE hand (${columns}, PRIMARY KEY (id)); INSERT INTO hand SELECT * FROM landing.given`),
  );
  lines.push({
    work: "1 M rows from table to table inside one database",
    ...inside,
    aim: "≤ 1.15",
    note: `tally ${inside.result.told}; against INSERT … SELECT into a table with that primary key`,
  });

  await reset();
  await task({ ...narrowSides, kind: "load" });
  const mine: number[] = [];
  const rehearsed: number[] = [];
  let rehearsal: TaskResult | undefined;
  for (let time = 0; time < repeat; time++) {
    await atSource(
      `UPDATE fact SET amount = amount + 1 WHERE id <= 10000; UPDATE fact SET updated_at = (SELECT max(updated_at) FROM fact) + interval '1 second' WHERE id <= 50000; VACUUM ANALYZE fact`,
    );
    await atWarehouse("VACUUM ANALYZE; CHECKPOINT");
    rehearsal = await task({ ...narrowSides, kind: "rehearse" });
    rehearsed.push(rehearsal.seconds);
    mine.push((await task({ ...narrowSides, kind: "load" })).seconds);
  }
  lines.push({
    work: "rehearse an incremental run of 50,000 rows",
    ours: median(rehearsed),
    theirs: median(mine),
    aim: "≤ 1.0",
    memory: rehearsal?.memory ?? 0,
    note: `${rehearsal?.told}; against the run that follows`,
  });

  if (large > 0) {
    await reset();
    await atSource(`${dataset}; ${makeRows(large)}`);
    const big = await task({ ...sides, kind: "load" });
    lines.push({
      work: `memory of a ${large.toLocaleString("en")}-row load`,
      ours: big.seconds,
      theirs: null,
      aim: "≤ 200 MB",
      memory: big.memory,
      note: `tally ${big.told}`,
    });
  }
}
