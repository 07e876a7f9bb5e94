import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { SliceRow } from "@undercoat/server/store/models";
import { afterAll, beforeAll, describe, expect, test } from "vitest";
import { startCellProofs } from "../src/jobs/scheduler.ts";
import { environment, makeHouse, projectFile, type TestHouse, trips as tripTable } from "./house.ts";

/** One pipeline run with many values: what is checked, run, kept apart and summed up. */
let house: TestHouse;
beforeAll(async () => {
  house = await makeHouse("values");
  for (const region of ["north", "south", "east"])
    await house.sql(
      house.names.source,
      `CREATE TABLE trip_${region} (id int PRIMARY KEY, fare numeric(12,2) NOT NULL, at timestamptz NOT NULL);
       INSERT INTO trip_${region} SELECT n, n, now() - n * interval '1 hour' FROM generate_series(1, ${region.length}) n`,
    );
  await house.sql(house.names.source, tripTable);
  await house.ask("POST", "/project", { text: projectFile(house), environment: environment() });
});
afterAll(() => house.close());

const trips: Pipeline = {
  title: "Trips of {region}",
  warehouse: "store",
  zone: "Europe/Oslo",
  parameters: {
    region: { type: "text", default: "north" },
    source: { type: "dataset", default: "public.trip_north" },
    since: { type: "date", default: "today-P1Y" },
  },
  values: { north: {}, south: { region: "south", source: "public.trip_south" } },
  loads: {
    trip: {
      from: { connection: "trips", table: "{source}", where: "at >= :since" },
      watermark: { column: "at" },
      columns: { region: ":region", id: "id", fare: "fare", at: "at" },
      into: { table: "harbour.trip", part: "region = :region", mode: "upsert", key: ["region", "id"] },
      proof: { by: { column: "at", slice: "day" }, figures: ["rows", "sum(fare)"] },
    },
  },
};
const changed = (change: Partial<Pipeline["loads"][string]>, rest: Partial<Pipeline> = {}): Pipeline => ({
  ...trips,
  ...rest,
  loads: { trip: { ...trips.loads.trip, ...change } as Pipeline["loads"][string] },
});
const make = (name: string, definition: Pipeline) => house.ask("POST", "/pipelines", { name, definition });
const run = async (name: string, body: object) => {
  const answer = await house.ask("POST", `/pipelines/${name}/run`, body);
  if (answer.status === 201) await house.execute(answer.body.id);
  return answer.status === 201 ? (await house.ask("GET", `/runs/${answer.body.id}`)).body : answer;
};

describe("what is saved is checked with every set of values", () => {
  test.each([
    [
      "a mention of nothing",
      changed({ rules: { r: "fare < :most" } }),
      "loads.trip.rules.r",
      "There is no parameter most",
    ],
    [
      "a set whose table is missing",
      changed({}, { values: { ...trips.values, west: { region: "west", source: "public.trip_west" } } }),
      "loads.trip.from",
      "With the values west:",
    ],
    [
      "a set whose connection is missing",
      changed(
        { from: { connection: "{site}", table: "public.trip_north" } },
        {
          parameters: { ...trips.parameters, site: { type: "connection", default: "trips" } },
          values: { north: {}, south: { site: "elsewhere", region: "south" } },
        },
      ),
      "loads.trip.from.connection",
      "With the values south: There is no connection elsewhere",
    ],
    [
      "a value of the wrong type",
      changed({}, { values: { north: { since: "soon" } } }),
      "values.north.since",
      "soon is not a date",
    ],
    [
      "a type that does not fit",
      changed({ from: { connection: "trips", table: "{source}", where: "id >= :since" } }),
      "loads.trip.from.where",
      "operator does not exist",
    ],
    [
      "two sets that write one table",
      changed({ into: { table: "harbour.trip", mode: "upsert", key: ["id"] } }),
      "loads.trip.into.table",
      "give the load a part",
    ],
  ])("%s", async (_, definition, path, says) => {
    const { status, body } = await make("wrong", definition);
    expect(status).toBe(422);
    expect(body.problems[0].path.join(".")).toBe(path);
    expect(body.problems[0].message).toContain(says);
  });

  test("the place of a mistake is that in the text as it was written", async () => {
    const where = "at >= :since AND at < :since AND wrong > 1";
    const { body } = await make("wrong", changed({ from: { connection: "trips", table: "{source}", where } }));
    expect(body.problems[0].position).toBe(where.indexOf("wrong"));
  });

  test("another pipeline's load of the same table needs another part", async () => {
    expect((await make("trips-of", trips)).status).toBe(201);
    expect((await make("wrong", trips)).body.problems[0].message).toContain("written by the pipeline trips-of too");
    const east = changed(
      {},
      {
        parameters: {
          ...trips.parameters,
          region: { type: "text", default: "east" },
          source: { type: "dataset", default: "public.trip_east" },
        },
        values: {},
      },
    );
    expect((await make("east", east)).status).toBe(201);
  });
});

