import type { Pipeline, Schedule } from "@undercoat/core/pipeline/pipeline";
import { PipelineRow, RunRow, TimerRow } from "@undercoat/server/store/models";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { startDue } from "../src/jobs/scheduler.ts";
import { environment, makeHouse, projectFile, type TestHouse, trips } from "./house.ts";

/** What starts by itself: several schedules, one after another, not at the same time, paused, so many times. */
let house: TestHouse;
beforeAll(async () => {
  house = await makeHouse("schedules");
  await house.sql(house.names.source, trips);
  await house.ask("POST", "/project", { text: projectFile(house), environment: environment() });
  const { definition } = (await house.ask("GET", "/pipelines/trips")).body;
  for (const name of ["other", "third"])
    await house.ask("POST", "/pipelines", { name, definition: elsewhere(definition, name) });
});
afterAll(() => house.close());
beforeEach(async () => {
  await RunRow.update({ status: "finished", finishedAt: new Date() }, { where: { status: ["queued", "running"] } });
  for (const name of ["trips", "other", "third"]) await set(name);
});

const elsewhere = ({ schedule: _, ...definition }: Pipeline, schema: string): Pipeline => ({
  ...definition,
  title: schema,
  loads: Object.fromEntries(
    Object.entries(definition.loads).map(([load, entry]) => [
      load,
      { ...entry, into: { ...entry.into, table: `${schema}.trip`, deleted: "remove" } },
    ]),
  ),
});
const set = (name: string, ...schedules: Schedule[]) => house.ask("PUT", `/pipelines/${name}/schedules`, { schedules });
const now = Date.parse("2026-11-27T12:00:30Z");
const dueNow = (name: string) => TimerRow.update({ nextAt: new Date(now - 1000) }, { where: { pipeline: name } });
const begin = (at = now) =>
  startDue(house.house.store, house.house.queue, at, (error) => {
    throw error;
  });
const latest = async (pipeline: string) =>
  (await RunRow.findAll({ where: { pipeline }, order: [["id", "DESC"]], limit: 1 }))[0];

