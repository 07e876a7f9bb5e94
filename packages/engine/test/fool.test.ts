import type { Load } from "@undercoat/core/pipeline/pipeline";
import fc from "fast-check";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { makePair, type Pair } from "./pair.ts";

/** What tries to make a proof hold that should not, and what a proof must not be fooled by. */
let pair: Pair;
beforeAll(async () => {
  pair = await makePair("fool");
});
afterAll(() => pair.close());

const clear = () => pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
const load: Load = {
  from: { connection: "source", table: "public.sale" },
  into: { table: "landing.sale", mode: "upsert", key: ["id"] },
  proof: { figures: ["rows", "sum(amount)"] },
};
const found = async (definition = load) => {
  const { proof, rows } = await pair.prove(definition);
  return { verdict: proof.verdict, missing: rows?.missing, extra: rows?.extra, different: rows?.different };
};
const same = { verdict: "proved", missing: 0, extra: 0, different: 0 };

describe("changes that come in pairs", () => {
  beforeEach(async () => {
    await clear();
    await pair.atSource(`DROP TABLE IF EXISTS sale; CREATE TABLE sale (id int PRIMARY KEY, state text, amount numeric(12,2), big bigint, other bigint, at timestamptz, ratio float8, twin float8, seen timestamptz);
      INSERT INTO sale SELECT n, CASE n % 2 WHEN 0 THEN 'paid' ELSE 'held' END, n * 10, n, n, timestamptz '2026-11-01' + n * interval '1 minute', n, 0, timestamptz '1970-01-01 00:00+00' FROM generate_series(1, 300) n`);
    await pair.run(load);
  });

  test.each([
    ["two states set to one value", "UPDATE landing.sale SET state = 'void' WHERE id IN (1, 2)", 2],
    [
      "two amounts swapped",
      "UPDATE landing.sale t SET amount = o.amount FROM landing.sale o WHERE (t.id, o.id) IN ((1, 2), (2, 1))",
      2,
    ],
    [
      "a column shifted by one row",
      "UPDATE landing.sale t SET amount = s.amount FROM landing.sale s WHERE s.id = t.id % 250 + 1 AND t.id <= 250",
      250,
    ],
    ["two hundred rows set to one value", "UPDATE landing.sale SET state = 'void' WHERE id <= 200", 200],
    ["all states reversed", "UPDATE landing.sale SET state = CASE state WHEN 'paid' THEN 'held' ELSE 'paid' END", 300],
    [
      "every row's two numbers swapped for others that fold alike",
      "UPDATE landing.sale SET big = 8589934594, other = 4294967297 WHERE id = 1",
      1,
    ],
    ["a sign turned", "UPDATE landing.sale SET amount = -amount WHERE id = 7", 1],
    ["two signs turned", "UPDATE landing.sale SET amount = -amount WHERE id IN (7, 8)", 2],
    [
      "a zero and its neighbour's value changing places",
      "UPDATE landing.sale SET ratio = twin, twin = ratio WHERE id = 5",
      1,
    ],
    [
      "the moment that counts as zero and its neighbour's value changing places",
      "UPDATE landing.sale SET at = seen, seen = at WHERE id = 9",
      1,
    ],
    [
      "moments exchanged between rows",
      "UPDATE landing.sale t SET at = o.at FROM landing.sale o WHERE o.id = 301 - t.id",
      300,
    ],
    [
      "values rotated through three rows",
      "UPDATE landing.sale t SET amount = o.amount, state = o.state FROM landing.sale o WHERE (t.id, o.id) IN ((1, 2), (2, 3), (3, 1))",
      3,
    ],
  ])("%s", async (_, change, different) => {
    expect(await found()).toEqual(same);
    await pair.atWarehouse(change);
    expect(await found()).toEqual({ verdict: "disagrees", missing: 0, extra: 0, different });
  });

  test("of bits that two columns share, none is lost", async () => {
    await pair.atSource("UPDATE sale SET big = 0, other = 0 WHERE id = 1");
    await pair.run(load);
    await pair.atWarehouse("UPDATE landing.sale SET big = 8589934594, other = 4294967297 WHERE id = 1");
    expect((await found()).different).toBe(1);
  });

  test("any permutation of any columns among any rows is found, and no other change is claimed", async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.uniqueArray(fc.integer({ min: 1, max: 300 }), { minLength: 2, maxLength: 12 }),
        fc.constantFrom("state", "amount", "big", "other", "at", "ratio"),
        fc.integer({ min: 1, max: 11 }),
        async (ids, column, by) => {
          const turned = ids.map((id, at) => [id, ids[(at + by) % ids.length]]);
          await pair.atWarehouse(
            `UPDATE landing.sale t SET ${column} = o.${column} FROM (VALUES ${turned.map(([to, from]) => `(${to}, ${from})`).join(", ")}) m(t, o) JOIN landing.sale o ON o.id = m.o WHERE t.id = m.t`,
          );
          const [{ n } = {}] = await pair.atWarehouse(
            `SELECT count(*)::text AS n FROM landing.sale t WHERE NOT EXISTS (SELECT 1 FROM (SELECT n AS id, CASE n % 2 WHEN 0 THEN 'paid' ELSE 'held' END AS state, (n * 10)::numeric(12,2) AS amount, n::bigint AS big, n::bigint AS other, timestamptz '2026-11-01' + n * interval '1 minute' AS at, n::float8 AS ratio FROM generate_series(1, 300) n) w WHERE (w.id, w.state, w.amount, w.big, w.other, w.at, w.ratio) = (t.id, t.state, t.amount, t.big, t.other, t.at, t.ratio))`,
          );
          expect((await found()).different).toBe(Number(n));
          await pair.run(load, { scope: { kind: "whole" } });
        },
      ),
      { numRuns: 12 },
    );
    expect(await found()).toEqual(same);
  });

  test("a composite key whose halves changed partners is found, and swept", async () => {
    await pair.atSource(
      "DROP TABLE IF EXISTS leg; CREATE TABLE leg (a int, b text, v int, PRIMARY KEY (a, b)); INSERT INTO leg VALUES (1, 'x', 1), (2, 'y', 1)",
    );
    const legs: Load = {
      from: { connection: "source", table: "public.leg" },
      into: { table: "landing.leg", mode: "upsert", key: ["a", "b"], deleted: "remove" },
    };
    await pair.run(legs);
    await pair.atSource("UPDATE leg SET b = CASE a WHEN 1 THEN 'y' ELSE 'x' END");
    expect(await found(legs)).toEqual({ verdict: "disagrees", missing: 2, extra: 2, different: 0 });
    const run = await pair.run(legs);
    expect(run.tally).toMatchObject({ new: "2", deleted: "2" });
    expect(run.proof.verdict).toBe("proved");
  });
});

