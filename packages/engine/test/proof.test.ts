import type { Load } from "@undercoat/core/pipeline/pipeline";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { makePair, type Pair } from "./pair.ts";

let pair: Pair;
const load: Load = {
  from: { connection: "source", table: "public.payment" },
  into: { table: "landing.payment", mode: "upsert", key: ["id"] },
  proof: { by: { column: "paid_at", slice: "day", zone: "Europe/Oslo" }, figures: ["rows", "sum(amount)"] },
};

beforeAll(async () => {
  pair = await makePair("proof");
  await pair.atSource(`CREATE TABLE payment (id bigint PRIMARY KEY, amount numeric(12,2), ratio float8, note text, paid_at timestamptz, big bigint);
    INSERT INTO payment SELECT n, n * 1.5, n / 10.0, CASE n % 4 WHEN 0 THEN NULL WHEN 1 THEN '' ELSE 'note ' || n END, timestamptz '2026-11-01 00:00+00' + n * interval '90 seconds', n FROM generate_series(1, 20000) n`);
});
afterAll(() => pair.close());
beforeEach(async () => {
  await pair.atWarehouse("DROP TABLE IF EXISTS landing.payment");
  await pair.run(load);
});

const found = async () =>
  (await pair.prove(load)).rows?.rows
    .map(({ key, kind, cells }) => `${key[0]} ${kind}${kind === "different" ? ` ${cells.join()}` : ""}`)
    .sort();

describe("a proof fails where anything differs", () => {
  test("and holds where nothing does", async () => {
    const { proof, rows } = await pair.prove(load);
    expect(proof).toMatchObject({ verdict: "proved", whole: true });
    expect(rows).toMatchObject({ missing: 0, extra: 0, different: 0, complete: true });
    // 20,000 steps of 90 s from 1 November, 01:00 in Oslo: into the 21st.
    expect(proof.slices).toHaveLength(21);
  });

  test.each([
    ["one cent of one row", "UPDATE landing.payment SET amount = amount + 0.01 WHERE id = 4321", ["4321 different 1"]],
    [
      "0.1 + 0.2 for 0.3",
      "UPDATE landing.payment SET ratio = 0.1::float8 + 0.2::float8 WHERE id = 3",
      ["3 different 2"],
    ],
    ["a null for an empty string", "UPDATE landing.payment SET note = NULL WHERE id = 5", ["5 different 3"]],
    ["an empty string for a null", "UPDATE landing.payment SET note = '' WHERE id = 8", ["8 different 3"]],
    [
      "a moved time zone",
      "UPDATE landing.payment SET paid_at = paid_at + interval '1 hour' WHERE id = 100",
      ["100 different 4"],
    ],
    [
      "a microsecond",
      "UPDATE landing.payment SET paid_at = paid_at + interval '1 microsecond' WHERE id = 100",
      ["100 different 4"],
    ],
    [
      "bits that a folded hash can't tell apart",
      "UPDATE landing.payment SET big = 4294967296 WHERE id = 1",
      ["1 different 5"],
    ],
    ["a deleted row", "DELETE FROM landing.payment WHERE id = 20000", ["20000 missing"]],
    ["a row too many", "INSERT INTO landing.payment VALUES (-7, 1, 1, 'x', '2026-11-05', 1)", ["-7 extra"]],
    ["a row of no date", "INSERT INTO landing.payment VALUES (30000, 0, 1, 'x', NULL, 1)", ["30000 extra"]],
    [
      "two changes that cancel each other in every figure",
      "UPDATE landing.payment SET amount = amount + CASE id WHEN 10 THEN 1 ELSE -1 END WHERE id IN (10, 11)",
      ["10 different 1", "11 different 1"],
    ],
    ["a key that moved", "UPDATE landing.payment SET id = 50000 WHERE id = 500", ["500 missing", "50000 extra"]],
  ])("%s", async (_, change, expected) => {
    await pair.atWarehouse(change);
    const { proof } = await pair.prove(load);
    expect(proof.verdict).toBe("disagrees");
    expect(await found()).toEqual(expected.sort());
  });

  test("changes at the source are found too", async () => {
    await pair.atSource(
      "CREATE TABLE IF NOT EXISTS before AS SELECT * FROM payment WHERE id IN (1, 2); UPDATE payment SET note = 'changed' WHERE id = 1; DELETE FROM payment WHERE id = 2; INSERT INTO payment VALUES (90000, 1, 1, NULL, '2026-11-02', 1)",
    );
    expect(await found()).toEqual(["1 different 3", "2 extra", "90000 missing"]);
    await pair.atSource(
      "DELETE FROM payment WHERE id IN (1, 90000); INSERT INTO payment SELECT * FROM before; DROP TABLE before",
    );
    expect(await found()).toEqual([]);
  });

  test("few keys are moved to find few rows", async () => {
    await pair.atWarehouse("UPDATE landing.payment SET amount = 0 WHERE id IN (17, 9000, 15555)");
    const { rows } = await pair.prove({ ...load, proof: { figures: ["rows"] } });
    expect(rows).toMatchObject({ different: 3 });
    expect(rows?.keysRead).toBeLessThan(20_000 * 0.1);
  });

  test("keys far apart are split again rather than listed", async () => {
    await pair.atSource(
      "INSERT INTO payment VALUES (9000000000000000000, 1, 1, 'far', '2026-11-03', 1), (-9000000000000000000, 1, 1, 'far', '2026-11-03', 1)",
    );
    try {
      expect(await found()).toEqual(["-9000000000000000000 missing", "9000000000000000000 missing"]);
      await pair.atSource("DELETE FROM payment WHERE id < 0");
      await pair.atWarehouse("DELETE FROM landing.payment WHERE id = 12345");
      expect(await found()).toEqual(["12345 missing", "9000000000000000000 missing"]);
      // Near enough to be told apart by ranges, of which the first holds all keys but one.
      await pair.atSource("UPDATE payment SET id = 9000000000000 WHERE id = 9000000000000000000");
      expect(await found()).toEqual(["12345 missing", "9000000000000 missing"]);
      const { rows } = await pair.prove({ ...load, proof: { figures: ["rows"] } });
      expect(rows).toMatchObject({ missing: 2, extra: 0, different: 0 });
      expect(rows?.keysRead).toBeLessThan(20_000 * 0.1);
    } finally {
      await pair.atSource("DELETE FROM payment WHERE abs(id) > 100000000");
    }
  });

  test("when everything differs it stops at its limit and says so", async () => {
    await pair.atWarehouse("UPDATE landing.payment SET big = big + 1");
    const { rows } = await pair.prove(load);
    expect(rows?.complete).toBe(false);
    expect(rows?.different).toBeGreaterThanOrEqual(10_000);
    expect(rows?.rows.length).toBeLessThanOrEqual(500);
  });
});

test("days begin at midnight of the proof's zone", async () => {
  const { proof } = await pair.prove(load);
  const first = proof.slices[0];
  // Until 23:00 UTC it is still the first of November in Oslo: 82,800 s in steps of 90 s.
  expect([first?.slice, first?.figures[0]?.source]).toEqual(["2026-11-01", "919"]);
});
