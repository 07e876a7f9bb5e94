import type { Load } from "@undercoat/core/pipeline/pipeline";
import { balances } from "@undercoat/core/run/run";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { makePair, type Pair } from "./pair.ts";

let pair: Pair;
beforeAll(async () => {
  pair = await makePair("load");
});
afterAll(() => pair.close());

const upsert: Load = {
  from: { connection: "source", table: "public.trip" },
  watermark: { column: "updated_at", lookBack: "PT10M" },
  into: { table: "landing.trip", mode: "upsert", key: ["id"] },
  proof: { by: { column: "day", slice: "day" }, figures: ["rows", "sum(fare)", "max(updated_at)"] },
};

const target = async () =>
  (await pair.atWarehouse("SELECT t::text AS row FROM landing.trip t ORDER BY 1")).map((row) => row.row);
const origin = async () => (await pair.atSource("SELECT t::text AS row FROM trip t ORDER BY 1")).map((row) => row.row);

describe("an upsert by watermark", () => {
  beforeEach(async () => {
    await pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
    await pair.atSource(`DROP TABLE IF EXISTS trip;
      CREATE TABLE trip (id bigint PRIMARY KEY, day date, fare numeric(12,2), note text, updated_at timestamptz);
      INSERT INTO trip SELECT n, date '2026-11-01' + n % 20, n * 1.25, 'trip ' || n, timestamptz '2026-11-20 06:00+00' + n * interval '1 second' FROM generate_series(1, 1000) n`);
  });

  test("loads all first, then only what passed the watermark, and proves both", async () => {
    const first = await pair.run(upsert);
    expect(first.tally).toEqual({ read: "1000", new: "1000", changed: "0", same: "0", rejected: "0", deleted: "0" });
    expect(first.watermark).toBe("2026-11-20 06:16:40+00");
    expect(first.proof).toMatchObject({ verdict: "proved", whole: true });
    expect(first.proof.slices).toHaveLength(20);
    await pair.atSource(
      "UPDATE trip SET fare = 99, updated_at = '2026-11-20 07:00+00' WHERE id IN (3, 4); INSERT INTO trip VALUES (1001, '2026-11-21', 5, 'new', '2026-11-20 07:00+00')",
    );
    const second = await pair.run(upsert);
    // 600 seconds of look-back read 601 rows again.
    expect(second.tally).toEqual({ read: "604", new: "1", changed: "2", same: "601", rejected: "0", deleted: "0" });
    expect(balances(second.tally)).toBe(true);
    expect(second.proof.verdict).toBe("proved");
    expect(await target()).toEqual(await origin());
  });

  test("does not rewrite rows that are the same", async () => {
    await pair.run(upsert);
    const before = await pair.atWarehouse("SELECT id, ctid, xmin FROM landing.trip ORDER BY id");
    const again = await pair.run(upsert);
    expect(again.tally).toMatchObject({ new: "0", changed: "0", same: "601" });
    expect(await pair.atWarehouse("SELECT id, ctid, xmin FROM landing.trip ORDER BY id")).toEqual(before);
  });

  test("loses and doubles nothing at ties of the watermark", async () => {
    const tied: Load = { ...upsert, watermark: { column: "updated_at" } };
    await pair.atSource("UPDATE trip SET updated_at = '2026-11-20 08:00:00.000001+00'");
    await pair.run(tied);
    await pair.atSource(
      "INSERT INTO trip VALUES (2000, '2026-11-22', 1, 'same moment', '2026-11-20 08:00:00.000001+00')",
    );
    expect((await pair.run(tied)).tally).toMatchObject({ read: "1001", new: "1", same: "1000" });
    expect(await target()).toEqual(await origin());
  });

  test("reads rows committed late within the look-back, and proves that others are missing", async () => {
    await pair.run(upsert);
    await pair.atSource(
      "INSERT INTO trip VALUES (3001, '2026-11-05', 7, 'late', '2026-11-20 06:10+00'), (3002, '2026-11-05', 7, 'too late', '2026-11-20 05:00+00')",
    );
    const run = await pair.run(upsert);
    expect(run.tally.new).toBe("1");
    expect(run.proof.verdict).toBe("disagrees");
    expect(run.proof.slices.filter((slice) => slice.verdict === "disagrees").map((slice) => slice.slice)).toEqual([
      "2026-11-05",
    ]);
  });

  test("never loses rows without a watermark, and never lets a future or infinite one carry it away", async () => {
    await pair.atSource(
      "INSERT INTO trip VALUES (1, '2026-11-01', 1, 'x', NULL) ON CONFLICT (id) DO UPDATE SET updated_at = NULL; INSERT INTO trip VALUES (4001, NULL, 1, 'future', '2999-01-01'), (4002, NULL, 1, 'endless', 'infinity')",
    );
    const first = await pair.run(upsert);
    expect(new Date(first.watermark ?? "").getTime()).toBeLessThanOrEqual(Date.now() + 1000);
    await pair.atSource(
      "UPDATE trip SET note = 'changed' WHERE id = 1; INSERT INTO trip VALUES (4003, '2026-11-03', 2, 'now', now())",
    );
    expect((await pair.run(upsert)).tally).toMatchObject({ new: "1", changed: "1" });
    expect(await target()).toEqual(await origin());
  });

  test("keeps rows deleted at the source, and says so as rows only in the warehouse", async () => {
    await pair.run(upsert);
    await pair.atSource("DELETE FROM trip WHERE id IN (10, 11)");
    const { proof, rows } = await pair.prove(upsert);
    expect(proof.verdict).toBe("disagrees");
    expect(rows).toMatchObject({ missing: 0, extra: 2, different: 0, causes: [{ kind: "deleted", rows: 2 }] });
  });

  test("loads an earlier interval, one slice, or exact rows again without moving the watermark", async () => {
    const { watermark } = await pair.run(upsert);
    await pair.atSource("UPDATE trip SET fare = 0 WHERE id IN (5, 6, 25)");
    expect((await pair.run(upsert, { scope: { kind: "keys", keys: [["5"], ["999999"]] } })).tally).toMatchObject({
      read: "1",
      changed: "1",
    });
    expect((await pair.run(upsert, { scope: { kind: "slice", slice: "2026-11-06" } })).tally).toMatchObject({
      read: "50",
      changed: "1",
    });
    const interval = await pair.run(upsert, { scope: { kind: "interval", from: "2026-11-07", to: "2026-11-08" } });
    expect(interval.tally).toMatchObject({ read: "50", changed: "1" });
    expect(interval.proof.verdict).toBe("proved");
    const kept = await pair.atWarehouse("SELECT value FROM undercoat.watermark");
    expect(kept).toEqual([{ value: watermark }]);
  });

  test("reads the whole again when the load's definition changes, and adds a column it lacks", async () => {
    await pair.run({ ...upsert, columns: { id: "id", day: "day", fare: "fare", updated_at: "updated_at" } });
    const widened = await pair.run(upsert);
    expect(widened.tally).toMatchObject({ read: "1000", changed: "1000" });
    expect(await pair.atWarehouse("SELECT count(*)::text AS n FROM landing.trip WHERE note LIKE 'trip %'")).toEqual([
      { n: "1000" },
    ]);
  });

  test("of a large table proves the slices it touched, where a row came from included", async () => {
    await pair.run(upsert);
    await pair.atWarehouse(
      "UPDATE pg_class SET reltuples = 3000000 WHERE oid = 'landing.trip'::regclass; DELETE FROM landing.trip WHERE day = '2026-11-09'",
    );
    await pair.atSource(
      "UPDATE trip SET day = '2026-12-24', updated_at = '2026-11-20 09:00+00' WHERE id = 1; DELETE FROM trip WHERE updated_at > '2026-11-20 06:05+00' AND updated_at < '2026-11-20 09:00+00'",
    );
    const run = await pair.run(upsert);
    expect(run.tally).toMatchObject({ read: "1", changed: "1" });
    expect(run.proof.whole).toBe(false);
    // Row 1 left the second of November for Christmas Eve; the day that was emptied behind its back is not looked at.
    expect(run.proof.slices.map((slice) => slice.slice)).toEqual(["2026-11-02", "2026-12-24"]);
    expect((await pair.prove(upsert, false)).proof.slices.find((slice) => slice.slice === "2026-11-09")?.verdict).toBe(
      "disagrees",
    );
  });

  test("everything it wrote down is in the warehouse's own schema, and the stage is gone", async () => {
    const { tally } = await pair.run(upsert);
    expect(await pair.atWarehouse("SELECT read::text, new::text, watermark FROM undercoat.tally")).toEqual([
      { read: tally.read, new: tally.new, watermark: "2026-11-20 06:16:40+00" },
    ]);
    await pair.run(upsert);
    expect(await pair.atWarehouse("SELECT relname FROM pg_class WHERE relname LIKE 'stage%'")).toEqual([]);
  });
});