test("keys are told apart by their letters, also where the source's collation takes them for one", async () => {
  await clear();
  await pair.atSource(`DROP TABLE IF EXISTS port; CREATE COLLATION IF NOT EXISTS any_case (provider = icu, locale = 'und-u-ks-level2', deterministic = false);
    CREATE TABLE port (code text COLLATE any_case PRIMARY KEY, name text, at timestamptz NOT NULL); INSERT INTO port VALUES ('bgo', 'Bergen', '2026-11-20'), ('trd', 'Trondheim', '2026-11-21')`);
  const ports: Load = {
    from: { connection: "source", table: "public.port" },
    watermark: { column: "at" },
    into: { table: "landing.port", mode: "upsert", key: ["code"], deleted: "remove" },
  };
  await pair.run(ports);
  await pair.atSource("UPDATE port SET code = 'BGO', at = '2026-11-22' WHERE code = 'bgo'");
  const run = await pair.run(ports);
  expect(run.tally).toMatchObject({ new: "1", deleted: "1" });
  expect(run.proof.verdict).toBe("proved");
  expect(await pair.atWarehouse('SELECT code FROM landing.port ORDER BY code COLLATE "C"')).toEqual([
    { code: "BGO" },
    { code: "trd" },
  ]);
  expect(await found(ports)).toEqual(same);
});

