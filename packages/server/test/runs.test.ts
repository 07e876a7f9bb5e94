import { recoverRuns } from "@undercoat/server/jobs/recover";
import { startDue } from "@undercoat/server/jobs/scheduler";
import { startWorker } from "@undercoat/server/jobs/worker";
import { PipelineRow, RunLoadRow, RunRow, TimerRow } from "@undercoat/server/store/models";
import pino from "pino";
import { afterAll, beforeAll, describe, expect, test } from "vitest";
import { environment, makeHouse, projectFile, type TestHouse, trips } from "./house.ts";

let it_: TestHouse;
beforeAll(async () => {
  it_ = await makeHouse("runs");
  await it_.sql(it_.names.source, trips);
  await it_.ask("POST", "/project", { text: projectFile(it_), environment: environment() });
});
afterAll(() => it_.close());

async function run(body: object = {}) {
  const started = (await it_.ask("POST", "/pipelines/trips/run", body)).body;
  await it_.execute(started.id);
  return (await it_.ask("GET", `/runs/${started.id}`)).body;
}

describe("a run", () => {
  test("loads, proves, tells what happened, and moves the ledger's marks", async () => {
    const first = await run();
    expect(first).toMatchObject({ status: "finished", verdict: "proved", tally: { read: "100", new: "100" } });
    const lines = (await it_.ask("GET", `/runs/${first.id}/lines`)).body as { message: string; sql: string | null }[];
    expect(lines.map((line) => line.message).at(-1)).toMatch(/^committed; watermark/);
    expect(lines[0]?.sql).toMatch(/^COPY \(SELECT/);
    const ledger = (await it_.ask("GET", "/standing/ledger?zone=UTC")).body;
    expect(ledger.groups[0].tables[0]).toMatchObject({
      target: "landing.trip",
      rows: "100",
      difference: "0",
      verdict: "proved",
      loading: false,
    });
    const proof = (await it_.ask("GET", `/proofs/${first.loads[0].proof}`)).body;
    expect(proof.sliceFigures).toHaveLength(5);
    expect(proof.sourceSql).toContain('"public"."trip"');
  });

  test("that disagrees is told on every page, found row by row, and repaired", async () => {
    await it_.sql(
      it_.names.warehouse,
      "UPDATE landing.trip SET fare = 0 WHERE id = 50; DELETE FROM landing.trip WHERE id = 60",
    );
    const proved = await run({ kind: "prove", rows: true });
    expect(proved).toMatchObject({ status: "finished", verdict: "disagrees" });
    const { rows, sliceFigures } = (await it_.ask("GET", `/proofs/${proved.loads[0].proof}`)).body;
    expect(sliceFigures.filter((slice: { verdict: string }) => slice.verdict === "disagrees")).toHaveLength(1);
    expect(rows).toMatchObject({ missing: 1, different: 1, extra: 0 });
    const keys = rows.rows.map((row: { key: string[] }) => row.key);
    const repaired = await run({ kind: "repair", scope: { kind: "keys", keys } });
    expect(repaired).toMatchObject({ verdict: "proved", tally: { read: "2", new: "1", changed: "1" } });
    expect((await it_.ask("GET", "/standing/ledger?zone=UTC")).body.groups[0].tables[0].verdict).toBe("proved");
  });

  test("that fails says why, and the pipeline goes on with the next", async () => {
    await it_.sql(it_.names.source, "ALTER TABLE trip RENAME TO gone");
    const failed = await run();
    expect(failed).toMatchObject({
      status: "failed",
      failure: { message: "trips has no table public.trip, or undercoat may not see it" },
    });
    await it_.sql(it_.names.source, "ALTER TABLE gone RENAME TO trip");
    expect((await run()).status).toBe("finished");
  });

  test("that is queued can be cancelled, and one that has ended can't", async () => {
    const { id } = (await it_.ask("POST", "/pipelines/trips/run", {})).body;
    expect((await it_.ask("POST", `/runs/${id}/cancel`)).status).toBe(202);
    await it_.execute(id);
    expect((await it_.ask("GET", `/runs/${id}`)).body).toMatchObject({
      status: "cancelled",
      loads: [{ status: "cancelled", tally: { read: "0" } }],
    });
    expect((await it_.ask("POST", `/runs/${id}/cancel`)).status).toBe(409);
  });
});

test("a rehearsed draft is told from what is saved, and rehearsing again looks at the draft", async () => {
  const { definition } = (await it_.ask("GET", "/pipelines/trips")).body;
  const draft = structuredClone(definition);
  draft.loads.trip.from.where = "fare > 1000000";
  const rehearsed = await run({ kind: "rehearse", loads: ["trip"], definition: draft });
  expect(rehearsed).toMatchObject({ saved: false, status: "finished", tally: { read: "0" } });
  const again = (await it_.ask("POST", `/runs/${rehearsed.id}/again`, {})).body;
  await it_.execute(again.id);
  expect((await it_.ask("GET", `/runs/${again.id}`)).body).toMatchObject({ saved: false, tally: { read: "0" } });
  expect(await run({ kind: "rehearse", scope: { kind: "whole" } })).toMatchObject({
    saved: true,
    tally: { read: "100" },
  });
});

test("a run's lines are the newest, and after one only what is new", async () => {
  const { id } = await run();
  const lines = (await it_.ask("GET", `/runs/${id}/lines`)).body as { id: number }[];
  expect(lines.length).toBeGreaterThan(2);
  expect(lines.map((line) => line.id)).toEqual(lines.map((line) => line.id).toSorted((a, b) => a - b));
  expect((await it_.ask("GET", `/runs/${id}/lines?after=${lines.at(-2)?.id}`)).body).toEqual(lines.slice(-1));
});

describe("the scheduler", () => {
  const executeQueued = async () => {
    for (const { id } of await RunRow.findAll({ where: { status: "queued" } })) await it_.execute(id);
  };
  const due = (at: Date) => TimerRow.update({ nextAt: at }, { where: { pipeline: "trips" } });

  test("starts a due pipeline once, however many processes look, and reckons the next time from now", async () => {
    const now = Date.parse("2026-11-23T12:00:30Z");
    await due(new Date("2026-11-23T12:00:00Z"));
    const started = await Promise.all([1, 2, 3, 4].map(() => startDue(it_.house.store, it_.house.queue, now)));
    expect(started.flat()).toEqual(["trips"]);
    expect((await PipelineRow.findByPk("trips"))?.nextAt?.toISOString()).toBe("2026-11-23T12:15:00.000Z");
    expect(await startDue(it_.house.store, it_.house.queue, now)).toEqual([]);
    await executeQueued();
  });

  test("after a day of downtime makes one run and not ninety-six", async () => {
    const before = await RunRow.count();
    await due(new Date("2026-11-22T12:00:00Z"));
    const now = Date.parse("2026-11-23T12:07:00Z");
    await startDue(it_.house.store, it_.house.queue, now);
    await startDue(it_.house.store, it_.house.queue, now + 1000);
    expect(await RunRow.count()).toBe(before + 1);
    const [last] = await RunRow.findAll({ order: [["id", "DESC"]], limit: 1 });
    expect(last?.reason).toBe("on schedule, after downtime");
  });

  test("leaves a paused pipeline alone", async () => {
    const { definition } = (await it_.ask("GET", "/pipelines/trips")).body;
    await it_.ask("PUT", "/pipelines/trips/schedules", { schedules: [{ ...definition.schedule, paused: true }] });
    expect((await PipelineRow.findByPk("trips"))?.nextAt).toBeNull();
    await it_.ask("PUT", "/pipelines/trips/schedules", { schedules: [{ ...definition.schedule, paused: false }] });
    expect((await PipelineRow.findByPk("trips"))?.nextAt).not.toBeNull();
  });
});

describe("a run whose worker is gone", () => {
  test("ends as failed, or as finished where the warehouse shows that it had committed", async () => {
    const done = await run();
    await RunRow.update(
      { status: "running", worker: "elsewhere:1", leaseUntil: new Date(Date.now() - 60_000), finishedAt: null },
      { where: { id: done.id } },
    );
    await RunLoadRow.update(
      {
        status: "running",
        tally: { read: "0", new: "0", changed: "0", same: "0", rejected: "0", deleted: "0" },
        proofId: null,
      },
      { where: { runId: done.id } },
    );
    const { id } = (await it_.ask("POST", "/pipelines/trips/run", {})).body;
    await RunRow.update(
      { status: "running", worker: "elsewhere:1", leaseUntil: new Date(Date.now() - 60_000) },
      { where: { id } },
    );
    expect(await recoverRuns(it_.house.store, "test")).toBe(2);
    expect((await it_.ask("GET", `/runs/${done.id}`)).body).toMatchObject({
      status: "finished",
      tally: done.tally,
      verdict: "proved",
    });
    expect((await it_.ask("GET", `/runs/${id}`)).body).toMatchObject({
      status: "failed",
      failure: { message: "The worker stopped before the load was done" },
    });
    expect(await recoverRuns(it_.house.store, "test")).toBe(0);
  });
});

test("a worker takes what is queued, and a cancelled run stops within 2 s and leaves nothing", async () => {
  // What earlier tests queued is not this test's matter.
  await RunRow.update({ status: "cancelled" }, { where: { status: "queued" } });
  const worker = await startWorker(it_.house.store, 2, pino({ level: "silent" }));
  try {
    await it_.sql(
      it_.names.source,
      "CREATE OR REPLACE FUNCTION nap(n int) RETURNS int LANGUAGE plpgsql AS $$ BEGIN PERFORM pg_sleep(0.05); RETURN n; END $$; CREATE OR REPLACE VIEW slow AS SELECT nap(id) AS id, fare, at FROM trip",
    );
    const { definition } = (await it_.ask("GET", "/pipelines/trips")).body;
    const { schedule: _, ...rest } = definition;
    const slow = {
      ...rest,
      title: "Slow",
      loads: {
        slow: { from: { connection: "trips", table: "public.slow" }, into: { table: "landing.slow", mode: "replace" } },
      },
    };
    expect((await it_.ask("POST", "/pipelines", { name: "slow", definition: slow })).status).toBe(201);
    const { id } = (await it_.ask("POST", "/pipelines/slow/run", {})).body;
    const settled = async (wanted: (view: { status: string; loads: { phase: string }[] }) => boolean) => {
      for (;;) {
        const view = (await it_.ask("GET", `/runs/${id}`)).body;
        if (wanted(view)) return view;
        await new Promise((resolve) => setTimeout(resolve, 20));
      }
    };
    const reading = await settled((view) => view.loads[0]?.phase === "read");
    expect(reading.loads[0].phases.map((entry: { phase: string }) => entry.phase)).toEqual(["wait", "read"]);
    const asked = Date.now();
    await it_.ask("POST", `/runs/${id}/cancel`);
    await settled((view) => view.status === "cancelled");
    expect(Date.now() - asked).toBeLessThan(2000);
    expect((await it_.sql(it_.names.warehouse, "SELECT to_regclass('landing.slow') AS it")).rows[0].it).toBeNull();
  } finally {
    await worker.stop();
  }
});