describe("a pipeline with several schedules", () => {
  test("keeps each one's next time and count; what is shown is the earliest", async () => {
    await set("trips", { every: "PT15M" }, { cron: "0 5 * * 0", zone: "Europe/Oslo", do: "prove" });
    expect(await TimerRow.count({ where: { pipeline: "trips" } })).toBe(2);
    const { body } = await house.ask("GET", "/pipelines/trips");
    expect(body.schedules.map((one: { words: string }) => one.words)).toEqual([
      "every 15 minutes",
      expect.stringMatching(/^proved .*Sunday/),
    ]);
    await dueNow("trips");
    expect(await begin()).toEqual(["trips", "trips"]);
    const kinds = (await RunRow.findAll({ where: { pipeline: "trips" }, order: [["id", "DESC"]], limit: 2 })).map(
      (run) => run.kind,
    );
    expect(kinds.toSorted()).toEqual(["load", "prove"]);
    // A schedule that stays goes on counting when another one is changed.
    await set("trips", { every: "PT15M" }, { every: "PT1H" });
    const counts = (await TimerRow.findAll({ where: { pipeline: "trips" } })).map((row) => row.begun);
    expect(counts.toSorted()).toEqual([0, 1]);
  });

  test("what an address names for its runs is no change of the pipeline, and refused where nothing has it", async () => {
    await house.sql(house.names.source, "CREATE TABLE IF NOT EXISTS trip_before (LIKE trip INCLUDING ALL)");
    await set("trips", { every: "PT15M", set: { "trip.from.table": "public.trip_before" } });
    await dueNow("trips");
    await begin();
    const run = await latest("trips");
    expect(run?.definition.loads.trip?.from.table).toBe("public.trip_before");
    const { body } = await house.ask("GET", "/pipelines/trips");
    expect(body.definition.loads.trip.from.table).toBe("public.trip");
    expect(body.schedules[0].words).toBe("every 15 minutes with trip.from.table public.trip_before");
    const refused = await set("trips", { every: "PT15M", set: { "nothing.from.table": "public.trip" } });
    expect([refused.status, JSON.stringify(refused.body)]).toEqual([
      422,
      expect.stringContaining("nothing.from.table"),
    ]);
  });

  test("from, until and so many times", async () => {
    await set("trips", { every: "PT15M", times: 1 });
    await dueNow("trips");
    expect(await begin()).toEqual(["trips"]);
    expect((await TimerRow.findOne({ where: { pipeline: "trips" } }))?.nextAt).toBeNull();
    await set("trips", { every: "PT15M", from: "2999-01-01", zone: "Europe/Oslo" });
    expect((await TimerRow.findOne({ where: { pipeline: "trips" } }))?.nextAt?.toISOString()).toBe(
      "2998-12-31T23:00:00.000Z",
    );
    await set("trips", { every: "PT15M", until: "2020-01-01" });
    expect((await TimerRow.findOne({ where: { pipeline: "trips" } }))?.nextAt).toBeNull();
  });

  test("with values each set has a run of its own", async () => {
    const row = await PipelineRow.findByPk("trips", { rejectOnEmpty: true });
    const { definition } = row;
    const load = definition.loads.trip as Pipeline["loads"][string];
    const valued: Pipeline = {
      ...definition,
      parameters: { n: { type: "integer", default: 1 } },
      values: { one: {}, two: { n: 2 } },
      loads: {
        trip: {
          ...load,
          from: { ...load.from, where: "id % 2 = :n - 1" },
          into: { ...load.into, table: "landing.trip_{n}" },
        },
      },
    };
    expect((await house.ask("PUT", "/pipelines/trips", { definition: valued })).status).toBe(200);
    expect((await set("trips", { every: "PT15M", values: ["one", "three"] })).body.title).toContain("no such set");
    const saved = await set("trips", { every: "PT15M", values: ["one", "two"] });
    expect(saved.status).toBe(200);
    await dueNow("trips");
    expect(await begin()).toEqual(["trips"]);
    const runs = await RunRow.findAll({ where: { pipeline: "trips", status: "queued" }, order: ["id"] });
    expect(runs.map((run) => [run.given.set, run.heading])).toEqual([
      ["one", runs[0]?.id],
      ["two", runs[0]?.id],
    ]);
    const without = { ...valued, values: { one: {} } };
    // A set that a schedule names can't be taken away silently.
    const refused = await house.ask("PUT", "/pipelines/trips", {
      definition: { ...without, schedule: { every: "PT15M", values: ["one", "two"] } },
    });
    expect(refused.status).toBe(422);
    await house.ask("PUT", "/pipelines/trips", { definition });
  });

  test("a sweep reads no row, and takes away what is gone", async () => {
    await set("other", { every: "PT15M" });
    const first = (await house.ask("POST", "/pipelines/other/run", {})).body;
    await house.execute(first.id);
    await house.sql(house.names.source, "DELETE FROM trip WHERE id = 7");
    await set("other", { every: "PT1H", do: "sweep" });
    await dueNow("other");
    expect(await begin()).toEqual(["other"]);
    const run = await latest("other");
    await house.execute(run?.id ?? 0);
    expect((await house.ask("GET", `/runs/${run?.id}`)).body.loads[0]).toMatchObject({
      status: "finished",
      tally: { read: "0", deleted: "1" },
      verdict: "proved",
    });
    expect((await set("trips", { every: "PT1H", do: "sweep" })).body.title).toContain("looks for rows gone");
  });
});

describe("one after another", () => {
  test("when it finished, when it was proved, and not when it failed or was a part", async () => {
    await set("other", { after: "trips" });
    await set("third", { after: "trips", on: "proved" });
    const run = async (body: object) => {
      const { id } = (await house.ask("POST", "/pipelines/trips/run", body)).body;
      await house.execute(id);
      return begin(Date.now() + 1000);
    };
    expect((await run({})).toSorted()).toEqual(["other", "third"]);
    expect((await latest("other"))?.reason).toBe("after trips");
    await RunRow.update({ status: "finished" }, { where: { status: "queued" } });
    await house.sql(house.names.warehouse, "UPDATE landing.trip SET fare = fare + 1 WHERE id = 3");
    // Only a proof of all of it can say that it was proved.
    expect(await run({ kind: "prove", rows: true })).toEqual([]);
    await house.sql(house.names.source, "UPDATE trip SET at = now() WHERE id = 5");
    await house.sql(house.names.source, "ALTER TABLE trip RENAME TO away");
    expect(await run({})).toEqual([]);
    await house.sql(house.names.source, "ALTER TABLE away RENAME TO trip");
    expect(await run({ scope: { kind: "slice", slice: "2026-11-01" } })).toEqual([]);
    await house.ask("POST", "/pipelines/trips/run", { scope: { kind: "whole" } });
  });

  test("several that were asked for together have ended with the last of them", async () => {
    await set("other", { after: "trips" });
    const runs = (await house.ask("POST", "/pipelines/trips/runs", { givens: [{}, {}] })).body;
    await house.execute(runs[0].id);
    expect(await begin(Date.now() + 1000)).toEqual([]);
    await house.execute(runs[1].id);
    expect(await begin(Date.now() + 1000)).toEqual(["other"]);
  });

  test("a ring, or a pipeline that is not there, is refused", async () => {
    await set("other", { after: "trips" });
    expect((await set("trips", { after: "other" })).body.title).toContain("never come to an end");
    expect((await set("trips", { after: "nobody" })).body.title).toBe("There is no pipeline nobody");
  });
});