describe("a run", () => {
  test("keeps what it was asked with and what that came to", async () => {
    const south = await run("trips-of", { given: { set: "south" } });
    expect(south).toMatchObject({
      status: "finished",
      title: "Trips of south",
      set: "south",
      values: { region: { text: "south", how: "set" }, since: { how: "default" } },
      saved: true,
    });
    expect(south.loads[0]).toMatchObject({ into: "harbour.trip", tally: { new: "5" }, verdict: "proved" });
  });

  test("values that don't fit start nothing, and say so", async () => {
    const before = (await house.ask("GET", "/runs")).body.length;
    for (const [given, says] of [
      [{ set: "west" }, "no values named west"],
      [{ values: { regoin: "x" } }, "no parameter regoin"],
      [{ values: { since: "soon" } }, "soon is not a date"],
      [{ settings: { "trip.from.query": "SELECT 1" } }, "nothing that can be set"],
    ] as const)
      expect((await run("trips-of", { given })).body.title).toContain(says);
    expect((await house.ask("GET", "/runs")).body.length).toBe(before);
  });

  test("for several sets is one each, under one heading", async () => {
    const { status, body } = await house.ask("POST", "/pipelines/trips-of/runs", {
      givens: [{ set: "north" }, { set: "south" }],
    });
    expect([status, body.length]).toEqual([201, 2]);
    for (const { id } of body) await house.execute(id);
    const [head] = (await house.ask("GET", "/runs")).body;
    expect(head).toMatchObject({
      id: body[0].id,
      runs: { all: 2, open: 0, failed: 0, disagree: 0 },
      status: "finished",
      verdict: "proved",
      tally: { read: "6", new: "5", same: "1" },
    });
    const under = (await house.ask("GET", `/runs?heading=${head.id}`)).body;
    expect(under.map((one: { set: string }) => one.set)).toEqual(["north", "south"]);
    const bad = await house.ask("POST", "/pipelines/trips-of/runs", { givens: [{ set: "north" }, { set: "west" }] });
    expect(bad.status).toBe(422);
    expect((await house.ask("GET", "/runs")).body[0].id).toBe(body[0].id);
  });

  test("again runs with the same values, a repair writes the same place", async () => {
    const first = await run("trips-of", { given: { set: "south" } });
    const again = (await house.ask("POST", `/runs/${first.id}/again`, {})).body;
    await house.execute(again.id);
    expect(again).toMatchObject({ set: "south", given: { set: "south" } });
    await house.sql(house.names.warehouse, "UPDATE harbour.trip SET fare = 99 WHERE region = 'south' AND id = 2");
    const proof = await run("trips-of", { kind: "prove", rows: true, given: { set: "south" } });
    expect(proof.loads[0].verdict).toBe("disagrees");
    const { given } = (await house.ask("GET", `/proofs/${proof.loads[0].proof}`)).body;
    const repair = await run("trips-of", { kind: "repair", scope: { kind: "keys", keys: [["south", "2"]] }, given });
    expect(repair.loads[0].tally).toMatchObject({ read: "1", changed: "1" });
    expect((await run("trips-of", { kind: "prove", given })).loads[0].verdict).toBe("proved");
  });

  test("by hand is told as that, and stands in the ledger with the set whose place it wrote", async () => {
    const byHand = await run("trips-of", { given: { values: { region: "south", source: "public.trip_south" } } });
    expect(byHand.values.region).toEqual({ text: "south", how: "by hand" });
    expect(byHand.set).toBeNull();
    const [group] = (await house.ask("GET", "/standing/ledger?zone=UTC")).body.groups.filter(
      (one: { pipeline: string }) => one.pipeline === "trips-of",
    );
    const [table] = group.tables;
    expect(table).toMatchObject({ target: "harbour.trip", rows: "10", verdict: "proved" });
    expect(table.lines.map((line: { line: string; rows: string; given: unknown }) => [line.line, line.rows])).toEqual([
      ["north", "5"],
      ["south", "5"],
    ]);
  });

  test("each line keeps its own marks and proofs", async () => {
    await house.sql(house.names.warehouse, "DELETE FROM harbour.trip WHERE region = 'north' AND id = 3");
    await run("trips-of", { kind: "prove", given: { set: "north" } });
    await run("trips-of", { kind: "prove", given: { set: "south" } });
    const [group] = (await house.ask("GET", "/standing/ledger?zone=UTC")).body.groups.filter(
      (one: { pipeline: string }) => one.pipeline === "trips-of",
    );
    expect(group.tables[0].verdict).toBe("disagrees");
    expect(group.tables[0].lines.map((line: { verdict: string }) => line.verdict)).toEqual(["disagrees", "proved"]);
    expect((await house.ask("GET", "/proofs?pipeline=trips-of&load=trip&line=south")).body[0].line).toBe("south");
    const summary = (await house.ask("GET", "/pipelines")).body.find(
      (one: { name: string }) => one.name === "trips-of",
    );
    expect(summary.standing).toMatchObject({ disagrees: 1, proved: 0 });
    await run("trips-of", { scope: { kind: "whole" }, given: { set: "north" } });
  });

  test("by itself, cell by cell, looks at a line with its values", async () => {
    await SliceRow.update({ cellsAt: new Date(0) }, { where: { pipeline: "trips-of", line: "south" } });
    await SliceRow.update({ cellsAt: new Date() }, { where: { line: ["", "north"] } });
    const { store, queue } = house.house;
    const started = await startCellProofs(store, queue, Date.now());
    expect(started?.pipeline).toBe("trips-of");
    const [latest] = (await house.ask("GET", "/runs")).body;
    expect(latest).toMatchObject({ kind: "prove", set: "south" });
    await house.execute(latest.id);
  });
});

