import type { Load } from "@undercoat/core/pipeline/pipeline";
import { balances } from "@undercoat/core/run/run";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { makePair, type Pair } from "./pair.ts";

let pair: Pair;
beforeAll(async () => {
  pair = await makePair("shape");
});
afterAll(() => pair.close());
beforeEach(() => pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE"));

const rejected = async () =>
  (
    await pair.atWarehouse(
      "SELECT code, col, message, key::text FROM undercoat.rejected WHERE left_run IS NULL ORDER BY id",
    )
  ).map(({ code, col, message, key }) => ({ code, col, message, key }));

const trip: Load = {
  from: { connection: "source", table: "public.trip" },
  watermark: { column: "updated_at", lookBack: "PT10M" },
  columns: {
    id: "id",
    lead: "concat_ws(' ', btrim(first_name), last_name)",
    fare: { as: "fare_cents / 100.0", type: "numeric(8,2)" },
    paid: { as: "paid", type: "numeric(8,2)" },
    sailed: { as: "sailed", type: "date" },
    status: { as: "status", type: "varchar(8)" },
  },
  into: { table: "landing.trip", mode: "upsert", key: ["id"] },
  proof: { by: { column: "sailed", slice: "day" }, figures: ["rows", "sum(fare)", "sum(paid)"] },
};

async function trips(rows: number): Promise<void> {
  await pair.atSource(`DROP TABLE IF EXISTS trip;
    CREATE TYPE pg_temp.dummy AS (a int); DROP TYPE pg_temp.dummy;
    CREATE TABLE trip (id bigint PRIMARY KEY, first_name text, last_name text, fare_cents int, paid text, sailed text, status text, updated_at timestamptz);
    INSERT INTO trip SELECT n, ' Ines ', 'Okafor ' || n, n * 125, (n * 1.25)::text, (date '2026-11-01' + n % 20)::text, 'paid', timestamptz '2026-11-20 06:00+00' + n * interval '1 second' FROM generate_series(1, ${rows}) n`);
}

describe("a shape", () => {
  test("computes, converts and proves against the source", async () => {
    await trips(1000);
    const first = await pair.run(trip);
    expect(first.tally).toEqual({ read: "1000", new: "1000", changed: "0", same: "0", rejected: "0", deleted: "0" });
    expect(first.proof).toMatchObject({ verdict: "proved", whole: true });
    expect(await pair.atWarehouse("SELECT * FROM landing.trip WHERE id = 3")).toEqual([
      { id: "3", lead: "Ines Okafor 3", fare: "3.75", paid: "3.75", sailed: "2026-11-04", status: "paid" },
    ]);
    const types = await pair.atWarehouse(
      "SELECT attname, format_type(atttypid, atttypmod) AS type FROM pg_attribute WHERE attrelid = 'landing.trip'::regclass AND attnum > 0 ORDER BY attnum",
    );
    expect(types.map((row) => row.type)).toEqual([
      "bigint",
      "text",
      "numeric(8,2)",
      "numeric(8,2)",
      "date",
      "character varying(8)",
    ]);
    await pair.atSource("UPDATE trip SET paid = '99', updated_at = '2026-11-20 07:00+00' WHERE id = 4");
    const second = await pair.run(trip);
    expect(second.tally).toMatchObject({ changed: "1", new: "0", rejected: "0" });
    expect(second.proof.verdict).toBe("proved");
    expect((await pair.prove(trip)).rows).toMatchObject({ missing: 0, extra: 0, different: 0 });
  });

  test("turns away each row whose value does not fit, says why, and proves the rest", async () => {
    await trips(1000);
    await pair.atSource(`UPDATE trip SET paid = 'n/a' WHERE id = 10; UPDATE trip SET paid = '1234567.00' WHERE id = 20; UPDATE trip SET paid = '1.005' WHERE id = 30;
      UPDATE trip SET sailed = '2026-02-30' WHERE id = 40; UPDATE trip SET sailed = '2026-11-03 10:00' WHERE id = 45; UPDATE trip SET status = 'far too long' WHERE id = 50; UPDATE trip SET fare_cents = 2147483647 WHERE id = 60`);
    const run = await pair.run(trip);
    expect(run.tally).toEqual({ read: "1000", new: "993", changed: "0", same: "0", rejected: "7", deleted: "0" });
    expect(await rejected()).toEqual(
      expect.arrayContaining([
        { code: "type", col: "paid", message: 'paid is not a number: "n/a"', key: "{10}" },
        { code: "range", col: "paid", message: 'paid is out of range: "1234567.00"', key: "{20}" },
        { code: "type", col: "paid", message: 'paid is not a number: "1.005"', key: "{30}" },
        { code: "range", col: "sailed", message: 'sailed is not a date that exists: "2026-02-30"', key: "{40}" },
        { code: "type", col: "sailed", message: 'sailed is not a date: "2026-11-03 10:00"', key: "{45}" },
        { code: "length", col: "status", message: 'status is longer than 8 characters: "far too long"', key: "{50}" },
        {
          code: "range",
          col: "fare",
          message: 'fare does not fit into numeric(8,2): "21474836.470000000000"',
          key: "{60}",
        },
      ]),
    );
    expect(run.proof).toMatchObject({ verdict: "proved", without: "7" });
    expect(run.proof.figures[0]).toEqual({ figure: "rows", source: "993", warehouse: "993" });
    expect(run.findings.reasons.map((reason) => `${reason.reason} ${reason.rows}`)).toContain("paid is not a number 2");
    const [kept] = await pair.atWarehouse(
      "SELECT original->>'paid' AS paid, original->>'last_name' AS name FROM undercoat.rejected WHERE key = '{10}'",
    );
    expect(kept).toEqual({ paid: "n/a", name: "Okafor 10" });
    expect((await pair.prove(trip)).proof.verdict).toBe("proved");
  });

  test("takes unusual spellings that do mean the value", async () => {
    await trips(4);
    await pair.atSource(
      "UPDATE trip SET paid = ' 1e2 ', sailed = '20261130' WHERE id = 1; UPDATE trip SET paid = NULL, sailed = '2026-11-30' WHERE id = 2; UPDATE trip SET paid = 'NaN', sailed = 'infinity' WHERE id = 3",
    );
    const run = await pair.run(trip);
    expect(run.tally).toMatchObject({ new: "4", rejected: "0" });
    expect(await pair.atWarehouse("SELECT paid, sailed FROM landing.trip ORDER BY id LIMIT 3")).toEqual([
      { paid: "100.00", sailed: "2026-11-30" },
      { paid: null, sailed: "2026-11-30" },
      { paid: "NaN", sailed: "infinity" },
    ]);
    expect(run.proof.verdict).toBe("proved");
  });

  test("a null that the target takes none of is that row's rejection, in a load without any shape too", async () => {
    await trips(20);
    await pair.atWarehouse(
      "CREATE SCHEMA landing; CREATE TABLE landing.plain (id bigint PRIMARY KEY, first_name text, last_name text NOT NULL, fare_cents int, paid text, sailed text, status text, updated_at timestamptz)",
    );
    await pair.atSource("UPDATE trip SET last_name = NULL WHERE id IN (3, 4)");
    const plain: Load = {
      from: trip.from,
      into: { table: "landing.plain", mode: "upsert", key: ["id"] },
      proof: { figures: ["rows", "count(last_name)"] },
    };
    const run = await pair.run(plain);
    expect(run.tally).toMatchObject({ read: "20", new: "18", rejected: "2" });
    expect(run.findings.reasons).toMatchObject([{ code: "missing", reason: "last_name is missing", rows: "2" }]);
    expect(run.proof.verdict).toBe("proved");
  });

  test("a stated type may be another than the target's only where the target holds it", async () => {
    await trips(3);
    await pair.atWarehouse(
      "CREATE SCHEMA landing; CREATE TABLE landing.trip (id bigint PRIMARY KEY, fare numeric(4,1))",
    );
    const narrow = (type: string): Load => ({
      from: trip.from,
      columns: { id: "id", fare: { as: "fare_cents / 100.0", type } },
      into: { table: "landing.trip", mode: "upsert", key: ["id"] },
      proof: { figures: ["rows"] },
    });
    await expect(pair.run(narrow("numeric(8,2)"))).rejects.toMatchObject({
      failure: { message: "landing.trip can't take the rows: fare is numeric(4,1) there and numeric(8,2) in the load" },
    });
    const run = await pair.run(narrow("numeric(4,1)"));
    expect(run.tally).toMatchObject({ read: "3", new: "1", rejected: "2" });
    expect(run.findings.reasons).toMatchObject([{ code: "range", reason: "fare does not fit into numeric(4,1)" }]);
  });

  test("a slice is loaded again though other rows' values don't fit the column it is cut by", async () => {
    await trips(40);
    await pair.atSource("UPDATE trip SET sailed = 'unknown' WHERE id = 5; UPDATE trip SET paid = 'n/a' WHERE id = 6");
    expect((await pair.run(trip)).tally).toMatchObject({ new: "38", rejected: "2" });
    await pair.atSource("UPDATE trip SET paid = '500' WHERE id IN (3, 23)");
    // Ids 3 and 23 sail that day; the row whose day can't be told is tried again with them.
    const slice = await pair.run(trip, { scope: { kind: "slice", slice: "2026-11-04" } });
    expect(slice.tally).toMatchObject({ read: "3", changed: "2", rejected: "1" });
    expect(slice.proof.verdict).toBe("proved");
    const interval = await pair.run(trip, { scope: { kind: "interval", from: "2026-11-01", to: "2026-11-03" } });
    expect(interval.tally).toMatchObject({ rejected: "1", changed: "0" });
  });

  test("an expression that fails on some rows turns away those only", async () => {
    await trips(500);
    await pair.atSource("UPDATE trip SET fare_cents = 0 WHERE id % 100 = 0; UPDATE trip SET paid = 'x' WHERE id = 1");
    const dividing: Load = {
      ...trip,
      columns: { ...trip.columns, share: "100 / fare_cents", day: "to_date(sailed, 'YYYY-MM-DD')" },
    };
    const run = await pair.run(dividing);
    expect(run.tally).toMatchObject({ read: "500", new: "494", rejected: "6" });
    expect(run.findings.reasons.map((reason) => reason.reason)).toEqual([
      "share can't be computed: division by zero",
      "paid is not a number",
    ]);
    expect(run.proof.verdict).toBe("proved");
    // A row that no run has read leaves the proof open rather than failing the load.
    await pair.atSource("UPDATE trip SET paid = 'not read yet' WHERE id = 2");
    const next = await pair.run({ ...dividing, watermark: { column: "updated_at" } });
    expect(next.tally).toMatchObject({ read: "1" });
    expect(next.proof).toMatchObject({ verdict: "unproved", trouble: expect.stringMatching(/not read yet/) });
  });

  test("takes any text and any name in an expression for what it is", async () => {
    await pair.atSource(
      `DROP TABLE IF EXISTS odd; CREATE TABLE odd (id int PRIMARY KEY, "it's $fault$" text, "place" text, "s" text, "step" int); INSERT INTO odd VALUES (1, '1', 'a', 'b', 0), (2, 'x', 'c', 'd', 1)`,
    );
    const odd: Load = {
      from: { connection: "source", table: "public.odd" },
      columns: {
        id: "id",
        "n'$breach$": { as: `"it's $fault$"`, type: "integer" },
        text: `'$fault$; DROP TABLE landing.odd; --' || place || E'\\n''' || "s"`,
        share: "10 / step",
      },
      rules: { "it's $breach$": "text <> '$breach$' AND share / 1 > 0", "divides '": "10 / (share - 9) < 100" },
      into: { table: "landing.odd", mode: "upsert", key: ["id"] },
    };
    const run = await pair.run(odd);
    expect(run.tally).toMatchObject({ read: "2", rejected: "2", new: "0" });
    await pair.atSource(`UPDATE odd SET "it's $fault$" = '7'`);
    const next = await pair.run(odd, { scope: { kind: "rejected", ids: null } });
    expect(next.tally).toMatchObject({ read: "2", rejected: "1", new: "1" });
    expect(await pair.atWarehouse(`SELECT id, "n'$breach$" AS n, text, share FROM landing.odd`)).toEqual([
      { id: "2", n: "7", text: "$fault$; DROP TABLE landing.odd; --c\n'd", share: "10" },
    ]);
    expect(next.proof.verdict).toBe("proved");
  });

  test("a null where none may be, and several rows of one key, are rejections", async () => {
    await pair.atSource(`DROP TABLE IF EXISTS loose; CREATE TABLE loose (code text, name text, at timestamptz);
      INSERT INTO loose VALUES ('a', 'old', '2026-11-01'), ('a', 'new', '2026-11-02'), ('b', 'only', '2026-11-01'), (NULL, 'nobody', '2026-11-01'), ('c', 'twin', NULL), ('c', 'twin', NULL)`);
    const loose: Load = {
      from: { connection: "source", table: "public.loose" },
      watermark: { column: "at" },
      into: { table: "landing.loose", mode: "upsert", key: ["code"] },
      proof: { figures: ["rows", "count(name)"] },
    };
    const run = await pair.run(loose);
    expect(run.tally).toMatchObject({ read: "6", new: "3", rejected: "3" });
    expect(await pair.atWarehouse("SELECT code, name FROM landing.loose ORDER BY 1")).toEqual([
      { code: "a", name: "new" },
      { code: "b", name: "only" },
      { code: "c", name: "twin" },
    ]);
    expect((await rejected()).map((row) => row.message).sort()).toEqual([
      "code is missing",
      'code stands more than once in what was read: "a"',
      'code stands more than once in what was read: "c"',
    ]);
    expect(run.proof).toMatchObject({
      verdict: "proved",
      figures: [
        { figure: "rows", source: "3", warehouse: "3" },
        { figure: "count(name)", source: "3", warehouse: "3" },
      ],
    });
    expect((await pair.prove(loose)).proof.verdict).toBe("proved");
    await expect(pair.run({ ...loose, rejects: { duplicates: "stop" } })).rejects.toMatchObject({
      failure: { message: expect.stringMatching(/the load stops at that/) },
    });
    // The same through a shape, where the key is computed.
    await pair.atWarehouse("DROP TABLE landing.loose");
    const shaped = await pair.run({ ...loose, columns: { code: "upper(code)", name: "name" } });
    expect(shaped.tally).toMatchObject({ read: "6", new: "3", rejected: "3" });
    expect(shaped.proof.verdict).toBe("proved");
  });
});

describe("rules", () => {
  const ruled = (rules: Load["rules"], more: Partial<Load> = {}): Load => ({ ...trip, rules, ...more });

  test("pass, reject, count and stop; null is the rule's choice", async () => {
    await trips(100);
    await pair.atSource(
      "UPDATE trip SET fare_cents = -100 WHERE id IN (1, 2, 3); UPDATE trip SET fare_cents = NULL WHERE id = 4",
    );
    const run = await pair.run(
      ruled({
        "fare is not negative": "fare >= 0",
        "fare is small": { check: "fare < 100", null: "pass", breach: "count" },
      }),
    );
    expect(run.tally).toMatchObject({ read: "100", new: "96", rejected: "4" });
    expect((await rejected())[0]).toMatchObject({
      code: "rule",
      message: "breaks the rule “fare is not negative”",
      key: "{1}",
    });
    expect(run.findings.counted).toEqual([{ rule: "fare is small", rows: "21" }]);
    expect(run.proof.verdict).toBe("proved");
    await pair.atWarehouse("DROP TABLE landing.trip");
    expect((await pair.run(ruled({ a: { check: "fare >= 0", null: "pass" } }))).tally).toMatchObject({ rejected: "3" });
    await expect(
      pair.run(ruled({ a: { check: "fare >= 0", breach: "stop" } }, { from: { ...trip.from, where: "id < 50" } })),
    ).rejects.toMatchObject({
      failure: { message: expect.stringMatching(/breaks the rule “a” \(4\), and the load stops/) },
    });
  });

  test("hold from a date on, and look values up in the warehouse", async () => {
    await trips(100);
    await pair.atWarehouse(
      "CREATE SCHEMA IF NOT EXISTS lookup; DROP TABLE IF EXISTS lookup.status; CREATE TABLE lookup.status (code text); INSERT INTO lookup.status VALUES ('paid')",
    );
    await pair.atSource("UPDATE trip SET status = 'lost' WHERE id IN (5, 6)");
    const run = await pair.run(
      ruled({
        known: "status IN (SELECT code FROM lookup.status)",
        late: { check: "fare < 0", from: "2026-11-20", of: "sailed" },
        never: { check: "false", from: "2999-01-01" },
      }),
    );
    expect(run.findings.reasons).toMatchObject([
      { reason: "breaks the rule “late”", rows: "5" },
      { reason: "breaks the rule “known”", rows: "2" },
    ]);
  });

  test("that fail on a row turn that row away", async () => {
    await trips(100);
    await pair.atSource("UPDATE trip SET fare_cents = 0 WHERE id = 7");
    const run = await pair.run(ruled({ share: "100 / fare < 1000" }));
    expect(run.tally).toMatchObject({ rejected: "1", new: "99" });
    expect((await rejected())[0]?.message).toBe("the rule “share” can't be decided: division by zero");
  });

  test.each([
    [{ limit: 2 }, /3 rows would be rejected; the load allows 2/],
    [{ limit: 0 }, /3 rows would be rejected; the load allows 0/],
    [{ limit: "2.9%" }, /3 of 100 rows would be rejected; the load allows 2.9 %/],
    [{ breach: "stop" as const }, /the load stops at that/],
  ])("fail the load beyond a limit of %j and write nothing", async (rejects, message) => {
    await trips(100);
    await pair.atSource("UPDATE trip SET fare_cents = -1 WHERE id <= 3");
    const load = ruled({ positive: "fare >= 0" });
    await expect(pair.run({ ...load, rejects })).rejects.toMatchObject({
      failure: { message: expect.stringMatching(message) },
    });
    expect(await pair.atWarehouse("SELECT to_regclass('landing.trip') AS made")).toEqual([{ made: null }]);
    expect(await pair.atWarehouse("SELECT count(*)::text AS n FROM undercoat.rejected")).toEqual([{ n: "0" }]);
    expect((await pair.run({ ...load, rejects: { limit: "3%" } })).tally.rejected).toBe("3");
  });

  test.each([
    [{ columns: { id: "id", a: "nope + 1" } }, /no column nope/],
    [{ columns: { id: "id", a: "upper(fare_cents)" } }, /function upper\(integer\) does not exist/],
    [{ columns: { id: "id", a: "(SELECT 1)" } }, /subquery/],
    [{ columns: { id: "id" }, rules: { r: "fare > 1" } }, /names fare, which is not a column of the load/],
    [{ columns: { id: "id" }, rules: { r: "id + 1" } }, /argument of|true or false/],
    [{ columns: { id: "id" }, rules: { r: "id IN (SELECT x FROM nowhere.y)" } }, /nowhere/],
  ])("that can't be used are refused: %j", async (change, message) => {
    await trips(1);
    await expect(pair.run({ ...trip, proof: { figures: ["rows"] }, ...change })).rejects.toThrow(message);
  });
});

describe("the list of rejected rows", () => {
  const anyTrip = trip;

  test("is left by rows that pass later, and both runs' tallies stay true", async () => {
    await trips(100);
    await pair.atSource("UPDATE trip SET paid = 'n/a' WHERE id IN (1, 2, 3)");
    // Rejected rows that are tried again are no breach of the limit, however many of them fail again.
    const trip: Load = { ...anyTrip, rejects: { limit: "5%" } };
    const first = await pair.run(trip);
    expect(first.tally.rejected).toBe("3");
    // Mended at the source, with a watermark that moves: the next run reads it.
    await pair.atSource("UPDATE trip SET paid = '5', updated_at = '2026-11-20 09:00+00' WHERE id = 1");
    const second = await pair.run(trip);
    // The look-back reads the other two again; they stand on the list once.
    expect(second.tally).toMatchObject({ new: "1", rejected: "2" });
    expect((await rejected()).map((row) => row.key)).toEqual(["{2}", "{3}"]);
    // Mended without a trace: loaded again from the list.
    await pair.atSource("UPDATE trip SET paid = '7' WHERE id = 2");
    const again = await pair.run(trip, { scope: { kind: "rejected", ids: null } });
    expect(again.tally).toEqual({ read: "2", new: "1", changed: "0", same: "0", rejected: "1", deleted: "0" });
    expect((await rejected()).map((row) => row.key)).toEqual(["{3}"]);
    expect([first, second, again].every((run) => balances(run.tally))).toBe(true);
    expect(again.proof.verdict).toBe("proved");
    // Mended by another shape.
    const defaulted: Load = {
      ...trip,
      columns: { ...trip.columns, paid: { as: "nullif(paid, 'n/a')", type: "numeric(8,2)" } },
    };
    expect((await pair.run(defaulted, { scope: { kind: "rejected", ids: null } })).tally).toMatchObject({
      read: "1",
      new: "1",
      rejected: "0",
    });
    expect(await rejected()).toEqual([]);
    await expect(pair.run(trip, { scope: { kind: "rejected", ids: null } })).rejects.toMatchObject({
      failure: { message: expect.stringMatching(/on the list any more/) },
    });
  });

  test("an older version of a rejected row stays in the warehouse and out of the proof", async () => {
    await trips(50);
    await pair.run(trip);
    await pair.atSource("UPDATE trip SET paid = 'broken', updated_at = '2026-11-20 08:00+00' WHERE id = 7");
    const run = await pair.run(trip);
    expect(run.tally).toMatchObject({ rejected: "1", changed: "0" });
    expect(run.proof).toMatchObject({
      verdict: "proved",
      figures: [{ figure: "rows", source: "49", warehouse: "49" }, {}, {}],
    });
    expect(await pair.atWarehouse("SELECT paid FROM landing.trip WHERE id = 7")).toEqual([{ paid: "8.75" }]);
  });

  test("keeps values up to its limit and counts the rest", async () => {
    await trips(60);
    await pair.atSource("UPDATE trip SET paid = 'bad'");
    expect((await pair.run({ ...trip, rejects: { keep: 10 } })).tally).toMatchObject({
      read: "60",
      rejected: "60",
      new: "0",
    });
    expect(
      await pair.atWarehouse("SELECT count(*)::text AS rows, count(original)::text AS kept FROM undercoat.rejected"),
    ).toEqual([{ rows: "60", kept: "10" }]);
  });
});

test("a null is no misfit, also in a row that is looked at for another column's sake", async () => {
  const types = ["numeric(12,2)", "real", "bigint", "date", "timestamp with time zone", "boolean", "jsonb", "interval"];
  const names = types.map((_, at) => `c${at}`);
  await pair.atSource(
    `DROP TABLE IF EXISTS bare; CREATE TABLE bare (id int PRIMARY KEY, odd text, ${names.map((name) => `${name} text`).join(", ")}); INSERT INTO bare (id, odd) VALUES (1, '7'), (2, ' 7 ')`,
  );
  const { tally } = await pair.run({
    from: { connection: "source", table: "public.bare" },
    columns: {
      id: "id",
      odd: { as: "odd", type: "integer" },
      ...Object.fromEntries(names.map((name, at) => [name, { as: name, type: types[at] ?? "" }])),
    },
    into: { table: "landing.bare", mode: "upsert", key: ["id"] },
  });
  expect(tally).toMatchObject({ new: "2", rejected: "0" });
});