test("of a million rows every planted fault is named, and a sum that was balanced hides none", {
  timeout: 240_000,
}, async () => {
  await clear();
  await pair.atSource(`DROP TABLE IF EXISTS wide; CREATE TABLE wide (id bigint PRIMARY KEY, month date NOT NULL, amount numeric(12,2) NOT NULL, note text, at timestamptz NOT NULL);
    INSERT INTO wide SELECT n, date '2026-01-01' + (n % 12)::int * interval '1 month', n % 1000, 'note ' || n, timestamptz '2026-01-01' + n * interval '1 second' FROM generate_series(1, 1000000) n`);
  const wide: Load = {
    from: { connection: "source", table: "public.wide" },
    into: { table: "landing.wide", mode: "upsert", key: ["id"] },
    proof: { by: { column: "month", slice: "month" }, figures: ["rows", "sum(amount)"] },
  };
  const first = await pair.run(wide);
  expect(first.proof).toMatchObject({
    verdict: "proved",
    depth: "cells",
    cells: { rows: "1000000", verdict: "proved" },
  });
  await pair.atWarehouse(`UPDATE landing.wide SET note = '' WHERE id = 17; UPDATE landing.wide SET note = NULL WHERE id = 500001; UPDATE landing.wide SET amount = amount + 1 WHERE id = 24; UPDATE landing.wide SET amount = amount - 1 WHERE id = 36;
    DELETE FROM landing.wide WHERE id = 999999; INSERT INTO landing.wide VALUES (1000001, '2026-04-01', 999, 'extra', '2026-01-01')`);
  const figures = await pair.prove(wide, false);
  // One deleted and one added of an equal amount: the figures can't tell, and the proof says that it is one by figures.
  expect(figures.proof).toMatchObject({ depth: "figures", cells: null });
  const { proof, rows } = await pair.prove(wide);
  expect(proof).toMatchObject({ verdict: "disagrees", depth: "cells" });
  expect(rows?.rows.map((row) => `${row.key} ${row.kind}`).sort()).toEqual([
    "1000001 extra",
    "17 different",
    "24 different",
    "36 different",
    "500001 different",
    "999999 missing",
  ]);
  expect(proof.slices.every((slice) => slice.depth === "cells")).toBe(true);
  // Forty thousand amounts moved round among themselves, to the next row of the same month.
  await pair.atWarehouse(
    "UPDATE landing.wide t SET amount = s.amount FROM landing.wide s WHERE s.id = t.id + 12 AND t.id BETWEEN 100000 AND 139999",
  );
  expect((await pair.prove(wide)).rows).toMatchObject({ complete: false });
});