describe("before it runs", () => {
  test("what it would be is told: sentences, statement, live rows", async () => {
    const { definition, values } = (
      await house.ask("POST", "/pipelines/trips-of/resolve", { definition: trips, given: { set: "south" } })
    ).body;
    expect(definition.loads.trip.from.table).toBe("public.trip_south");
    expect(values.region).toEqual({ text: "south", how: "set" });
    const { status, body } = await house.ask("POST", "/pipelines/preview", {
      pipeline: "trips-of",
      definition: trips,
      load: "trip",
      given: { set: "south" },
    });
    // From the watermark on, which is that of the set.
    expect([status, body.rows.length, body.rows[0].values.region]).toEqual([200, 1, "south"]);
    expect(body.sql).toContain(`"trip_south"`);
  });

  test("a rehearsal takes values too", async () => {
    await house.sql(house.names.source, "UPDATE trip_south SET fare = 7, at = now() WHERE id = 4");
    const rehearsed = await run("trips-of", { kind: "rehearse", given: { set: "south" } });
    expect(rehearsed.loads[0].rehearsal.tally).toMatchObject({ changed: "1" });
  });

  test("a viewer looks with what was saved, and with no values of their own", async () => {
    const viewer = house.as(house.tokens.viewer);
    const look = (given: object, definition = trips) =>
      viewer("POST", "/pipelines/preview", { pipeline: "trips-of", definition, load: "trip", given });
    expect((await look({ set: "south" })).status).toBe(200);
    expect((await look({ values: { source: "public.trip" } })).status).toBe(403);
    expect((await look({ settings: { "trip.from.table": "public.trip" } })).status).toBe(403);
    const own = { ...trips, values: { ...trips.values, own: { source: "public.trip" } } };
    expect((await look({ set: "own" }, own)).status).toBe(403);
    const columns = (declared: object, given: object) =>
      viewer("POST", "/pipelines/columns", {
        from: trips.loads.trip?.from,
        warehouse: "store",
        table: "harbour.trip",
        declared,
        given,
      });
    const { parameters, values, zone } = trips;
    expect((await columns({ parameters, values, zone }, { set: "south" })).status).toBe(200);
    expect((await columns({ parameters, values, zone }, { values: { source: "public.trip" } })).status).toBe(403);
    expect(
      (
        await columns(
          { parameters: { ...parameters, source: { type: "dataset", default: "public.trip" } }, values, zone },
          {},
        )
      ).status,
    ).toBe(403);
  });
});
