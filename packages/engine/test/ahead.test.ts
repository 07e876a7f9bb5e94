import type { Load } from "@undercoat/core/pipeline/pipeline";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { makePair, type Pair, quiet } from "./pair.ts";

let pair: Pair;
beforeAll(async () => {
  pair = await makePair("ahead");
});
afterAll(() => pair.close());

const trip: Load = {
  from: { connection: "source", table: "public.trip" },
  into: { table: "landing.trip", mode: "upsert", key: ["id"] },
  proof: { by: { column: "day", slice: "month" }, figures: ["rows", "sum(fare)"] },
};
const inNovember = { kind: "interval" as const, from: "2026-11-01", to: "2026-12-01" };

/** Ten thousand rows of three months; the second thousand of each lies in November. */
beforeEach(async () => {
  await pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
  await pair.atSource(`DROP TABLE IF EXISTS trip;
    CREATE TABLE trip (id bigint PRIMARY KEY, day date NOT NULL, fare numeric(12,2), note text);
    INSERT INTO trip SELECT n, date '2026-10-01' + (n / 1000 % 3) * 31, n, 'trip ' || n FROM generate_series(1, 9000) n`);
});

/** Runs a load and gives its outcome with the lines that it told. */
async function told(load: Load, scope?: Parameters<Pair["run"]>[1]) {
  const lines: string[] = [];
  const outcome = await pair.run(load, { ...scope, report: { ...quiet, line: (message) => lines.push(message) } });
  return { ...outcome, lines };
}

const matched = (lines: string[]) => lines.some((line) => line.includes("known by their key"));

describe("rows that look new", () => {
  test("are added without being matched first, and an interval proves every cell of the slices it fills", async () => {
    await pair.run(trip, { scope: { kind: "interval", from: "2026-10-01", to: "2026-11-01" } });
    const next = await told(trip, { scope: inNovember });
    expect(next.tally).toMatchObject({ read: "3000", new: "3000", changed: "0", same: "0" });
    expect(matched(next.lines)).toBe(false);
    expect(next.proof).toMatchObject({
      verdict: "proved",
      depth: "cells",
      whole: false,
      cells: { rows: "3000", verdict: "proved", of: "all" },
      touched: ["2026-11-01"],
      slices: [{ slice: "2026-11-01", verdict: "proved" }],
    });
  });

  test("are told from those that are known among them", async () => {
    await pair.run(trip, { scope: { kind: "interval", from: "2026-10-01", to: "2026-11-01" } });
    await pair.atWarehouse(
      "INSERT INTO landing.trip VALUES (1999, '2026-11-01', 1, 'another'), (1998, '2026-12-02', 1998, 'trip 1998'), (1997, '2026-11-01', 1997, 'trip 1997')",
    );
    const { tally, proof } = await told(trip, { scope: inNovember });
    expect(tally).toMatchObject({ read: "3000", new: "2997", changed: "2", same: "1" });
    // One had stood in December, which is left with what was never loaded there.
    expect(proof.touched?.toSorted()).toEqual(["2026-11-01", "2026-12-01"]);
    expect(proof.slices.map(({ slice, verdict }) => [slice, verdict])).toEqual([
      ["2026-11-01", "proved"],
      ["2026-12-01", "disagrees"],
    ]);
    expect(await pair.atWarehouse("SELECT note FROM landing.trip WHERE id = 1999")).toEqual([{ note: "trip 1999" }]);
  });

  test("are matched all the same where the first of them are known, and nothing is rewritten", async () => {
    await pair.run(trip);
    const before = await pair.atWarehouse("SELECT id, ctid, xmin FROM landing.trip ORDER BY id");
    const again = await told(trip, { scope: inNovember });
    expect(matched(again.lines)).toBe(true);
    expect(again.tally).toMatchObject({ new: "0", same: "3000" });
    expect(again.proof).toMatchObject({ verdict: "proved", touched: [], cells: { rows: "3000", of: "all" } });
    expect(await pair.atWarehouse("SELECT id, ctid, xmin FROM landing.trip ORDER BY id")).toEqual(before);
  });

  test.each([
    ["a trigger", "CREATE TRIGGER t BEFORE INSERT ON landing.trip FOR EACH ROW EXECUTE FUNCTION landing.turn()"],
    ["a rule", "CREATE RULE r AS ON INSERT TO landing.trip WHERE NEW.id < 0 DO INSTEAD NOTHING"],
    [
      "a key that may be broken until the commit",
      "ALTER TABLE landing.trip DROP CONSTRAINT trip_pkey, ADD PRIMARY KEY (id) DEFERRABLE",
    ],
  ])("are matched first where the target has %s", async (_, change) => {
    await pair.run(trip, { scope: { kind: "interval", from: "2026-10-01", to: "2026-11-01" } });
    await pair.atWarehouse(
      `CREATE FUNCTION landing.turn() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN NEW.note = upper(NEW.note); RETURN NEW; END'; ${change}`,
    );
    const next = await told(trip, { scope: inNovember });
    expect(next.tally).toMatchObject({ read: "3000", new: "3000" });
    expect(matched(next.lines)).toBe(true);
    expect(next.proof.verdict).toBe(change.includes("TRIGGER") ? "disagrees" : "proved");
  });
});

test("an interval's proof finds a cell that was changed in a row which it did not bring news of", async () => {
  await pair.run(trip);
  // The sum stays as it was.
  await pair.atWarehouse(
    "CREATE FUNCTION landing.keep() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NULL; END'; INSERT INTO landing.trip VALUES (99001, '2026-11-01', 1, 'x'), (99002, '2026-11-01', -1, 'y'); DELETE FROM landing.trip WHERE id IN (1500, 1501); CREATE TRIGGER k BEFORE INSERT OR UPDATE ON landing.trip FOR EACH ROW WHEN (NEW.id IN (1500, 1501)) EXECUTE FUNCTION landing.keep()",
  );
  await expect(pair.run(trip, { scope: inNovember })).rejects.toThrow("The tally does not balance");
  await pair.atWarehouse("DROP TRIGGER k ON landing.trip");
  const { proof } = await pair.run(trip, { scope: inNovember });
  expect(proof.verdict).toBe("disagrees");
});