describe("what is equal is not the same", () => {
  test.each([
    ["interval", "30 days", "1 mon"],
    ["interval", "1 day", "24:00"],
    ["numeric", "1.0", "1.00"],
    ["numeric", "NaN", "Infinity"],
    ["float8", "0", "-0"],
    ["real", "0", "-0"],
    ["jsonb", '{"a": 1.0}', '{"a": 1.00}'],
    ["json", '{"a":1}', '{"a": 1}'],
    ["int[]", "{1,2}", "[0:1]={1,2}"],
    ["int[]", "{1,2}", "{{1,2}}"],
    ["text[]", "{NULL}", '{"NULL"}'],
    ["numrange", "[1.0,2)", "[1.00,2)"],
    ["timetz", "12:00+00", "14:00+02"],
    ["bytea", "\\x00", "\\x0000"],
    ["timestamptz", "infinity", "-infinity"],
    ["date", "infinity", "5874897-12-31"],
    ["timestamp", "9000-01-01 00:00:00.000001", "9000-01-01 00:00:00.000002"],
    ["timestamptz", "1000-01-01 00:00:00.000001+00", "1000-01-01 00:00:00.000002+00"],
    ["text", "a", "A"],
    ["inet", "10.0.0.1/8", "10.0.0.1/32"],
  ])("%s %s and %s", async (type, before, after) => {
    await clear();
    const quoted = (text: string) => `'${text}'::${type}`;
    await pair.atSource(
      `DROP TABLE IF EXISTS form; CREATE TABLE form (id int PRIMARY KEY, v ${type}); INSERT INTO form VALUES (1, ${quoted(before)}), (2, NULL)`,
    );
    const form: Load = {
      from: { connection: "source", table: "public.form" },
      into: { table: "landing.form", mode: "upsert", key: ["id"] },
    };
    await pair.run(form);
    await pair.atSource(`UPDATE form SET v = ${quoted(after)} WHERE id = 1`);
    // The proof sees it, the load carries it over as a change, and then both hold the same.
    expect((await pair.prove(form)).rows).toMatchObject({ different: 1, rows: [{ cells: [1] }] });
    expect((await pair.run(form)).tally).toMatchObject({ changed: "1", same: "1" });
    expect(await pair.atWarehouse("SELECT v::text FROM landing.form WHERE id = 1")).toEqual(
      await pair.atSource("SELECT v::text FROM form WHERE id = 1"),
    );
    expect(await found(form)).toEqual(same);
    expect((await pair.run(form)).tally).toMatchObject({ changed: "0", same: "2" });
  });

  test("a null among nulls is told by its place", async () => {
    await clear();
    const columns = Array.from(
      { length: 40 },
      (_, n) => `c${n} ${["int", "text", "numeric", "float8", "boolean", "date"][n % 6]}`,
    );
    await pair.atSource(
      `DROP TABLE IF EXISTS hollow; CREATE TABLE hollow (id int PRIMARY KEY, ${columns.join(", ")}); INSERT INTO hollow (id) SELECT n FROM generate_series(1, 20) n; UPDATE hollow SET c0 = 0, c1 = '', c2 = 0, c3 = 0, c4 = false, c5 = '2000-01-01' WHERE id <= 10`,
    );
    const hollow: Load = {
      from: { connection: "source", table: "public.hollow" },
      into: { table: "landing.hollow", mode: "upsert", key: ["id"] },
    };
    await pair.run(hollow);
    expect(await found(hollow)).toEqual(same);
    // What stands for a null while hashing is not taken for one.
    await pair.atWarehouse(
      "UPDATE landing.hollow SET c0 = NULL WHERE id = 1; UPDATE landing.hollow SET c1 = NULL WHERE id = 2; UPDATE landing.hollow SET c2 = NULL WHERE id = 3; UPDATE landing.hollow SET c3 = NULL WHERE id = 4; UPDATE landing.hollow SET c4 = NULL WHERE id = 5; UPDATE landing.hollow SET c5 = NULL WHERE id = 6; UPDATE landing.hollow SET c36 = c0, c0 = NULL WHERE id = 7; UPDATE landing.hollow SET c39 = 0 WHERE id = 20",
    );
    expect((await found(hollow)).different).toBe(8);
  });
});