describe("what must not be at the same time", () => {
  test("waits until the other is over, whichever of the two says so, and stays due", async () => {
    await set("trips", { every: "PT15M", apart: ["other"] });
    const busy = (await house.ask("POST", "/pipelines/other/run", {})).body;
    await dueNow("trips");
    expect(await begin()).toEqual([]);
    await house.execute(busy.id);
    expect(await begin()).toEqual(["trips"]);
    await set("other", { every: "PT15M" });
    await dueNow("other");
    expect(await begin()).toEqual([]);
  });

  test("of two that are due at once one begins, however many look", async () => {
    await set("trips", { every: "PT15M", apart: ["other"] });
    await set("other", { every: "PT15M", apart: ["trips"] });
    await dueNow("trips");
    await dueNow("other");
    expect((await Promise.all([1, 2, 3, 4].map(() => begin()))).flat()).toHaveLength(1);
  });

  test("where its last run is not over it waits once, or leaves the time out", async () => {
    await set("trips", { every: "PT15M" });
    await dueNow("trips");
    expect(await begin()).toEqual(["trips"]);
    await dueNow("trips");
    expect(await begin()).toEqual([]);
    await RunRow.update({ status: "running" }, { where: { pipeline: "trips", status: "queued" } });
    await dueNow("trips");
    expect(await begin()).toEqual(["trips"]);
    await RunRow.update({ status: "running" }, { where: { pipeline: "trips", status: "queued" } });
    await set("trips", { every: "PT15M", overlap: "skip" });
    await dueNow("trips");
    expect(await begin()).toEqual([]);
  });
});

describe("downtime and pauses", () => {
  const missed = (name: string) =>
    TimerRow.update({ nextAt: new Date(now - 86_400_000) }, { where: { pipeline: name } });

  test("one run catches up, or none where that is said", async () => {
    await set("trips", { every: "PT15M" });
    await set("other", { every: "PT15M", catchUp: "none" });
    await missed("trips");
    await missed("other");
    expect(await begin()).toEqual(["trips"]);
    expect((await latest("trips"))?.reason).toBe("on schedule, after downtime");
    expect((await TimerRow.findOne({ where: { pipeline: "other" } }))?.nextAt?.toISOString()).toBe(
      "2026-11-27T12:15:00.000Z",
    );
  });

  test("all pause with a reason that is told, and go on with what came due", async () => {
    await set("trips", { every: "PT15M" });
    await dueNow("trips");
    expect((await house.ask("PUT", "/schedules/paused", { reason: " " })).status).toBe(422);
    await house.ask("PUT", "/schedules/paused", { reason: "the warehouse moves" });
    expect(await begin()).toEqual([]);
    const { body } = await house.ask("GET", "/schedules");
    expect(body.paused).toMatchObject({ reason: "the warehouse moves", by: "The editor" });
    expect(body.rows.find((row: { pipeline: string }) => row.pipeline === "trips")).toMatchObject({
      words: "every 15 minutes",
      next: expect.any(Array),
    });
    expect((await house.as(house.tokens.viewer)("PUT", "/schedules/paused", { reason: null })).status).toBe(403);
    await house.ask("PUT", "/schedules/paused", { reason: null });
    expect(await begin()).toEqual(["trips"]);
  });
});
