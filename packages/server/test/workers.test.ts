import { type ChildProcess, spawn } from "node:child_process";
import { once } from "node:events";
import { fileURLToPath } from "node:url";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { startWorker } from "@undercoat/server/jobs/worker";
import { PipelineRow, RunRow, TimerRow, WorkerRow } from "@undercoat/server/store/models";
import pino from "pino";
import { afterAll, afterEach, beforeAll, describe, expect, test } from "vitest";
import { startDue } from "../src/jobs/scheduler.ts";
import { setTimers } from "../src/pipelines/timers.ts";
import { environment, makeHouse, projectFile, type TestHouse, trips } from "./house.ts";

/** Those who take runs: in turns, within limits, and whoever of them dies. */
let house: TestHouse;
beforeAll(async () => {
  house = await makeHouse("workers");
  await house.sql(house.names.source, trips);
  await house.ask("POST", "/project", { text: projectFile(house), environment: environment() });
});
let stops: (() => Promise<void>)[] = [];
const work = async (parallel: number) => {
  const { stop } = await startWorker(house.house.store, parallel, pino({ level: "silent" }));
  stops.push(stop);
};
afterEach(async () => {
  await Promise.all(stops.map((stop) => stop()));
  stops = [];
});
afterAll(() => house.close());

async function until(so: () => Promise<boolean>): Promise<void> {
  for (let tries = 0; tries < 1200; tries++) {
    if (await so()) return;
    await new Promise((resolve) => setTimeout(resolve, 25));
  }
  throw new Error("never so");
}
const list = async () => (await house.ask("GET", "/workers")).body;
const request = async (pipeline = "trips"): Promise<number> =>
  (await house.ask("POST", `/pipelines/${pipeline}/run`, {})).body.id;
/** A pipeline like the test's, with a table and a schedule of its own. */
async function copy(name: string): Promise<Pipeline> {
  const { definition } = await PipelineRow.findByPk("trips", { rejectOnEmpty: true });
  const { trip } = definition.loads;
  if (!trip) throw new Error("the test's pipeline has a load trip");
  const into = { ...trip.into, table: `landing.${name}` };
  const own = { ...definition, title: name, loads: { trip: { ...trip, into } }, schedule: { every: "PT1H" } };
  expect((await house.ask("POST", "/pipelines", { name, definition: own })).status).toBe(201);
  return own;
}
const status = async (id: number) => (await RunRow.findByPk(id))?.status;

describe("a worker", () => {
  test("says where it is, what it does and with how much memory, and is gone from the list when it stops", async () => {
    await work(3);
    const { workers, connections } = await list();
    expect(workers).toMatchObject([{ pid: process.pid, parallel: 3, resting: false, lost: false, runs: [] }]);
    expect(Number(workers[0].memory)).toBeGreaterThan(10_000_000);
    expect(connections).toContainEqual({ name: "trips", parallel: 4, taken: 0 });
    await stops.pop()?.();
    expect((await list()).workers).toEqual([]);
  });

  test("rests when an administrator says so, and goes on", async () => {
    await work(1);
    const [{ name }] = (await list()).workers;
    const put = (body: object, as = house.tokens.administrator) => house.as(as)("PUT", `/workers/${name}`, body);
    expect((await put({ resting: true }, house.tokens.editor)).status).toBe(403);
    expect((await put({ parallel: 0 })).status).toBe(422);
    await put({ resting: true });
    // It has heard once it has said again that it lives.
    const { seenAt } = await WorkerRow.findByPk(name, { rejectOnEmpty: true });
    await until(async () => ((await WorkerRow.findByPk(name))?.seenAt ?? 0) > seenAt);
    const id = await request();
    const before = (await WorkerRow.findByPk(name, { rejectOnEmpty: true })).seenAt;
    await until(async () => ((await WorkerRow.findByPk(name))?.seenAt ?? 0) > before);
    expect([await status(id), (await list()).waiting]).toEqual(["queued", 1]);
    await put({ resting: false, parallel: 2 });
    await until(async () => (await status(id)) === "finished");
  });
});

test("pipelines take turns: one that asked for much does not keep another waiting", async () => {
  await copy("other");
  const many: number[] = [];
  for (let number = 0; number < 6; number++) many.push(await request());
  const other = await request("other");
  await work(1);
  await until(async () => (await RunRow.count({ where: { status: "finished", id: [...many, other] } })) === 7);
  const order = await RunRow.findAll({ where: { id: [...many, other] }, order: ["startedAt"] });
  expect(order.map(({ id }) => id).indexOf(other)).toBeLessThanOrEqual(1);
  expect(order.map(({ id }) => id).filter((id) => id !== other)).toEqual(many);
});

describe("four processes", () => {
  const main = fileURLToPath(new URL("../src/main.ts", import.meta.url));
  const processes: ChildProcess[] = [];
  afterAll(() => {
    for (const one of processes) one.kill("SIGKILL");
  });

  test("share what is due, each run begun once; two are killed, and nothing stays behind", async () => {
    const names = Array.from({ length: 40 }, (_, at) => `site${at}`);
    const now = Date.now();
    for (const name of names) await setTimers(name, await copy(name), now);
    await RunRow.destroy({ where: {} });
    for (let number = 0; number < 4; number++)
      processes.push(
        spawn(process.execPath, ["--import", "tsx", main, "worker"], {
          env: {
            ...process.env,
            UNDERCOAT_DATA: house.house.settings.data,
            UNDERCOAT_DATABASE_URL: house.house.store.url,
            UNDERCOAT_SECRET_KEY: house.house.settings.key.toString("base64"),
            UNDERCOAT_PARALLEL: "2",
          },
          stdio: "ignore",
        }),
      );
    await until(async () => (await list()).workers.length === 4);
    await TimerRow.update({ nextAt: new Date(now - 1000) }, { where: { pipeline: names } });
    // Two look at the clock at the same moment.
    const { store, queue } = house.house;
    const started = await Promise.all([startDue(store, queue, now), startDue(store, queue, now)]);
    expect(started.flat().toSorted()).toEqual(names.toSorted());
    await until(async () => (await RunRow.count({ where: { status: "finished" } })) >= 4);
    for (const one of processes.slice(0, 2)) {
      one.kill("SIGKILL");
      await once(one, "exit");
    }
    await until(async () => (await RunRow.count({ where: { status: ["queued", "running", "unknown"] } })) === 0);
    const runs = await RunRow.findAll();
    expect(runs).toHaveLength(40);
    const killed = new Set(processes.slice(0, 2).map(({ pid }) => String(pid)));
    for (const run of runs.filter(({ status: end }) => end !== "finished"))
      expect(run.failure?.message).toMatch(/^The worker was stopped|^The worker stopped/);
    expect(runs.filter(({ status: end }) => end === "failed").length).toBeLessThanOrEqual(4);
    // Nobody's run but theirs was lost, and the list says that they are not heard of any more.
    const { workers } = await list();
    for (const { pid, lost } of workers) expect(lost).toBe(killed.has(String(pid)));
  });
});