describe("a source that changes under the reader", () => {
  const sale: Load = { ...load, into: { ...load.into, mode: "replace", key: undefined } as Load["into"] };

  test("emptied and filled again in one transaction, it is read as it is afterwards", async () => {
    await clear();
    await pair.atSource(
      "DROP TABLE IF EXISTS sale; CREATE TABLE sale (id int PRIMARY KEY, amount numeric(12,2)); INSERT INTO sale SELECT n, n FROM generate_series(1, 500) n",
    );
    await pair.run(sale);
    const waits: (string | null)[] = [];
    // The other session empties the table, and goes on once this one waits.
    await pair.atSource("BEGIN; TRUNCATE sale");
    const running = pair.run(sale, {
      report: {
        line: () => undefined,
        phase: () => undefined,
        progress: () => undefined,
        waiting: (holder) => waits.push(holder),
      },
    });
    await expect
      .poll(() => waits.some((holder) => /keeps .*sale to itself/.test(holder ?? "")), { timeout: 15_000 })
      .toBe(true);
    await pair.atSource("INSERT INTO sale SELECT n, 2 * n FROM generate_series(1, 600) n; COMMIT");
    const run = await running;
    expect(run.tally).toMatchObject({ read: "600", deleted: "500" });
    expect(run.proof).toMatchObject({ verdict: "proved", figures: [{ source: "600" }, { source: "360600.00" }] });
    expect(waits.at(-1)).toBeNull();
  });

  test("a replace that would leave far fewer rows is stopped, at exactly its limit", async () => {
    await clear();
    await pair.atSource(
      "DROP TABLE IF EXISTS sale; CREATE TABLE sale (id int PRIMARY KEY, amount numeric(12,2)); INSERT INTO sale SELECT n, n FROM generate_series(1, 100) n",
    );
    await pair.run(sale);
    await pair.atSource("DELETE FROM sale WHERE id > 49");
    const stopped = {
      failure: { message: "Of the 100 rows of landing.sale only 49 would be left; the load lets 50 % go" },
    };
    await expect(pair.run(sale)).rejects.toMatchObject(stopped);
    await expect(pair.rehearse(sale)).rejects.toMatchObject(stopped);
    await pair.atSource("INSERT INTO sale VALUES (50, 1)");
    expect((await pair.run(sale)).tally).toMatchObject({ new: "50", deleted: "100" });
    // A share of a few rows is no guard: a table of one row can lose it.
    await pair.atSource("DELETE FROM sale WHERE id > 10");
    await pair.run({ ...sale, into: { ...sale.into, deletions: { most: 100 } } });
    await pair.atSource("DELETE FROM sale");
    expect((await pair.run(sale)).tally).toMatchObject({ new: "0", deleted: "10" });
  });

  test("a policy that hides rows is an error that names the table, unless what is visible is what was asked for", async () => {
    await clear();
    await pair.atSource(
      "DROP TABLE IF EXISTS secret; CREATE TABLE secret (id int PRIMARY KEY, region text); INSERT INTO secret SELECT n, CASE n % 2 WHEN 0 THEN 'north' ELSE 'south' END FROM generate_series(1, 10) n; ALTER TABLE secret ENABLE ROW LEVEL SECURITY; DROP ROLE IF EXISTS half; CREATE ROLE half LOGIN PASSWORD 'half'; GRANT SELECT ON secret TO half; CREATE POLICY p ON secret TO half USING (region = 'north')",
    );
    const half = pair.as({ user: "half", password: "half" });
    const secret: Load = {
      from: { connection: "source", table: "public.secret" },
      into: { table: "landing.secret", mode: "upsert", key: ["id"], deleted: "remove" },
    };
    await expect(half.run(secret)).rejects.toMatchObject({ place: { user: "half" } });
    await expect(half.told(secret)).resolves.toMatchObject({
      message: 'fool_source: a policy hides rows of the table "secret" from half',
      hint: expect.stringMatching(/rows: visible/),
    });
    expect((await half.run({ ...secret, from: { ...secret.from, rows: "visible" } })).tally).toMatchObject({
      read: "5",
    });
  });
});

