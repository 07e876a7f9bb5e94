import type { Load } from "@undercoat/core/pipeline/pipeline";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { makePair, type Pair } from "./pair.ts";

let pair: Pair;
beforeAll(async () => {
  pair = await makePair("inside");
});
afterAll(() => pair.close());
beforeEach(() =>
  pair.atWarehouse(`DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS mart CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE; CREATE SCHEMA landing;
    CREATE TABLE landing.booking (id int PRIMARY KEY, customer int, fare numeric(8,2), updated_at timestamptz);
    CREATE TABLE landing.customer (id int PRIMARY KEY, name text);
    INSERT INTO landing.customer SELECT n, 'customer ' || n FROM generate_series(1, 20) n;
    INSERT INTO landing.booking SELECT n, n % 20 + 1, n, timestamptz '2026-11-20 06:00+00' + n * interval '1 second' FROM generate_series(1, 500) n`),
);

const joined: Load = {
  from: {
    connection: "warehouse",
    query:
      "SELECT b.id, c.name, b.fare, b.updated_at FROM landing.booking b JOIN landing.customer c ON c.id = b.customer",
  },
  watermark: { column: "updated_at" },
  into: { table: "mart.fare", mode: "upsert", key: ["id"], deleted: "remove" },
  proof: { figures: ["rows", "sum(fare)"] },
};

describe("a load within the warehouse", () => {
  test("joins what was landed, without a row leaving the database", async () => {
    const first = await pair.run(joined, { inside: true });
    expect(first).toMatchObject({ bytes: 0, tally: { read: "500", new: "500" }, proof: { verdict: "proved" } });
    await pair.atWarehouse(
      "UPDATE landing.booking SET fare = 1000, updated_at = '2026-11-20 07:00+00' WHERE id = 3; DELETE FROM landing.booking WHERE id = 4; INSERT INTO landing.booking VALUES (501, 1, 5, '2026-11-20 07:00+00')",
    );
    const rehearsed = await pair.rehearse(joined, undefined, true);
    const second = await pair.run(joined, { inside: true });
    expect(second.tally).toEqual({ read: "3", new: "1", changed: "1", same: "1", rejected: "0", deleted: "1" });
    expect(rehearsed.tally).toEqual(second.tally);
    expect(second.proof.verdict).toBe("proved");
    expect(
      (
        await pair.run(
          {
            ...joined,
            from: { connection: "warehouse", table: "landing.booking" },
            into: { table: "mart.copy", mode: "replace" },
          },
          { inside: true },
        )
      ).proof.verdict,
    ).toBe("proved");
  });

  test("rejects what does not fit, and a figure that fails leaves the load whole", async () => {
    await pair.atWarehouse(
      "ALTER TABLE landing.booking ADD COLUMN seats text; UPDATE landing.booking SET seats = '2'; UPDATE landing.booking SET seats = 'two' WHERE id = 7",
    );
    const load: Load = {
      from: { connection: "warehouse", table: "landing.booking" },
      watermark: { column: "updated_at" },
      columns: { id: "id", seats: { as: "seats", type: "integer" } },
      into: { table: "mart.seat", mode: "upsert", key: ["id"] },
      proof: { figures: ["rows", "sum(seats)"] },
    };
    const first = await pair.run(load, { inside: true });
    expect(first.tally).toMatchObject({ new: "499", rejected: "1" });
    expect(first.proof.verdict).toBe("proved");
    await pair.atWarehouse("UPDATE landing.booking SET seats = 'unread' WHERE id = 8");
    expect((await pair.run(load, { inside: true })).proof.verdict).toBe("unproved");
  });

  test("a source that sees the target through a view is read at one moment, and does not wait for itself", async () => {
    await pair.atWarehouse(
      "CREATE SCHEMA IF NOT EXISTS mart; CREATE TABLE mart.seen (id int PRIMARY KEY); CREATE VIEW landing.unseen AS SELECT b.id, b.updated_at, (SELECT count(*) FROM mart.seen) AS seen FROM landing.booking b",
    );
    const load: Load = {
      from: { connection: "warehouse", table: "landing.unseen" },
      into: { table: "mart.seen", mode: "upsert", key: ["id"] },
      proof: { figures: ["rows", "sum(seen)"] },
    };
    const first = await pair.run(load, { inside: true });
    expect(first).toMatchObject({ tally: { read: "500", new: "500" }, proof: { verdict: "proved", depth: "cells" } });
    expect(first.proof.figures).toContainEqual({ figure: "sum(seen)", source: "0", warehouse: "0" });
  });

  test.each([
    ["SELECT * FROM mart.fare", /reads mart.fare, which it writes itself|does not exist/],
    ["SELECT nextval('landing.s') AS id, 'x' AS name, 1 AS fare, now() AS updated_at", /calls nextval\(\)/],
  ])("refuses %s", async (query, why) => {
    await pair.run(joined, { inside: true });
    await pair.atWarehouse("CREATE SEQUENCE landing.s");
    await expect(pair.run({ ...joined, from: { connection: "warehouse", query } }, { inside: true })).rejects.toThrow(
      why,
    );
  });
});

describe("several tables of one shape", () => {
  const union: Load = {
    from: {
      connection: "source",
      tables: { north: "public.trip_north", south: "public.trip_south" },
      origin: "region",
      where: "fare > 0",
    },
    watermark: { column: "updated_at" },
    into: { table: "landing.trip", mode: "upsert", key: ["region", "id"] },
    proof: { figures: ["rows", "sum(fare)"] },
  };

  test("feed one load, each row marked with where it came from", async () => {
    await pair.atSource(`DROP TABLE IF EXISTS trip_north, trip_south; CREATE TABLE trip_north (id int PRIMARY KEY, fare numeric(8,2), updated_at timestamptz NOT NULL); CREATE TABLE trip_south (fare numeric(8,2), updated_at timestamptz NOT NULL, id int PRIMARY KEY);
      INSERT INTO trip_north VALUES (1, 10, '2026-11-20'), (2, 20, '2026-11-20'), (3, -1, '2026-11-20'); INSERT INTO trip_south (id, fare, updated_at) VALUES (1, 5, '2026-11-21')`);
    const run = await pair.run(union);
    expect(run.tally).toMatchObject({ read: "3", new: "3" });
    expect(run.proof).toMatchObject({ verdict: "proved", figures: [{ source: "3" }, { source: "35.00" }] });
    expect(await pair.atWarehouse("SELECT region, id, fare FROM landing.trip ORDER BY 1, 2")).toEqual([
      { region: "north", id: "1", fare: "10.00" },
      { region: "north", id: "2", fare: "20.00" },
      { region: "south", id: "1", fare: "5.00" },
    ]);
    await pair.atSource("UPDATE trip_south SET fare = 6, updated_at = '2026-11-22'");
    expect((await pair.run(union)).tally).toMatchObject({ changed: "1" });
    expect((await pair.prove(union)).rows).toMatchObject({ missing: 0, different: 0 });
    await pair.atSource("ALTER TABLE trip_south ALTER COLUMN fare TYPE text");
    await expect(pair.run(union)).rejects.toThrow(
      /public.trip_south is not of the shape of public.trip_north: fare is text there/,
    );
  });
});
