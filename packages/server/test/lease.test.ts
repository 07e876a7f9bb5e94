import { executeRun } from "@undercoat/server/jobs/execute";
import { claimRun, LeaseLost, renewLeases, takeLostRun } from "@undercoat/server/jobs/lease";
import { recoverRuns } from "@undercoat/server/jobs/recover";
import { startDue } from "@undercoat/server/jobs/scheduler";
import { cancelRun } from "@undercoat/server/jobs/state";
import { startWorker } from "@undercoat/server/jobs/worker";
import { ConnectionRow, PipelineRow, ProofRow, RunLoadRow, RunRow, TimerRow } from "@undercoat/server/store/models";
import pino from "pino";
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, inject, test } from "vitest";
import { setTimers } from "../src/pipelines/timers.ts";
import { environment, makeHouse, projectFile, type TestHouse, trips } from "./house.ts";
import { type Fate, makeWire, type Wire } from "./wire.ts";

/** What becomes of runs whose worker, wire or database fails at the worst moment. */
let house: TestHouse;
let wire: Wire;
const silent = pino({ level: "silent" });

beforeAll(async () => {
  house = await makeHouse("lease");
  wire = await makeWire(inject("cluster").port);
  await house.sql(house.names.source, trips);
  const text = projectFile(house, (file) =>
    file
      .replace(/(store: \{ kind: postgres, host: 127\.0\.0\.1, port: )\d+/, `$1${wire.port}`)
      .replace("    schedule: { every: PT15M, zone: Europe/Oslo }\n", ""),
  );
  expect((await house.ask("POST", "/project", { text, environment: environment() })).status).toBe(200);
});
afterAll(async () => {
  await wire.close();
  await house.close();
});
beforeEach(async () => {
  Object.assign(wire, { fate: null, thenDown: false, down: false });
  await house.sql(
    house.names.warehouse,
    "DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE",
  );
  await house.sql("lease_own", "DELETE FROM jobs.job; DELETE FROM runs; DELETE FROM slices");
});

const view = async (id: number) => (await house.ask("GET", `/runs/${id}`)).body;
const request = async (pipeline = "trips", body = {}) =>
  (await house.ask("POST", `/pipelines/${pipeline}/run`, body)).body.id as number;
const rows = async (table = "landing.trip") =>
  Number((await house.sql(house.names.warehouse, `SELECT count(*) FROM ${table}`)).rows[0].count);
const exists = async (table: string) =>
  (await house.sql(house.names.warehouse, `SELECT to_regclass('${table}') AS it`)).rows[0].it !== null;
async function until<T>(ask: () => Promise<T | undefined | false>): Promise<T> {
  for (;;) {
    const found = await ask();
    if (found) return found;
    await new Promise((done) => setTimeout(done, 20));
  }
}
const lapse = (id: number) =>
  house.sql("lease_own", `UPDATE runs SET lease_until = now() - interval '1 second' WHERE id = ${id}`);

/** A pipeline whose source gives a row every twentieth of a second. */
async function slow(name: string, seconds = 5) {
  await house.sql(
    house.names.source,
    `CREATE OR REPLACE FUNCTION nap(n int) RETURNS int LANGUAGE plpgsql AS $$ BEGIN PERFORM pg_sleep(0.05); RETURN n; END $$;
     CREATE OR REPLACE VIEW ${name} AS SELECT nap(id) AS id, fare, at FROM trip WHERE id <= ${seconds * 20}`,
  );
  const definition = {
    title: name,
    warehouse: "store",
    loads: {
      [name]: {
        from: { connection: "trips", table: `public.${name}` },
        into: { table: `landing.${name}`, mode: "replace" },
      },
    },
  };
  await house.ask("POST", "/pipelines", { name, definition });
}

describe("a commit whose answer is lost", () => {
  test.each<[Fate, string, number | null]>([
    ["answer lost", "finished", 100],
    ["lost", "failed", null],
  ])("%s: the warehouse is asked, and the run %s", async (fate, status, held) => {
    wire.fate = fate;
    const id = await request();
    await house.execute(id);
    expect(await view(id)).toMatchObject({ status, tally: { new: String(held ?? 0) } });
    expect(await exists("landing.trip")).toBe(held !== null);
    if (held) expect(await rows()).toBe(held);
    expect(await ProofRow.count({ where: { runId: id } })).toBe(held ? 1 : 0);
  });

  test.each<[Fate, string]>([
    ["answer lost", "finished"],
    ["lost", "failed"],
  ])(
    "%s, and nobody answers: it is not known, which is said, until the warehouse is back; then %s",
    async (fate, status) => {
      Object.assign(wire, { fate, thenDown: true });
      const id = await request();
      await house.execute(id);
      const doubted = await view(id);
      expect(doubted).toMatchObject({ status: "unknown", loads: [{ status: "unknown" }] });
      expect(doubted.failure.message).toMatch(/^Whether it has committed is not known yet: /);
      expect((await house.ask("DELETE", "/pipelines/trips")).status).toBe(409);
      await lapse(id);
      await recoverRuns(house.house.store, "other");
      expect(await view(id)).toMatchObject({ status: "unknown" });
      expect((await RunRow.findByPk(id))?.asked).toBe(2);
      wire.down = false;
      await lapse(id);
      await recoverRuns(house.house.store, "other");
      expect(await view(id)).toMatchObject({ status });
      expect(await exists("landing.trip")).toBe(status === "finished");
    },
  );

  test("one that nobody will ever answer for can be given up, and that is said", async () => {
    Object.assign(wire, { fate: "answer lost", thenDown: true });
    const id = await request();
    await house.execute(id);
    expect((await house.ask("POST", `/runs/${id}/cancel`)).status).toBe(202);
    expect(await view(id)).toMatchObject({
      status: "failed",
      failure: { message: "Given up by The editor: whether it had committed was never known" },
    });
    expect((await house.ask("POST", `/runs/${id}/cancel`)).status).toBe(409);
    expect((await house.ask("GET", "/standing/ledger?zone=UTC")).body.groups[0].tables[0].failed).toMatchObject({
      run: id,
    });
  });

  test("a cancel that falls into it does not hide that it committed", async () => {
    const id = await request();
    const abort = new AbortController();
    const lease = await claimRun(house.house.store, id, "test");
    if (!lease) throw new Error("not claimed");
    wire.fate = "answer lost";
    const working = executeRun(house.house.store, { lease, signal: abort.signal });
    await until(async () => wire.fate === null);
    abort.abort();
    await working;
    expect(await view(id)).toMatchObject({ status: "finished", tally: { new: "100" } });
  });
});

describe("a worker that was thought dead", () => {
  test("can't commit what another has ended, nor say anything of it", async () => {
    await slow("late", 1);
    const id = await request("late");
    const lease = await claimRun(house.house.store, id, "first");
    if (!lease) throw new Error("not claimed");
    const working = executeRun(house.house.store, { lease, signal: new AbortController().signal });
    await until(async () => (await view(id)).loads[0].phase === "read");
    await lapse(id);
    expect(await recoverRuns(house.house.store, "second")).toBe(1);
    expect(await view(id)).toMatchObject({ status: "failed" });
    await expect(working).rejects.toThrow(LeaseLost);
    expect(await view(id)).toMatchObject({
      status: "failed",
      failure: { message: "The worker stopped before the load was done" },
    });
    expect(await exists("landing.late")).toBe(false);
    expect(await ProofRow.count({ where: { runId: id } })).toBe(0);
  });

  test("keeps its run while it is heard of, and knows when it has lost it", async () => {
    const id = await request();
    const lease = await claimRun(house.house.store, id, "first");
    if (!lease) throw new Error("not claimed");
    await lapse(id);
    // A beat that comes late, but before anybody else, counts.
    expect(await renewLeases(house.house.store, [lease])).toEqual(new Map([[id, false]]));
    expect(await takeLostRun(house.house.store, "second")).toBeNull();
    await lapse(id);
    expect((await takeLostRun(house.house.store, "second"))?.run).toBe(id);
    expect(await renewLeases(house.house.store, [lease])).toEqual(new Map());
    await house.sql("lease_own", "DELETE FROM runs");
  });
});

describe("recovery", () => {
  test("by three at once ends each run once, with one proof", async () => {
    const ids: number[] = [];
    for (let number = 0; number < 6; number++) {
      const id = await request();
      await house.execute(id);
      ids.push(id);
      await RunRow.update({ status: "running", finishedAt: null }, { where: { id } });
      await RunLoadRow.update({ status: "running", proofId: null }, { where: { runId: id } });
      await ProofRow.destroy({ where: { runId: id } });
      await lapse(id);
    }
    const counts = await Promise.all(["a", "b", "c"].map((name) => recoverRuns(house.house.store, name)));
    expect(counts.reduce((sum, count) => sum + count, 0)).toBe(6);
    for (const id of ids) {
      expect(await view(id)).toMatchObject({ status: "finished", verdict: "proved" });
      expect(await ProofRow.count({ where: { runId: id } })).toBe(1);
    }
  });

  test("sees to the others where one run's connection is gone, and to that one when it is back", async () => {
    const [orphan, other] = [await request(), await request()];
    for (const id of [orphan, other]) {
      await claimRun(house.house.store, id, "first");
      await RunLoadRow.update({ status: "running" }, { where: { runId: id } });
      await lapse(id);
    }
    const run = await RunRow.findByPk(orphan, { rejectOnEmpty: true });
    await run.update({ definition: { ...run.definition, warehouse: "gone" } });
    expect(await recoverRuns(house.house.store, "second")).toBe(2);
    expect(await view(orphan)).toMatchObject({
      status: "unknown",
      failure: { message: "Whether it has committed is not known yet: There is no connection gone" },
    });
    expect(await view(other)).toMatchObject({ status: "failed" });
    const store = await ConnectionRow.findByPk("store", { rejectOnEmpty: true });
    expect(store.name).toBe("store");
    await run.update({ definition: { ...run.definition, warehouse: "store" } });
    await lapse(orphan);
    await recoverRuns(house.house.store, "second");
    expect(await view(orphan)).toMatchObject({ status: "failed" });
  });
});

describe("workers", () => {
  let stop: (() => Promise<void>)[] = [];
  const work = async (parallel: number) => {
    stop.push((await startWorker(house.house.store, parallel, silent)).stop);
  };
  afterEach(async () => {
    await Promise.all(stop.map((end) => end()));
    stop = [];
  });

  test("hear of a cancel that nobody told them with their next beat", async () => {
    await slow("deaf", 30);
    const id = await request("deaf");
    await work(1);
    await until(async () => (await view(id)).loads[0].phase === "read");
    await house.sql("lease_own", `UPDATE runs SET cancel_asked_at = now() WHERE id = ${id}`);
    await until(async () => (await view(id)).status === "cancelled");
    expect(await exists("landing.deaf")).toBe(false);
  });

  test("keep a run that begins while the leases of others are renewed", async () => {
    await slow("early", 30);
    await slow("while", 2);
    const early = await request("early");
    await work(2);
    await until(async () => (await view(early)).loads[0].phase === "read");
    const { leaseUntil } = await RunRow.findByPk(early, { rejectOnEmpty: true });
    const meanwhile = await house.house.store.sequelize.transaction(async (transaction) => {
      // The beat waits for this row.
      await RunRow.findByPk(early, { lock: transaction.LOCK.UPDATE, transaction });
      const beats = "SELECT 1 FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND query ILIKE '%lease_until%'";
      await until(async () => Number((await house.sql("lease_own", beats)).rowCount) > 0);
      const id = await request("while");
      await until(async () => (await view(id)).loads[0].phase === "read");
      return id;
    });
    await until(async () => ((await RunRow.findByPk(early))?.leaseUntil ?? 0) > (leaseUntil ?? 0));
    await until(async () => (await view(meanwhile)).finishedAt !== null);
    expect(await view(meanwhile)).toMatchObject({ status: "finished" });
    await house.ask("POST", `/runs/${early}/cancel`);
    await until(async () => (await view(early)).status === "cancelled");
  });

  test("hold a connection's limit together, over runs and workers, and a load says what it waits for", async () => {
    const connection = await ConnectionRow.findByPk("trips", { rejectOnEmpty: true });
    await connection.update({ settings: { ...connection.settings, parallel: 1 } });
    await slow("one", 1);
    await slow("two", 1);
    const ids = [await request("one"), await request("two")];
    await work(1);
    await work(1);
    let [most, waited] = [0, ""];
    await until(async () => {
      const views = await Promise.all(ids.map(view));
      most = Math.max(most, views.filter((run) => run.loads[0].status === "running").length);
      waited ||= views.map((run) => run.loads[0].waitingFor).find(Boolean) ?? "";
      return views.every((run) => run.status === "finished");
    });
    expect(most).toBe(1);
    expect(waited).toBe("a place at trips");
    await connection.update({ settings: { ...connection.settings, parallel: 4 } });
  });

  test("end by themselves what another, which is heard of no more, has begun; and keep what they hold", async () => {
    const lost = await request();
    await claimRun(house.house.store, lost, "elsewhere:1");
    await lapse(lost);
    await slow("held", 30);
    const held = await request("held");
    await work(1);
    await until(async () => (await view(held)).loads[0].phase === "read");
    const { leaseUntil } = await RunRow.findByPk(held, { rejectOnEmpty: true });
    await until(async () => (await view(lost)).status === "failed");
    await until(async () => ((await RunRow.findByPk(held))?.leaseUntil ?? 0) > (leaseUntil ?? 0));
    await house.ask("POST", `/runs/${held}/cancel`);
    await until(async () => (await view(held)).status === "cancelled");
  });

  test("take a run that stands in no queue", async () => {
    const id = await request();
    await house.sql("lease_own", "DELETE FROM jobs.job; UPDATE runs SET created_at = now() - interval '2 minutes'");
    await house.house.queue.resend();
    await house.house.queue.resend();
    expect((await house.sql("lease_own", "SELECT 1 FROM jobs.job WHERE state < 'active'")).rowCount).toBe(1);
    await work(1);
    await until(async () => (await view(id)).status === "finished");
  });

  test("that stop say so of their runs, and nothing of them is left", async () => {
    await slow("stopped", 30);
    const id = await request("stopped");
    await work(1);
    await until(async () => (await view(id)).loads[0].phase === "read");
    await stop.pop()?.();
    expect(await view(id)).toMatchObject({
      status: "failed",
      failure: { message: "The worker was stopped before the load was done" },
    });
  });
});

test("a run that can't be queued is not written down, and its schedule does not move on", async () => {
  const now = Date.parse("2026-11-23T12:00:30Z");
  const at = new Date("2026-11-23T12:00:00Z");
  const row = await PipelineRow.findByPk("trips", { rejectOnEmpty: true });
  await row.update({ definition: { ...row.definition, schedule: { every: "PT15M" } } });
  await setTimers("trips", row.definition, now);
  await TimerRow.update({ nextAt: at }, { where: { pipeline: "trips" } });
  await house.sql("lease_own", "ALTER SCHEMA jobs RENAME TO jobs_away");
  const errors: unknown[] = [];
  try {
    expect(await startDue(house.house.store, house.house.queue, now, (error) => errors.push(error))).toEqual([]);
    expect((await house.ask("POST", "/pipelines/trips/run", {})).status).toBe(500);
  } finally {
    await house.sql("lease_own", "ALTER SCHEMA jobs_away RENAME TO jobs");
  }
  expect(errors).toHaveLength(1);
  expect(await RunRow.count()).toBe(0);
  expect((await TimerRow.findOne({ where: { pipeline: "trips" } }))?.nextAt).toEqual(at);
  expect(await startDue(house.house.store, house.house.queue, now)).toEqual(["trips"]);
  await TimerRow.destroy({ where: { pipeline: "trips" } });
});

test("tables that join don't undo what somebody saved meanwhile", async () => {
  await house.sql(house.names.source, "CREATE TABLE IF NOT EXISTS extra (id int PRIMARY KEY)");
  const row = await PipelineRow.findByPk("trips", { rejectOnEmpty: true });
  const joins = { connection: "trips", schema: "public", tables: "extra", into: "landing" };
  await row.update({ definition: { ...row.definition, joins }, updatedAt: new Date() });
  // A lock on the catalog keeps the look for new tables waiting while somebody saves.
  const saved = { ...row.definition, joins, title: "Saved meanwhile" };
  const held = await house.sql(house.names.source, "SELECT 1").then(() => house.url(house.names.source));
  const { default: pg } = await import("pg");
  const locker = new pg.Client({ connectionString: held });
  await locker.connect();
  await locker.query("BEGIN; LOCK TABLE pg_catalog.pg_class IN ACCESS EXCLUSIVE MODE");
  const asked = request();
  await until(
    async () =>
      (
        await house.sql(
          "postgres",
          "SELECT 1 FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND datname = 'lease_source'",
        )
      ).rowCount,
  );
  await row.update({ definition: saved, title: saved.title, updatedAt: new Date(Date.now() + 5) });
  await locker.query("COMMIT");
  await locker.end();
  const run = await RunRow.findByPk(await asked, { rejectOnEmpty: true });
  expect((await PipelineRow.findByPk("trips"))?.definition).toEqual(saved);
  expect(Object.keys(run.definition.loads)).toEqual(["trip"]);
  const next = await RunRow.findByPk(await request(), { rejectOnEmpty: true });
  expect(Object.keys(next.definition.loads)).toEqual(["trip", "extra"]);
  expect((await PipelineRow.findByPk("trips"))?.title).toBe("Saved meanwhile");
});

test("a lost connection to the database is made again, one and not more", async () => {
  let [heard, back] = [0, 0];
  const deafen = await house.house.store.listen({ job: () => heard++, back: () => back++ });
  const ears = async () =>
    (
      await house.sql(
        "postgres",
        "SELECT pid FROM pg_stat_activity WHERE application_name = 'undercoat ear' AND datname = 'lease_own'",
      )
    ).rows;
  for (let number = 0; number < 3; number++) {
    const [{ pid }] = await until(async () => {
      const found = await ears();
      return found.length > 0 && found;
    });
    await house.sql("postgres", `SELECT pg_terminate_backend(${pid})`);
    await until(async () => {
      const found = await ears();
      return found.length > 0 && found.every((ear) => ear.pid !== pid);
    });
    expect(await ears()).toHaveLength(1);
  }
  await until(async () => {
    await house.house.store.wakeWorkers();
    return heard > 0;
  });
  expect(back).toBe(3);
  await deafen();
  expect(await ears()).toHaveLength(0);
});

test("a run that waits ends at once when it is cancelled, and is not cancelled twice", async () => {
  const id = await request();
  expect(await cancelRun(house.house.store, id, "somebody")).toBe(true);
  expect(await claimRun(house.house.store, id, "late")).toBeNull();
  expect(await cancelRun(house.house.store, id, "somebody")).toBe(false);
});
