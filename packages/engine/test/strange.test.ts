import type { Load } from "@undercoat/core/pipeline/pipeline";
import { afterAll, beforeAll, describe, expect, test } from "vitest";
import { makePair, type Pair } from "./pair.ts";

let pair: Pair;
beforeAll(async () => {
  pair = await makePair("strange");
});
afterAll(() => pair.close());

const whole = (table: string, key: string[] | undefined, into = table): Load => ({
  from: { connection: "source", table },
  into: { table: into.replace(/^public/, "landing"), mode: key ? "upsert" : "replace", ...(key ? { key } : {}) },
});

describe("values arrive as they are", () => {
  const values: [string, string][] = [
    ["numeric", "'NaN', 'Infinity', '-Infinity', 0, 123456789012345678901234567890.0123456789, 1.50"],
    ["numeric(38,10)", "9999999999999999999999999999.9999999999, -0.0000000001"],
    ["double precision", "'NaN', 'Infinity', '-0', 0.1::float8 + 0.2::float8, 5e-324"],
    ["real", "'NaN', 16777217, 0.1"],
    ["bigint", "'9223372036854775807', '-9223372036854775808', 9007199254740993"],
    [
      "timestamptz",
      "'infinity', '-infinity', '2026-03-29 02:30:00+01', '0044-03-15 12:00:00+00 BC', '294276-12-31 23:59:59.999999+00', '2026-11-23 06:29:58.123456+00'",
    ],
    ["timestamp", "'2026-10-25 02:30:00.000001', '4713-01-01 00:00:00 BC'"],
    ["date", "'infinity', '0001-01-01 BC', '5874897-12-31'"],
    ["time", "'24:00:00', '00:00:00.000001'"],
    ["timetz", "'12:00:00+02', '12:00:00-03:30'"],
    ["interval", "'1 mon 1 day 00:00:00.000001', '-1 year', '24:00:00'"],
    ["text", "'', E'tab\\tnew\\nline\\\\back', E'\\\\N', 'O''Brien \"q\"', '🛳️ 王 é Å', repeat('long ', 200000)"],
    ["varchar(3)", "'', 'åäö'"],
    ["char(5)", "'a', 'abcde'"],
    ["bytea", "'\\x', '\\x00ff0a5c'"],
    ["boolean", "true, false"],
    ["uuid", "'00000000-0000-0000-0000-000000000000', gen_random_uuid()"],
    ["json", "'{\"b\": 1, \"a\":  [1, null]}', 'null', '\"x\"'"],
    ["jsonb", "'{\"b\": 1, \"a\": [1, null]}', 'null'"],
    ["inet", "'10.0.0.1/8', '::1'"],
    ["bit(3)", "B'101'"],
    ["bit varying", "B'', B'1010101'"],
    ["int4range", "'empty', '[1,10)', '(,5)'"],
    ["tstzrange", "'[2026-01-01, infinity)'"],
    ["int8multirange", "'{[1,3), [5,8)}'"],
    ["integer[]", "'{}', '{1,NULL,3}', '{{1,2},{3,4}}', '[0:1]={7,8}'"],
    ["text[]", '\'{"a,b",NULL,""}\''],
    ["mood", "'sad', 'happy 🙂'"],
    ["mood[]", "'{sad,\"happy 🙂\"}'"],
    ["pair_of", "ROW(1, 'a,\"b')"],
    ["positive", "1.25"],
    ["money", "'12.34', '-0.01'"],
    ["point", "'(1.5,2)'"],
    ["name", "'plain'"],
  ];
  beforeAll(async () => {
    await pair.atSource(
      `CREATE TYPE mood AS ENUM ('sad', 'happy 🙂'); CREATE TYPE pair_of AS (a int, b text); CREATE DOMAIN positive AS numeric(6,2) CHECK (value > 0)`,
    );
  });

  test.each(values)("%s", async (type, list) => {
    await pair.atSource(`DROP TABLE IF EXISTS v; CREATE TABLE v (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, value ${type}, twice text GENERATED ALWAYS AS ('generated') STORED);
      INSERT INTO v (value) SELECT unnest FROM (VALUES ${splitTop(list)
        .map((value) => `(${value}::${type})`)
        .join(", ")}, (NULL)) AS u(unnest)`);
    await pair.atWarehouse("DROP TABLE IF EXISTS landing.v");
    const load: Load = {
      from: { connection: "source", table: "public.v" },
      into: { table: "landing.v", mode: "upsert", key: ["id"] },
    };
    expect((await pair.run(load)).tally.new).toBe(String(splitTop(list).length + 1));
    const text = type === "money" ? "value::numeric::text" : "value::text";
    expect(await pair.atWarehouse("SELECT id, value::text AS value, twice FROM landing.v ORDER BY id")).toEqual(
      await pair.atSource(`SELECT id, ${text} AS value, twice FROM v ORDER BY id`),
    );
    // The same again through the stage: nothing differs from itself, and both sides' checksums agree.
    expect((await pair.run(load)).tally).toMatchObject({
      new: "0",
      changed: "0",
      same: String(splitTop(list).length + 1),
    });
    expect((await pair.prove(load)).rows).toMatchObject({ missing: 0, extra: 0, different: 0 });
  });
});

