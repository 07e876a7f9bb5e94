import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { afterAll, beforeAll, describe, expect, test } from "vitest";
import { environment, makeHouse, projectFile, type TestHouse, trips } from "./house.ts";

/** What is saved, by whom and what for; the way back; drafts; other names and places. */
let house: TestHouse;
beforeAll(async () => {
  house = await makeHouse("versions");
  await house.sql(house.names.source, trips);
  await house.ask("POST", "/project", { text: projectFile(house), environment: environment() });
  await execute("trips");
});
afterAll(() => house.close());

const pipeline = async (name = "trips"): Promise<Pipeline> =>
  (await house.ask("GET", `/pipelines/${name}`)).body.definition;
async function execute(name: string) {
  const { id } = (await house.ask("POST", `/pipelines/${name}/run`, {})).body;
  await house.execute(id);
  return (await house.ask("GET", `/runs/${id}`)).body;
}
const where = (definition: Pipeline, condition: string): Pipeline => {
  const trip = definition.loads.trip as Pipeline["loads"][string];
  return { ...definition, loads: { trip: { ...trip, from: { ...trip.from, where: condition } } } };
};

describe("a version", () => {
  test("is made by each save, says who, what for and what changed, and is kept by the run that ran it", async () => {
    await house.ask("PUT", "/pipelines/trips", {
      definition: where(await pipeline(), "id > 1"),
      note: "the first is a test",
    });
    await house.ask("PUT", "/pipelines/trips", { definition: { ...(await pipeline()), title: "All trips" } });
    const { body } = await house.ask("GET", "/pipelines/trips/versions");
    expect(body).toMatchObject([
      { number: 3, author: "The editor", note: null, changes: "title changed" },
      { number: 2, note: "the first is a test", changes: "load trip changed (condition)" },
      { number: 1, changes: null },
    ]);
    expect(await execute("trips")).toMatchObject({ version: 3 });
    await house.ask("PATCH", "/pipelines/trips/versions/2", { name: "before the move" });
    expect((await house.ask("GET", "/pipelines/trips/versions")).body[1].name).toBe("before the move");
  });

  test("earlier is made the current one again by a new one", async () => {
    const { definition } = (await house.ask("GET", "/pipelines/trips/versions/1")).body;
    expect((await house.ask("POST", "/pipelines/trips/versions/1/restore", {})).body).toEqual({ version: 4 });
    expect(await pipeline()).toEqual(definition);
    expect((await house.ask("GET", "/pipelines/trips/versions")).body[0].note).toBe("version 1 again");
    expect((await house.ask("POST", "/pipelines/trips/versions/99/restore", {})).status).toBe(404);
    expect((await house.as(house.tokens.viewer)("POST", "/pipelines/trips/versions/2/restore", {})).status).toBe(403);
  });

  test("that does not fit any more is refused, and nothing changes", async () => {
    await house.sql(house.names.source, "CREATE TABLE gone (id int PRIMARY KEY, fare numeric, at timestamptz)");
    const now = await pipeline();
    const trip = now.loads.trip as Pipeline["loads"][string];
    const other = { ...now, loads: { trip: { ...trip, from: { connection: "trips", table: "public.gone" } } } };
    expect((await house.ask("PUT", "/pipelines/trips", { definition: other })).status).toBe(200);
    await house.ask("PUT", "/pipelines/trips", { definition: now });
    await house.sql(house.names.source, "DROP TABLE gone");
    expect((await house.ask("POST", "/pipelines/trips/versions/5/restore", {})).status).toBe(422);
    expect(await pipeline()).toEqual(now);
  });
});

describe("what a change touches is said before it is saved", () => {
  const effects = async (definition: Pipeline, name = "trips") =>
    (await house.ask("POST", `/pipelines/${name}/effects`, { definition })).body.map(
      (one: { says: string }) => one.says,
    );

  test("watermarks, marks, proofs, readers", async () => {
    const before = await pipeline();
    const trip = before.loads.trip as Pipeline["loads"][string];
    expect(await effects(before)).toEqual([]);
    expect(await effects({ ...before, title: "x" })).toEqual([]);
    expect(await effects(where(before, "id > 2"))).toEqual([
      "trip reads its whole dataset again: its condition changed",
    ]);
    const reader: Pipeline = {
      title: "By day",
      warehouse: "store",
      loads: {
        day: {
          from: {
            connection: "store",
            query: "SELECT at::date AS day, sum(fare) AS fare FROM landing.trip GROUP BY 1",
          },
          into: { table: "landing.day", mode: "replace" },
        },
      },
    };
    expect((await house.ask("POST", "/pipelines", { name: "by-day", definition: reader })).status).toBe(201);
    const moved = { ...before, loads: { trip: { ...trip, into: { ...trip.into, table: "landing.journey" } } } };
    expect(await effects(moved)).toEqual([
      "trip reads its whole dataset again: its target changed",
      "landing.trip stays in the warehouse, and this pipeline loads it no more; by-day / day reads it",
    ]);
    const proved = { ...before, loads: { trip: { ...trip, proof: { figures: ["rows"] } } } };
    expect(await effects(proved)).toEqual([
      "trip is proved in other slices, so its marks begin anew with its next proof",
    ]);
  });

  test("a set that goes, and watermarks of the sets that change", async () => {
    const before = await pipeline();
    const trip = before.loads.trip as Pipeline["loads"][string];
    const valued: Pipeline = {
      ...before,
      parameters: { least: { type: "integer", default: 0 } },
      values: { low: {}, high: { least: 50 } },
      loads: {
        trip: {
          ...trip,
          from: { ...trip.from, where: "id > :least" },
          into: { ...trip.into, table: "landing.trip_{least}" },
        },
      },
    };
    await house.ask("PUT", "/pipelines/trips", { definition: valued });
    expect(await effects({ ...valued, values: { low: {}, high: { least: 60 } } })).toContain(
      "trip reads its whole dataset again for high: its condition changed",
    );
    expect(await effects({ ...valued, values: { low: {} } })).toContain(
      "the lines of high leave the ledger; what they loaded stays in the warehouse",
    );
    await house.ask("PUT", "/pipelines/trips", { definition: before });
  });
});