describe("append and replace", () => {
  beforeEach(async () => {
    await pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
    await pair.atSource(
      "DROP TABLE IF EXISTS scan; CREATE TABLE scan (gate int, at timestamptz NOT NULL, extra json); INSERT INTO scan SELECT n % 3, timestamptz '2026-11-20 06:00+00' + n / 2 * interval '1 minute', '{\"a\": 1}' FROM generate_series(0, 99) n",
    );
  });
  const append: Load = {
    from: { connection: "source", table: "public.scan" },
    watermark: { column: "at", lookBack: "PT1H" },
    into: { table: "landing.scan", mode: "append" },
  };
  const scans = (side: (sql: string) => Promise<unknown>, table: string) =>
    side(
      `SELECT gate::text, at::text, extra::text, count(*)::text AS n FROM ${table} GROUP BY 1, 2, 3 ORDER BY 1, 2, 3`,
    );

  test("without a key, rows are a multiset: read again they are not doubled, really double they are", async () => {
    await pair.atSource(
      "INSERT INTO scan VALUES (1, '2026-11-20 06:49:00+00', '{}'), (1, '2026-11-20 06:49:00+00', '{}')",
    );
    await pair.run(append);
    expect((await pair.run(append)).tally).toMatchObject({ new: "0", read: "102", same: "102" });
    await pair.atSource(
      "INSERT INTO scan VALUES (1, '2026-11-20 06:49:00+00', '{}'), (9, '2026-11-20 06:20:00+00', NULL)",
    );
    expect((await pair.run(append)).tally).toMatchObject({ new: "2" });
    expect(await scans(pair.atWarehouse, "landing.scan")).toEqual(await scans(pair.atSource, "scan"));
    expect((await pair.prove(append)).rows).toMatchObject({ missing: 0, extra: 0, different: 0 });
  });

  test("with a key, a changed row stays as it was and the proof says it differs", async () => {
    await pair.atSource(
      "DROP TABLE IF EXISTS entry; CREATE TABLE entry (id int PRIMARY KEY, amount numeric, at timestamptz); INSERT INTO entry SELECT n, n, '2026-11-20 06:00+00' FROM generate_series(1, 50) n",
    );
    const keyed: Load = {
      from: { connection: "source", table: "public.entry" },
      watermark: { column: "at" },
      into: { table: "landing.entry", mode: "append", key: ["id"] },
      proof: { figures: ["rows", "sum(amount)"] },
    };
    await pair.run(keyed);
    await pair.atSource(
      "UPDATE entry SET amount = 0.5 WHERE id = 7; INSERT INTO entry VALUES (51, 1, '2026-11-20 06:01+00')",
    );
    const run = await pair.run(keyed);
    expect(run.tally).toMatchObject({ read: "51", new: "1", changed: "0", same: "50" });
    expect(run.proof.verdict).toBe("disagrees");
    expect((await pair.prove(keyed)).rows?.rows).toMatchObject([{ key: ["7"], kind: "different", cells: [1] }]);
  });

  test("replace leaves exactly the source's rows, keeps grants and views, and never shows an empty table", async () => {
    const replace: Load = {
      from: { connection: "source", table: "public.scan" },
      into: { table: "landing.scan", mode: "replace" },
    };
    await pair.run(replace);
    await pair.atWarehouse(
      "CREATE VIEW landing.seen AS SELECT count(*) AS n FROM landing.scan; GRANT SELECT ON landing.scan TO PUBLIC",
    );
    await pair.atSource("DELETE FROM scan WHERE gate = 0; INSERT INTO scan VALUES (7, now(), NULL)");
    const run = await pair.run(replace);
    expect(run.tally).toEqual({ read: "67", new: "67", changed: "0", same: "0", rejected: "0", deleted: "100" });
    expect(run.proof.verdict).toBe("proved");
    expect(
      await pair.atWarehouse(
        "SELECT n::text, has_table_privilege('public', 'landing.scan', 'SELECT') AS granted FROM landing.seen",
      ),
    ).toEqual([{ n: "67", granted: "t" }]);
  });
});