/** Splits `a, 'b, c', f(d, e)` at its top-level commas. */
function splitTop(list: string): string[] {
  const parts: string[] = [];
  let depth = 0;
  let quoted = false;
  let part = "";
  for (const character of list) {
    if (character === "'") quoted = !quoted;
    if (!quoted && "([".includes(character)) depth++;
    if (!quoted && ")]".includes(character)) depth--;
    if (character === "," && !quoted && depth === 0) {
      parts.push(part);
      part = "";
    } else part += character;
  }
  return [...parts, part].map((text) => text.trim());
}

describe("names", () => {
  test("quoted, reserved, longest, accented and differing only in case", async () => {
    const long = "l".repeat(63);
    await pair.atSource(`CREATE SCHEMA "Odd Schema"; CREATE TABLE "Odd Schema"."order.Table" ("select" int, "a""b" text, "A""b" text, "Ærlig 🛟" date, "${long}" timestamptz, PRIMARY KEY ("select"));
      INSERT INTO "Odd Schema"."order.Table" VALUES (1, 'x', 'y', '2026-11-20', now())`);
    const load: Load = {
      from: { connection: "source", table: '"Odd Schema"."order.Table"', where: '"select" > 0' },
      watermark: { column: long },
      into: { table: '"Land; DROP"."user"', mode: "upsert", key: ["select"] },
      proof: { by: { column: "Ærlig 🛟", slice: "month" }, figures: ["rows", 'max("a""b")', "min(select)"] },
    };
    await pair.run(load);
    await pair.atSource(`UPDATE "Odd Schema"."order.Table" SET "A""b" = 'z', "${long}" = now()`);
    expect((await pair.run(load)).tally).toMatchObject({ changed: "1" });
    expect((await pair.prove(load)).rows).toMatchObject({ missing: 0, extra: 0, different: 0 });
    expect(await pair.atWarehouse('SELECT "A""b" AS a FROM "Land; DROP"."user"')).toEqual([{ a: "z" }]);
  });

  test("300 columns", async () => {
    const names = Array.from({ length: 300 }, (_, at) => `column_${at}`);
    await pair.atSource(
      `CREATE TABLE wide (id int PRIMARY KEY, ${names.map((name) => `${name} text`).join(", ")}); INSERT INTO wide (id, column_299) SELECT n, 'v' || n FROM generate_series(1, 50) n`,
    );
    const load = whole("public.wide", ["id"]);
    await pair.run(load);
    await pair.atSource("UPDATE wide SET column_150 = 'changed' WHERE id = 9");
    const { rows } = await pair.prove(load);
    expect(rows?.rows.map((row) => [row.key, row.cells])).toEqual([[["9"], [151]]]);
    expect((await pair.run(load)).tally).toMatchObject({ changed: "1", same: "49" });
  });
});

describe("shapes of tables", () => {
  test("an empty table is made, proved and filled later", async () => {
    await pair.atSource("CREATE TABLE bare (id int PRIMARY KEY, at timestamptz)");
    const load: Load = { ...whole("public.bare", ["id"]), watermark: { column: "at" } };
    const first = await pair.run(load);
    expect(first).toMatchObject({ tally: { read: "0" }, watermark: null, proof: { verdict: "proved" } });
    await pair.atSource("INSERT INTO bare VALUES (1, '2026-11-20')");
    expect((await pair.run(load)).tally.new).toBe("1");
  });

  test("partitions, views, materialized views and composite keys", async () => {
    await pair.atSource(`CREATE TABLE parted (region text, no int, v numeric, PRIMARY KEY (region, no)) PARTITION BY LIST (region);
      CREATE TABLE parted_n PARTITION OF parted FOR VALUES IN ('north'); CREATE TABLE parted_s PARTITION OF parted FOR VALUES IN ('south');
      INSERT INTO parted SELECT CASE WHEN n % 2 = 0 THEN 'north' ELSE 'south' END, n, n FROM generate_series(1, 3000) n;
      CREATE VIEW seen AS SELECT region, no, v * 2 AS v FROM parted; CREATE MATERIALIZED VIEW kept AS SELECT * FROM seen`);
    for (const table of ["public.parted", "public.seen", "public.kept"]) {
      const load = { ...whole(table, ["region", "no"]), proof: { figures: ["rows", "sum(v)"] } };
      expect((await pair.run(load)).tally.new).toBe("3000");
      await pair.atWarehouse(
        `UPDATE ${load.into.table} SET v = v + 1 WHERE no = 1234; DELETE FROM ${load.into.table} WHERE no = 77`,
      );
      expect((await pair.prove(load)).rows?.rows.map(({ key, kind }) => `${key.join("/")} ${kind}`).sort()).toEqual([
        "north/1234 different",
        "south/77 missing",
      ]);
    }
  });
});
