import { resolve } from "@undercoat/core/parameter/resolve";
import type { Load, Pipeline } from "@undercoat/core/pipeline/pipeline";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { makePair, type Pair } from "./pair.ts";

/** Several loads, or one load with several sets of values, that share a table. */
let pair: Pair;
beforeAll(async () => {
  pair = await makePair("part");
});
afterAll(() => pair.close());

const template = (change: Partial<Load> = {}, into: Partial<Load["into"]> = {}): Pipeline => ({
  title: "Trips",
  warehouse: "warehouse",
  parameters: { region: { type: "text" } },
  loads: {
    trip: {
      from: { connection: "source", table: "public.trip_{region}" },
      watermark: { column: "at" },
      columns: { id: "id", region: ":region", at: "at", fare: "fare" },
      into: { table: "harbour.trip", part: "region = :region", mode: "upsert", key: ["region", "id"], ...into },
      proof: { figures: ["rows", "sum(fare)"] },
      ...change,
    },
  },
});
const of = (region: string, pipeline = template()): Load => {
  const { trip } = resolve(pipeline, { values: { region } }, 0).definition.loads;
  if (!trip) throw new Error("no such load");
  return trip;
};

beforeEach(async () => {
  await pair.atWarehouse("DROP SCHEMA IF EXISTS harbour CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
  for (const [region, rows] of [
    ["north", 3],
    ["south", 5],
  ])
    await pair.atSource(
      `DROP TABLE IF EXISTS trip_${region}; CREATE TABLE trip_${region} (id int PRIMARY KEY, at timestamptz NOT NULL, fare numeric NOT NULL);
       INSERT INTO trip_${region} SELECT n, '2026-11-01'::timestamptz + n * interval '1 hour', n FROM generate_series(1, ${rows}) n`,
    );
});

const held = async () =>
  Object.fromEntries(
    (await pair.atWarehouse("SELECT region, count(*)::text AS rows FROM harbour.trip GROUP BY 1")).map((row) => [
      row.region,
      row.rows,
    ]),
  );

describe("two sets of values share a table", () => {
  test("each proves its own rows, and reads on from where it was itself", async () => {
    const [north, south] = [of("north"), of("south")];
    expect((await pair.run(north)).proof).toMatchObject({
      verdict: "proved",
      figures: [{ source: "3" }, { source: "6" }],
    });
    expect((await pair.run(south)).proof).toMatchObject({
      verdict: "proved",
      figures: [{ source: "5" }, { source: "15" }],
    });
    expect(await held()).toEqual({ north: "3", south: "5" });
    await pair.atSource("INSERT INTO trip_north VALUES (9, '2026-11-02', 1)");
    const again = await pair.run(north);
    // From its own watermark on: the row that holds it, and the new one.
    expect([again.tally.read, again.tally.new, again.proof.verdict]).toEqual(["2", "1", "proved"]);
    expect((await pair.run(south)).tally).toMatchObject({ read: "1", same: "1" });
    expect((await pair.prove(north)).proof.verdict).toBe("proved");
  });

  test("what somebody does to the other's rows is none of its business, what is done to its own is found", async () => {
    const [north, south] = [of("north"), of("south")];
    await pair.run(north);
    await pair.run(south);
    await pair.atWarehouse("DELETE FROM harbour.trip WHERE region = 'south' AND id = 2");
    expect((await pair.prove(north)).proof.verdict).toBe("proved");
    expect((await pair.prove(south)).proof.verdict).toBe("disagrees");
    // A row that is moved to the other's part is missing here and too many there.
    await pair.atWarehouse("UPDATE harbour.trip SET region = 'north', id = 77 WHERE region = 'south' AND id = 3");
    const { rows } = await pair.prove(north);
    expect(rows).toMatchObject({ missing: 0, extra: 1 });
  });

  test("replace replaces its own rows only", async () => {
    const pipeline = template({ watermark: undefined }, { mode: "replace", key: undefined });
    const [north, south] = [of("north", pipeline), of("south", pipeline)];
    await pair.run(south);
    await pair.run(north);
    await pair.atSource("DELETE FROM trip_north WHERE id = 1");
    const run = await pair.run(north);
    expect([run.tally.deleted, run.proof.verdict]).toEqual(["3", "proved"]);
    expect(await held()).toEqual({ north: "2", south: "5" });
  });

  test("rows gone are looked for among its own", async () => {
    const pipeline = template({}, { deleted: "remove" });
    const [north, south] = [of("north", pipeline), of("south", pipeline)];
    await pair.run(south);
    await pair.run(north);
    await pair.atSource("DELETE FROM trip_north WHERE id = 1");
    expect((await pair.run(north)).tally.deleted).toBe("1");
    expect(await held()).toEqual({ north: "2", south: "5" });
  });

  test("append without a key tells rows apart among its own", async () => {
    const pipeline = template({}, { mode: "append", key: undefined });
    await pair.atSource("INSERT INTO trip_south SELECT * FROM trip_north ON CONFLICT DO NOTHING");
    await pair.run(of("north", pipeline));
    const run = await pair.run(of("south", pipeline));
    expect([run.tally.new, run.proof.verdict]).toEqual(["5", "proved"]);
    expect((await pair.run(of("south", pipeline))).tally).toMatchObject({ new: "0" });
  });

  test("histories share a table: each ends its own versions", async () => {
    const pipeline = template({}, { mode: "history", deleted: "close", history: { surrogate: { column: "sk" } } });
    const [north, south] = [of("north", pipeline), of("south", pipeline)];
    await pair.run(north);
    await pair.run(south);
    await pair.atSource(
      "DELETE FROM trip_north WHERE id = 1; UPDATE trip_north SET fare = 9, at = '2026-11-09' WHERE id = 2",
    );
    const run = await pair.run(north);
    expect(run.tally).toMatchObject({ versions: "1", closed: "2" });
    expect(run.proof).toMatchObject({ verdict: "proved", history: { broken: [] } });
    expect((await pair.prove(south)).proof).toMatchObject({ verdict: "proved", history: { broken: [] } });
    expect(
      await pair.atWarehouse("SELECT count(*)::text AS all, count(DISTINCT sk)::text AS numbers FROM harbour.trip"),
    ).toEqual([{ all: "9", numbers: "9" }]);
  });

  test("a row that is not of the part is turned away, told as that, and the rest is proved", async () => {
    await pair.atSource(
      "ALTER TABLE trip_north ADD COLUMN whose text; UPDATE trip_north SET whose = CASE WHEN id = 2 THEN 'south' ELSE 'north' END",
    );
    const load = of("north", template({ columns: { id: "id", region: "whose", at: "at", fare: "fare" } }));
    const run = await pair.run(load);
    expect([run.tally.rejected, run.tally.new, run.proof.verdict]).toEqual(["1", "2", "proved"]);
    expect(run.findings.reasons[0]?.reason).toContain("it belongs to this load's part");
    // The list is the part's own: another set's whole read closes none of it.
    await pair.run(of("south"));
    expect(
      await pair.atWarehouse("SELECT count(*)::text AS open FROM undercoat.rejected WHERE left_run IS NULL"),
    ).toEqual([{ open: "1" }]);
  });

  test("a table made anew, or loaded whole by one, is read whole by the others", async () => {
    const [north, south] = [of("north"), of("south")];
    await pair.run(north);
    await pair.run(south);
    await pair.atWarehouse("DROP TABLE harbour.trip");
    expect((await pair.run(north)).tally.new).toBe("3");
    expect((await pair.run(south)).tally.new).toBe("5");
    const { part: _, ...into } = south.into;
    await pair.run({ ...south, into: { ...into, mode: "replace" } });
    expect(await held()).toEqual({ south: "5" });
    expect((await pair.run(north)).tally).toMatchObject({ read: "3", new: "3" });
  });

  test.each([
    ["region = lower('NORTH') AND now() > at", "depend on the moment"],
    ["region = 'north' OR EXISTS (SELECT 1)", "subquery"],
    ["regoin = 'north'", "names regoin"],
    ["1 = 1", "names no column"],
    ["region = 'north'; DROP TABLE harbour.trip", "syntax error"],
  ])("a part that can't serve is refused: %s", async (part, says) => {
    await expect(pair.run({ ...of("north"), into: { ...of("north").into, part } })).rejects.toThrow(says);
  });
});

describe("what asks for an interval is told it", () => {
  const load: Load = {
    from: { connection: "source", query: "SELECT * FROM trip_north WHERE at >= :from AND at < :to" },
    watermark: { column: "at", lookBack: "PT1H" },
    into: { table: "harbour.trip", mode: "upsert", key: ["id"] },
    proof: { figures: ["rows"] },
  };

  test("everything first, then from the watermark less the look-back, then as it is asked; the proof spans all", async () => {
    const first = await pair.run(load);
    expect([first.tally.read, first.proof.verdict]).toEqual(["3", "proved"]);
    await pair.atSource("INSERT INTO trip_north VALUES (7, '2026-11-05', 1)");
    const second = await pair.run(load);
    expect([second.tally.read, second.tally.new, second.proof.verdict]).toEqual(["3", "1", "proved"]);
    const interval = await pair.run(load, {
      scope: { kind: "interval", from: "2026-11-01T02:00Z", to: "2026-11-01T03:00Z" },
    });
    expect(interval.tally.read).toBe("1");
    const { proof } = await pair.prove(load);
    expect([proof.verdict, proof.figures[0]?.source]).toEqual(["proved", "4"]);
  });

  test("a condition may ask, beside a string that only looks so", async () => {
    const asking: Load = {
      ...load,
      from: {
        connection: "source",
        table: "public.trip_north",
        where: "at >= :from AND 'a:from' <> ':to' AND at < :to",
      },
    };
    expect((await pair.run(asking)).proof.verdict).toBe("proved");
    expect((await pair.run(asking)).tally.read).toBe("2");
  });
});
