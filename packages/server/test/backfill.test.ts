import { cutInterval } from "@undercoat/core/schedule/intervals";
import { BackfillSliceRow, RunRow } from "@undercoat/server/store/models";
import { afterAll, beforeAll, describe, expect, test } from "vitest";
import { advanceBackfills } from "../src/jobs/backfill.ts";
import { environment, makeHouse, projectFile, type TestHouse, trips } from "./house.ts";

/** An earlier interval, slice by slice: in its order, so many at a time, after everything else, and on after anything. */
let house: TestHouse;
beforeAll(async () => {
  house = await makeHouse("backfill");
  await house.sql(house.names.source, trips);
  await house.ask("POST", "/project", { text: projectFile(house), environment: environment() });
});
afterAll(() => house.close());

test("intervals are cut at the beginnings of days, weeks and months", () => {
  const cut = (from: string, to: string, by: "day" | "week" | "month") =>
    cutInterval({ from, to }, by).map((one) => `${one.from}/${one.to}`);
  expect(cut("2028-02-28", "2028-03-02", "day")).toEqual([
    "2028-02-28/2028-02-29",
    "2028-02-29/2028-03-01",
    "2028-03-01/2028-03-02",
  ]);
  expect(cut("2026-11-26", "2026-12-08", "week")).toEqual([
    "2026-11-26/2026-11-30",
    "2026-11-30/2026-12-07",
    "2026-12-07/2026-12-08",
  ]);
  expect(cut("2026-01-31", "2026-04-01", "month")).toEqual([
    "2026-01-31/2026-02-01",
    "2026-02-01/2026-03-01",
    "2026-03-01/2026-04-01",
  ]);
  expect(() => cut("2026-01-01", "2026-01-01", "day")).toThrow("Nothing lies between");
  expect(() => cut("2026-02-30", "2026-03-01", "day")).toThrow("is not a day");
  expect(() => cut("1900-01-01", "2026-01-01", "day")).toThrow("more than 5000 parts");
});

const begin = (body: object = {}) =>
  house.ask("POST", "/backfills", { pipeline: "trips", from: "2026-11-01", to: "2026-11-06", ...body });
const view = async (id: number) => (await house.ask("GET", `/backfills/${id}`)).body;
const statuses = async (id: number) => (await view(id)).slices.map((slice: { status: string }) => slice.status);
const advance = () => advanceBackfills(house.house.store, house.house.queue);
/** Executes what waits, as a worker would, until nothing does. */
async function work(id: number): Promise<void> {
  for (let round = 0; round < 50; round++) {
    const queued = await RunRow.findAll({ where: { status: "queued" }, order: ["id"] });
    for (const run of queued) await house.execute(run.id);
    await advance();
    if ((await view(id)).status !== "open") return;
    if (queued.length === 0) return;
  }
}