describe("a draft", () => {
  test("is its author's on every device, told to others, and taken by nobody", async () => {
    const origin = await pipeline();
    const draft = { origin, base: new Date().toISOString(), steps: [{ ...origin, title: "Mine" }] };
    expect((await house.ask("PUT", "/pipelines/trips/draft", draft)).status).toBe(204);
    expect((await house.ask("GET", "/pipelines/trips/draft")).body.mine.steps[0].title).toBe("Mine");
    const administrator = house.as(house.tokens.administrator);
    expect((await administrator("GET", "/pipelines/trips/draft")).body).toMatchObject({
      mine: null,
      others: [{ user: "The editor", steps: 1 }],
    });
    await administrator("PUT", "/pipelines/trips/draft", { ...draft, steps: [{ ...origin, title: "Theirs" }] });
    await administrator("DELETE", "/pipelines/trips/draft");
    expect((await house.ask("GET", "/pipelines/trips/draft")).body.mine.steps[0].title).toBe("Mine");
    await house.ask("DELETE", "/pipelines/trips/draft");
    expect((await house.ask("GET", "/pipelines/trips/draft")).body.mine).toBeNull();
    expect((await house.as(house.tokens.viewer)("PUT", "/pipelines/trips/draft", draft)).status).toBe(403);
  });
});

describe("another name, another place", () => {
  test("a copy writes into another schema, and runs", async () => {
    expect(
      (await house.ask("POST", "/pipelines/trips/duplicate", { name: "copy", title: "Copy", schema: "landing" }))
        .status,
    ).toBe(422);
    expect(
      (await house.ask("POST", "/pipelines/trips/duplicate", { name: "copy", title: "Copy", schema: "copied" })).status,
    ).toBe(201);
    expect((await pipeline("copy")).schedule).toBeUndefined();
    expect((await execute("copy")).loads[0]).toMatchObject({ into: "copied.trip", tally: { new: "100" } });
  });

  test("a pipeline that is renamed goes on where it was", async () => {
    await house.ask("PUT", "/pipelines/by-day/schedules", { schedules: [{ after: "copy" }] });
    expect((await house.ask("POST", "/pipelines/copy/rename", { name: "trips" })).status).toBe(409);
    expect((await house.ask("POST", "/pipelines/copy/rename", { name: "journeys" })).body).toEqual({
      name: "journeys",
    });
    expect((await house.ask("GET", "/pipelines/copy")).status).toBe(404);
    // From its watermark on, not all again; what followed it follows it still.
    expect((await execute("journeys")).loads[0].tally).toMatchObject({ read: "1", same: "1" });
    expect((await pipeline("by-day")).schedule).toEqual({ after: "journeys" });
    const { groups } = (await house.ask("GET", "/standing/ledger?zone=UTC")).body;
    expect(groups.find((group: { pipeline: string }) => group.pipeline === "journeys").tables[0].verdict).toBe(
      "proved",
    );
  });

  test("a load that is moved goes on where it was", async () => {
    const alone = await house.ask("POST", "/pipelines/journeys/loads/trip/move", { to: "trips" });
    expect([alone.status, alone.body.title]).toEqual([
      409,
      "All trips has a load trip already".replace("All trips", "Trips"),
    ]);
    const { definition } = (await house.ask("GET", "/pipelines/journeys")).body;
    const two = {
      ...definition,
      loads: {
        journey: definition.loads.trip,
        second: { ...definition.loads.trip, into: { table: "copied.second", mode: "replace" }, watermark: undefined },
      },
    };
    await house.ask("PUT", "/pipelines/journeys", { definition: JSON.parse(JSON.stringify(two)) });
    await execute("journeys");
    expect((await house.ask("POST", "/pipelines/journeys/loads/journey/move", { to: "trips" })).status).toBe(204);
    expect(Object.keys((await pipeline()).loads)).toEqual(["trip", "journey"]);
    const run = await execute("trips");
    expect(run.loads.find((load: { load: string }) => load.load === "journey").tally).toMatchObject({
      read: "1",
      same: "1",
    });
  });

  test("favourites are one's own; labels, owner and a sentence stand in the list", async () => {
    await house.ask("PUT", "/pipelines/trips/favourite", { favourite: true });
    const definition = { ...(await pipeline()), owner: "Bo", labels: ["nightly"] };
    await house.ask("PUT", "/pipelines/trips", { definition });
    const of = async (ask: typeof house.ask) =>
      (await ask("GET", "/pipelines")).body.find((row: { name: string }) => row.name === "trips");
    expect(await of(house.ask)).toMatchObject({
      favourite: true,
      owner: "Bo",
      labels: ["nightly"],
      sentence: expect.stringMatching(/^Loads trip and journey from trips into landing and copied/),
    });
    expect((await of(house.as(house.tokens.viewer))).favourite).toBe(false);
  });
});