describe("what is refused leaves nothing behind", () => {
  beforeEach(async () => {
    await pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
  });
  const nothing = async () =>
    expect(await pair.atWarehouse("SELECT to_regclass('landing.odd') IS NULL AS gone")).toEqual([{ gone: "t" }]);
  const odd = (query: string): Load => ({
    from: { connection: "source", query },
    into: { table: "landing.odd", mode: "upsert", key: ["id"] },
  });

  test("a key that does not tell rows apart, where the load is to stop at that", async () => {
    const strict = (query: string): Load => ({ ...odd(query), rejects: { duplicates: "stop" } });
    await expect(pair.run(strict("SELECT n % 5 AS id, n FROM generate_series(1, 20) n"))).rejects.toMatchObject({
      failure: { message: "id stands more than once in what was read (15), and the load stops at that" },
    });
    await nothing();
  });

  test("a null in the key, where no row may be rejected", async () => {
    const strict = (query: string): Load => ({ ...odd(query), rejects: { limit: 0 } });
    await expect(pair.run(strict("SELECT nullif(n, 3) AS id FROM generate_series(1, 5) n"))).rejects.toMatchObject({
      failure: { detail: "id is missing (1)" },
    });
    await nothing();
    await pair.run(strict("SELECT n AS id FROM generate_series(1, 5) n"));
    await expect(pair.run(strict("SELECT nullif(n, 3) AS id FROM generate_series(1, 5) n"))).rejects.toThrow(
      /1 rows would be rejected/,
    );
    expect(await pair.atWarehouse("SELECT count(*)::text AS n FROM landing.odd")).toEqual([{ n: "5" }]);
  });

  test("a target whose column would change the values", async () => {
    await pair.atWarehouse("CREATE SCHEMA landing; CREATE TABLE landing.odd (id int PRIMARY KEY, fare numeric(6,1))");
    await expect(pair.run(odd("SELECT 1 AS id, 1.25::numeric(12,2) AS fare"))).rejects.toThrow(
      /fare is numeric\(6,1\) there and numeric\(12,2\) in the load/,
    );
  });

  test("a target without a unique index on the key, or with a column nobody fills", async () => {
    await pair.atWarehouse("CREATE SCHEMA landing; CREATE TABLE landing.odd (id int)");
    await expect(pair.run(odd("SELECT 1 AS id"))).rejects.toThrow(/no unique index on id/);
    await pair.atWarehouse("DROP TABLE landing.odd; CREATE TABLE landing.odd (id int PRIMARY KEY, must text NOT NULL)");
    await expect(pair.run(odd("SELECT 1 AS id"))).rejects.toThrow(/needs a value for must/);
  });

  test("a query that fails half way, and a source that is not there", async () => {
    await expect(pair.run(odd("SELECT n AS id, 1 / (5000 - n) AS x FROM generate_series(1, 9000) n"))).rejects.toThrow(
      /division by zero/,
    );
    await nothing();
    await expect(pair.run({ ...odd(""), from: { connection: "source", table: "public.nowhere" } })).rejects.toThrow(
      /no table public.nowhere/,
    );
  });
});