describe("a backfill", () => {
  test("loads each slice by a run of its own, newest first, each proved", async () => {
    const { status, body } = await begin();
    expect([status, body.slices.length, body.status]).toEqual([201, 5, "open"]);
    expect(await statuses(body.id)).toEqual(["waiting", "waiting", "waiting", "waiting", "running"]);
    await work(body.id);
    const done = await view(body.id);
    expect(done).toMatchObject({ status: "finished", tally: { new: "100" }, secondsLeft: null });
    expect(done.slices.every((slice: { verdict: string }) => slice.verdict === "proved")).toBe(true);
    const runs = await RunRow.findAll({ where: { backfill: body.id }, order: ["id"] });
    expect(runs.map((run) => (run.scope as { from: string }).from)).toEqual([
      "2026-11-05",
      "2026-11-04",
      "2026-11-03",
      "2026-11-02",
      "2026-11-01",
    ]);
    // A watermark is not moved by what is loaded again.
    const { id } = (await house.ask("POST", "/pipelines/trips/run", {})).body;
    await house.execute(id);
    expect((await house.ask("GET", `/runs/${id}`)).body.loads[0].tally).toMatchObject({ read: "100", same: "100" });
  });

  test("gives way to whatever else waits, and goes on afterwards", async () => {
    const other = (await house.ask("POST", "/pipelines/trips/run", {})).body;
    const { body } = await begin({ order: "oldest", parallel: 2 });
    expect(await statuses(body.id)).toEqual(Array(5).fill("waiting"));
    await house.execute(other.id);
    await advance();
    expect(await statuses(body.id)).toEqual(["running", "running", "waiting", "waiting", "waiting"]);
    await work(body.id);
    expect((await view(body.id)).status).toBe("finished");
  });

  test("is paused, goes on, and never loads a slice twice, however many look", async () => {
    const { body } = await begin({ by: "week", order: "oldest" });
    await house.ask("POST", `/backfills/${body.id}/pause`, {});
    await RunRow.findAll({ where: { status: "queued" } }).then(async ([run]) => house.execute(run?.id ?? 0));
    await Promise.all([1, 2, 3, 4].map(advance));
    expect((await statuses(body.id)).filter((status: string) => status === "running")).toEqual([]);
    await house.ask("POST", `/backfills/${body.id}/resume`, {});
    await Promise.all([1, 2, 3, 4].map(advance));
    await work(body.id);
    const runs = await RunRow.findAll({ where: { backfill: body.id } });
    expect([(await view(body.id)).status, runs.length]).toEqual(["finished", 2]);
  });

  test("tries again what failed when somebody says so; the others are loaded", async () => {
    await house.sql(house.names.source, "ALTER TABLE trip RENAME COLUMN fare TO away");
    const { body } = await begin({ from: "2026-11-01", to: "2026-11-03" });
    await work(body.id);
    const failed = await view(body.id);
    expect(failed.status).toBe("open");
    expect(failed.slices.map((slice: { status: string }) => slice.status)).toEqual(["failed", "failed"]);
    expect(failed.slices[0].failure.message).toContain("fare");
    // Nothing has changed while it waits for somebody, so nobody is told so at each look.
    const heard: unknown[] = [];
    const mark = { kind: "changed" as const, what: "users" as const };
    const deafen = await house.house.store.listen({ event: (event) => heard.push(event) });
    await advance();
    await house.house.store.tell(mark);
    await expect.poll(() => heard).toContainEqual(mark);
    await deafen();
    expect(heard).toEqual([mark]);
    await house.sql(house.names.source, "ALTER TABLE trip RENAME COLUMN away TO fare");
    // Begun again it goes on with what is left.
    const again = await begin({ from: "2026-11-01", to: "2026-11-03" });
    expect(again.body.id).toBe(body.id);
    await work(body.id);
    expect((await view(body.id)).status).toBe("finished");
  });

  test("a slice whose worker was stopped is loaded by the next, and counts as nothing that failed", async () => {
    const { body } = await begin({ from: "2026-11-01", to: "2026-11-02" });
    const [slice] = await BackfillSliceRow.findAll({ where: { backfillId: body.id } });
    const { recoverRuns } = await import("../src/jobs/recover.ts");
    const { claimRun } = await import("../src/jobs/lease.ts");
    await claimRun(house.house.store, slice?.runId ?? 0, "gone");
    await RunRow.update({ leaseUntil: new Date(0) }, { where: { id: slice?.runId ?? 0 } });
    await recoverRuns(house.house.store, "another");
    expect(await statuses(body.id)).toEqual(["waiting"]);
    await advance();
    await work(body.id);
    expect((await view(body.id)).status).toBe("finished");
  });

  test("is cancelled where it is, and refused where it can't be", async () => {
    const { body } = await begin();
    expect((await house.ask("POST", `/backfills/${body.id}/cancel`, {})).body.status).toBe("cancelled");
    await work(body.id);
    expect((await statuses(body.id)).filter((status: string) => status === "waiting")).toHaveLength(4);
    expect((await house.ask("POST", `/backfills/${body.id}/pause`, {})).status).toBe(409);
    for (const [wrong, says] of [
      [{ from: "2026-11-06" }, "Nothing lies between"],
      [{ to: "soon" }, "soon is not a day"],
      [{ pipeline: "nobody" }, "There is no pipeline nobody"],
      [{ loads: ["nothing"] }, "has no load nothing"],
      [{ given: { set: "west" } }, "no values named west"],
    ] as const)
      expect((await begin(wrong)).body.title).toContain(says);
    expect((await house.as(house.tokens.viewer)("POST", "/backfills", {})).status).toBe(403);
  });

  test("of a pipeline that is another by now pauses with the reason, and holds no other up", async () => {
    const { body: stuck } = await begin({ order: "oldest", loads: ["trip"] });
    const { body: other } = await begin({ order: "newest", by: "week" });
    await house.house.store.sequelize.query("UPDATE backfills SET loads = '[\"gone\"]' WHERE id = :id", {
      replacements: { id: stuck.id },
    });
    await work(other.id);
    await advance();
    expect(await view(stuck.id)).toMatchObject({ status: "paused", problem: expect.stringContaining("gone") });
    expect((await view(other.id)).status).toBe("finished");
  });
});