describe("rejected rows", () => {
  const line: Load = {
    from: { connection: "source", table: "public.line" },
    watermark: { column: "at", lookBack: "PT1H" },
    columns: { id: "id", amount: { as: "amount", type: "integer" }, at: "at" },
    into: { table: "landing.line", mode: "upsert", key: ["id"] },
    proof: { figures: ["rows", "sum(amount)"] },
  };
  const open = async () =>
    (await pair.atWarehouse("SELECT count(*)::text AS n FROM undercoat.rejected WHERE left_run IS NULL"))[0]?.n;
  beforeEach(async () => {
    await clear();
    await pair.atSource(
      "DROP TABLE IF EXISTS line; CREATE TABLE line (id int, amount text, at timestamptz NOT NULL); INSERT INTO line SELECT n, n::text, timestamptz '2026-11-20' + n * interval '1 minute' FROM generate_series(1, 30) n",
    );
  });

  test("hide no good row of their key", async () => {
    await pair.atSource("INSERT INTO line VALUES (5, 'bad', '2026-11-20 00:05')");
    const run = await pair.run(line);
    expect(run.tally).toMatchObject({ read: "31", new: "30", rejected: "1" });
    expect(run.proof).toMatchObject({
      verdict: "proved",
      figures: [{ source: "30", warehouse: "30" }, { source: "465" }],
    });
    await pair.atWarehouse("UPDATE landing.line SET amount = 99 WHERE id = 5");
    expect(await found(line)).toMatchObject({ verdict: "disagrees", different: 1 });
  });

  test("that are gone from the source leave the list and the count", async () => {
    await pair.atSource("UPDATE line SET amount = 'bad' WHERE id IN (3, 4)");
    await pair.run(line);
    expect(await open()).toBe("2");
    await pair.atSource("DELETE FROM line WHERE id = 3");
    await pair.run(line);
    expect(await open()).toBe("1");
    // One that was mended far before the watermark leaves it too, and is then missing.
    await pair.atSource("UPDATE line SET amount = '4', at = '2026-11-19' WHERE id = 4");
    await pair.run({ ...line, watermark: { column: "at" } });
    expect(await open()).toBe("0");
    expect(await found(line)).toMatchObject({ verdict: "disagrees", missing: 1 });
  });

  test("of a key that stands twice are listed once, however often the look-back reads them", async () => {
    await pair.atSource("INSERT INTO line VALUES (30, '300', '2026-11-20 00:31')");
    await pair.run(line);
    expect(await open()).toBe("1");
    const run = await pair.run(line);
    expect([await open(), run.tally.rejected, run.tally.changed]).toEqual(["1", "1", "0"]);
    expect(run.proof.verdict).toBe("proved");
  });

  test("of a key that stands twice stay listed while they stand, though the other row is read again", async () => {
    await pair.atSource("INSERT INTO line VALUES (30, '300', '2026-11-20 00:31')");
    await pair.run(line);
    await pair.atSource("INSERT INTO line VALUES (31, '31', '2026-11-20 03:00')");
    await pair.run(line);
    await pair.atSource("UPDATE line SET amount = '301', at = '2026-11-20 03:10' WHERE id = 30 AND amount = '300'");
    const run = await pair.run(line);
    expect([run.tally.read, run.tally.changed, await open()]).toEqual(["2", "1", "1"]);
    expect(run.proof.verdict).toBe("proved");
    expect(await found(line)).toEqual(same);
  });

  test("in great number neither lengthen a proof's text nor its answer", async () => {
    await pair.atSource(
      "INSERT INTO line SELECT n, 'bad ' || repeat('x', 50), timestamptz '2026-11-20' FROM generate_series(100, 5099) n",
    );
    const { proof } = await pair.run(line);
    expect(proof).toMatchObject({ verdict: "proved", without: "5000" });
    expect(proof.sourceSql.length).toBeLessThan(5000);
    expect(JSON.stringify(proof).length).toBeLessThan(20_000);
  });
});

test("values of a megabyte are shown cut, with their length told", async () => {
  await clear();
  await pair.atSource(
    "DROP TABLE IF EXISTS big; CREATE TABLE big (id int PRIMARY KEY, v text); INSERT INTO big SELECT n, repeat('é', 1000000) || n FROM generate_series(1, 5) n",
  );
  const big: Load = {
    from: { connection: "source", table: "public.big" },
    into: { table: "landing.big", mode: "upsert", key: ["id"] },
  };
  await pair.run(big);
  await pair.atWarehouse("UPDATE landing.big SET v = v || '!'");
  const { rows } = await pair.prove(big);
  expect(rows).toMatchObject({ different: 5 });
  expect(rows?.rows[0]?.source?.[1]).toMatch(/… \(1000001 characters\)$/);
  expect(JSON.stringify(rows).length).toBeLessThan(60_000);
});

test("keys are one where the database calls them equal: none of them is swept", async () => {
  await clear();
  await pair.atSource(
    "DROP TABLE IF EXISTS num; CREATE TABLE num (k numeric PRIMARY KEY, f float8 NOT NULL, i interval NOT NULL); INSERT INTO num VALUES (1.0, 0, '1 mon'), (2, 1, '1 day'), (-5, 2, '2 days'), (5, 3, '3 days')",
  );
  for (const key of [["k"], ["f"], ["i"]]) {
    await clear();
    const num: Load = {
      from: { connection: "source", query: "SELECT k, f, i FROM num" },
      into: { table: "landing.num", mode: "upsert", key, deleted: "remove" },
    };
    await pair.run(num);
    await pair.atSource("UPDATE num SET k = 1.00, f = '-0', i = '30 days' WHERE k = 1");
    const run = await pair.run(num);
    expect(run.tally, key.join()).toMatchObject({ changed: "1", same: "3", new: "0", deleted: "0" });
    expect(run.proof.verdict).toBe("proved");
    await pair.atSource("DELETE FROM num WHERE k = -5");
    expect((await pair.run(num)).tally, key.join()).toMatchObject({ deleted: "1" });
    await pair.atSource(
      "UPDATE num SET k = 1.0, f = 0, i = '1 mon' WHERE k = 1; INSERT INTO num VALUES (-5, 2, '2 days')",
    );
  }
});

describe("slices", () => {
  test("find their own rows in every zone, also where the clock shows a time twice or never", {
    timeout: 120_000,
  }, async () => {
    const zones = (
      await pair.atSource(
        "SELECT name FROM pg_timezone_names WHERE name ~ '^(America|Europe|Asia|Australia|Pacific|Atlantic|Africa|Antarctica)/' ORDER BY md5(name) LIMIT 50",
      )
    ).map((row) => row.name ?? "");
    const { inSlices, sliceStart } = await import("@undercoat/core/sql/slice");
    await pair.atSource(
      "DROP TABLE IF EXISTS tick; CREATE TABLE tick AS SELECT t AS at FROM (SELECT generate_series(timestamptz '2026-10-24', '2026-11-03', '30 minutes') UNION ALL SELECT generate_series(timestamptz '2026-03-07', '2026-03-30', '30 minutes') UNION ALL SELECT generate_series(timestamptz '2011-12-29', '2012-01-01', '30 minutes')) x(t)",
    );
    for (const zone of [
      ...new Set([
        ...zones,
        "America/New_York",
        "Atlantic/Azores",
        "Pacific/Apia",
        "Australia/Lord_Howe",
        "America/Sao_Paulo",
      ]),
    ])
      for (const unit of ["hour", "day"] as const) {
        const slicing = { column: "at", type: "timestamp with time zone", unit, zone };
        const groups = await pair.atSource(
          `SELECT (${sliceStart(slicing)})::text AS slice, count(*)::text AS n FROM tick GROUP BY 1 ORDER BY count(*) = ${unit === "hour" ? 2 : 48}, 1 LIMIT 40`,
        );
        const counts = groups.map(
          ({ slice }) => `(SELECT count(*) FROM tick WHERE ${inSlices(slicing, [slice ?? null])})`,
        );
        const [{ told } = {}] = await pair.atSource(`SELECT ARRAY[${counts.join(", ")}]::text AS told`);
        expect(told, `${zone} by ${unit}`).toBe(`{${groups.map((group) => group.n).join(",")}}`);
        const [{ all } = {}] = await pair.atSource(
          `SELECT count(*)::text AS all FROM tick WHERE ${inSlices(
            slicing,
            groups.map((group) => group.slice ?? null),
          )}`,
        );
        expect(all).toBe(String(groups.reduce((sum, group) => sum + Number(group.n), 0)));
      }
  });

  test.each(["day", "week", "month", "year"] as const)(
    "by %s hold dates at the edges of the calendar",
    async (slice) => {
      await clear();
      await pair.atSource(
        "DROP TABLE IF EXISTS edge; CREATE TABLE edge (id int PRIMARY KEY, d date); INSERT INTO edge VALUES (1, '300000-01-01'), (2, 'infinity'), (3, '-infinity'), (4, '0044-03-15 BC'), (5, NULL), (6, '2026-11-20'), (7, '5874897-12-31')",
      );
      const edge: Load = {
        from: { connection: "source", table: "public.edge" },
        into: { table: "landing.edge", mode: "upsert", key: ["id"] },
        proof: { by: { column: "d", slice }, figures: ["rows", "max(d)"] },
      };
      const run = await pair.run(edge);
      expect(run.proof).toMatchObject({ verdict: "proved", slices: { length: 7 } });
      await pair.atWarehouse("DELETE FROM landing.edge WHERE id <> 6");
      for (const { slice: name } of run.proof.slices) {
        if (name?.startsWith("2026")) continue;
        expect((await pair.run(edge, { scope: { kind: "slice", slice: name } })).tally, String(name)).toMatchObject({
          read: "1",
          new: "1",
        });
      }
      expect(await found(edge)).toEqual(same);
    },
  );
});
