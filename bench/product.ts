import { type ChildProcess, spawn } from "node:child_process";
import { randomBytes } from "node:crypto";
import { once } from "node:events";
import { mkdtempSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import type { ServerCredentials } from "@undercoat/engine/connection/credentials";
import { issuePass } from "@undercoat/server/account/passes";
import { makeApp } from "@undercoat/server/app";
import { advanceBackfills, beginBackfill } from "@undercoat/server/jobs/backfill";
import { Queue } from "@undercoat/server/jobs/queue";
import { requestRuns } from "@undercoat/server/jobs/runs";
import { startScheduler } from "@undercoat/server/jobs/scheduler";
import { savePipeline } from "@undercoat/server/pipelines/save";
import { seal } from "@undercoat/server/secret";
import { readSettings } from "@undercoat/server/settings";
import {
  BackfillRow,
  ConnectionRow,
  PipelineRow,
  RunRow,
  TimerRow,
  UserRow,
  WorkerRow,
} from "@undercoat/server/store/models";
import { Store } from "@undercoat/server/store/store";
import pino from "pino";
import { Op } from "sequelize";
import { type Line, median, type Yard } from "./yard.ts";

/** The whole product: its database, its queue and workers in processes of their own. */
const main = fileURLToPath(new URL("../packages/server/src/main.ts", import.meta.url));
const silent = pino({ level: "silent" });

async function until(so: () => Promise<boolean>, every = 20): Promise<void> {
  for (const end = Date.now() + 600_000; Date.now() < end; ) {
    if (await so()) return;
    await new Promise((resolve) => setTimeout(resolve, every));
  }
  throw new Error("It took more than ten minutes");
}

async function timed(work: () => Promise<unknown>): Promise<number> {
  const began = performance.now();
  await work();
  return (performance.now() - began) / 1000;
}

const address = ({ settings, password }: ServerCredentials, database: string) =>
  `postgres://${settings.user}:${password}@${settings.host}:${settings.port}/${database}`;

/** How the product as a whole does: many sets, many schedules, a backfill, and pages over a year of runs. */
export async function productLines({ repeat, rows, atSource, atWarehouse, sides }: Yard): Promise<Line[]> {
  await atSource("CREATE DATABASE product");
  const settings = {
    ...readSettings({ UNDERCOAT_DATA: mkdtempSync(join(tmpdir(), "undercoat-product-")) }),
    key: randomBytes(32),
  };
  const store = await Store.open(address(sides.source, "product"), settings.key);
  const queue = await Queue.open(store, true);
  const processes: ChildProcess[] = [];
  const workers = async (many: number) => {
    while (processes.length < many)
      processes.push(
        spawn(process.execPath, ["--import", "tsx", main, "worker"], {
          env: {
            ...process.env,
            UNDERCOAT_DATA: settings.data,
            UNDERCOAT_DATABASE_URL: store.url,
            UNDERCOAT_SECRET_KEY: settings.key.toString("base64"),
          },
          stdio: "ignore",
        }),
      );
    await until(async () => (await WorkerRow.count()) === many);
  };
  try {
    for (const [name, { settings: at, password }] of Object.entries({
      source: sides.source,
      warehouse: sides.warehouse,
    }))
      await ConnectionRow.create({
        name,
        settings: { ...at, parallel: 16 },
        secret: seal(settings.key, password, name),
      });
    await workers(1);
    const lines = [await manySets(), await backfilled(), await manySchedules()];
    return [...lines, ...(await pages())];
  } finally {
    for (const one of processes) {
      one.kill("SIGTERM");
      await once(one, "exit");
    }
    await queue.close();
    await store.close();
  }

  async function allFinished(ids: number[]): Promise<void> {
    await until(async () => (await RunRow.count({ where: { id: ids, status: ["queued", "running"] } })) === 0);
    const failed = await RunRow.findOne({ where: { id: ids, status: "failed" } });
    if (failed) throw new Error(failed.failure?.message);
  }

  async function run(pipeline: string, sets: (string | null)[] = [null]): Promise<void> {
    const request = { pipeline, kind: "load" as const, scope: { kind: "due" as const }, reason: "", requestedBy: null };
    const runs = await requestRuns(
      store,
      queue,
      request,
      sets.map((set) => ({ set })),
    );
    await allFinished(runs.map(({ id }) => id));
  }

  /** Forty sets of a small pipeline, each with a table of its own, where nothing has changed. */
  async function manySets(): Promise<Line> {
    const sets = Array.from({ length: 40 }, (_, at) => `site${at}`);
    await atSource(
      "CREATE TABLE site (id int PRIMARY KEY, site text NOT NULL, amount numeric(12,2), updated_at timestamptz NOT NULL); INSERT INTO site SELECT n, 'site' || n % 40, n, timestamptz '2026-01-01' + n * interval '1 second' FROM generate_series(1, 4000) n; ANALYZE site",
    );
    await savePipeline(
      store,
      "sites",
      {
        title: "Site {site}",
        warehouse: "warehouse",
        parameters: { site: { type: "text" } },
        values: Object.fromEntries(sets.map((site) => [site, { site }])),
        loads: {
          site: {
            from: { connection: "source", table: "public.site", where: "site = :site" },
            watermark: { column: "updated_at" },
            into: { table: "landing.{site}", mode: "upsert", key: ["id"] },
            proof: { figures: ["rows", "sum(amount)"] },
          },
        },
      } as Pipeline,
      { by: null },
    );
    await run("sites", sets);
    const seconds: number[] = [];
    for (let time = 0; time < repeat; time++) seconds.push(await timed(() => run("sites", sets)));
    return {
      work: "40 value sets of one small pipeline, nothing changed, one worker",
      ours: median(seconds),
      theirs: null,
      aim: "≤ 3 s whole",
      memory: 0,
      note: "",
    };
  }

  /** Two years by months, next to one load of all of it. */
  async function backfilled(): Promise<Line> {
    await atSource(
      `CREATE TABLE sale (id bigint PRIMARY KEY, day date NOT NULL, amount numeric(12,2), note text, updated_at timestamptz NOT NULL); INSERT INTO sale SELECT n, date '2024-01-01' + (n % 731)::int, n % 9973, 'sale number ' || n, timestamptz '2026-01-01' FROM generate_series(1, ${rows}) n; CREATE INDEX ON sale (day); VACUUM ANALYZE sale; CHECKPOINT`,
    );
    const definition: Pipeline = {
      title: "Sales",
      warehouse: "warehouse",
      loads: {
        sale: {
          from: { connection: "source", table: "public.sale" },
          into: { table: "landing.sale", mode: "upsert", key: ["id"] },
          proof: { by: { column: "day", slice: "month", zone: "UTC" }, figures: ["rows", "sum(amount)"] },
        },
      },
    } as Pipeline;
    await savePipeline(store, "sales", definition, { by: null });
    const [whole, refilled, sliced]: [number[], number[], number[]] = [[], [], []];
    const empty = () => atWarehouse("DROP TABLE IF EXISTS landing.sale; CHECKPOINT");
    for (let time = 0; time < repeat; time++) {
      await empty();
      whole.push(await timed(() => run("sales")));
      await atWarehouse("TRUNCATE landing.sale; CHECKPOINT");
      refilled.push(await timed(() => run("sales")));
      await empty();
      sliced.push(
        await timed(async () => {
          const { id } = await beginBackfill(store, queue, {
            pipeline: "sales",
            loads: null,
            given: {},
            from: "2024-01-01",
            to: "2026-01-01",
            by: "month",
            order: "oldest",
            parallel: 1,
            requestedBy: null,
          });
          await until(async () => {
            await advanceBackfills(store, queue);
            return (await BackfillRow.findByPk(id))?.status === "finished";
          });
        }),
      );
    }
    return {
      work: `backfill of two years by month of ${rows.toLocaleString("en")} rows (beside one whole load)`,
      ours: median(sliced),
      theirs: median(whole),
      aim: "≤ 1.3",
      memory: 0,
      note: `a whole load into the emptied table took ${median(refilled).toFixed(2)} s: ${(median(sliced) / median(refilled)).toFixed(2)} of that`,
    };
  }

  /** Five hundred schedules at one minute, four workers. */
  async function manySchedules(): Promise<Line> {
    await workers(4);
    const names = Array.from({ length: 500 }, (_, at) => `due${at}`);
    for (const name of names)
      await savePipeline(
        store,
        name,
        {
          title: name,
          warehouse: "warehouse",
          schedule: { cron: "0 0 1 1 *" },
          loads: {
            site: {
              from: { connection: "source", table: "public.site", where: `site = 'site${Number(name.slice(3)) % 40}'` },
              into: { table: `landing.${name}`, mode: "upsert", key: ["id"] },
              proof: { figures: ["rows"] },
            },
          },
        } as Pipeline,
        { by: null },
      );
    const where = { pipeline: names };
    const scheduler = startScheduler(store, queue);
    // The first time makes the tables; the second is as any other day.
    const dueNow = async () => {
      await RunRow.destroy({ where });
      const began = performance.now();
      await TimerRow.update({ nextAt: new Date() }, { where });
      const begun = { ...where, status: ["running", "finished"] };
      await until(async () => (await RunRow.count({ where: begun })) >= names.length, 200);
      const all = (performance.now() - began) / 1000;
      await until(async () => (await RunRow.count({ where: { ...where, status: ["queued", "running"] } })) === 0, 200);
      return { all, done: (performance.now() - began) / 1000 };
    };
    await dueNow();
    const { all: seconds, done } = await dueNow();
    scheduler.stop();
    const runs = await RunRow.findAll({ where, attributes: ["pipeline", "status"] });
    const once_ = runs.length === 500 && new Set(runs.map(({ pipeline }) => pipeline)).size === 500;
    const finished = runs.filter(({ status }) => status === "finished").length;
    return {
      work: "500 schedules due at the same minute, four workers: all begun",
      ours: seconds,
      theirs: null,
      aim: "≤ 30 s",
      memory: 0,
      note: `${once_ ? "none twice, none missed" : `NOT once each: ${runs.length} runs`}; ${finished} finished, all over after ${done.toFixed(1)} s`,
    };
  }

  /** A run each ten minutes of fifty pipelines for some months: half a million, copied from one that really ran. */
  async function pages(): Promise<Line[]> {
    const columnsOf = async (table: string, but: string[]) =>
      (
        await store.query<{ name: string }>(
          "SELECT quote_ident(column_name) AS name FROM information_schema.columns WHERE table_schema = 'public' AND table_name = :table AND column_name NOT IN (:but) ORDER BY ordinal_position",
          { table, but },
        )
      )
        .map(({ name }) => name)
        .join(", ");
    const runColumns = await columnsOf("runs", ["id", "uid", "pipeline", "created_at", "started_at", "finished_at"]);
    const loadColumns = await columnsOf("run_loads", ["id", "run_id", "proof_id"]);
    const proofColumns = await columnsOf("proofs", ["id", "run_id", "pipeline", "at"]);
    // A year of runs of fifty pipelines.
    await PipelineRow.destroy({ where: { name: { [Op.regexp]: "^due[0-9]{3}$|^due[5-9][0-9]$" } } });
    await TimerRow.destroy({ where: { pipeline: { [Op.regexp]: "^due[0-9]{3}$|^due[5-9][0-9]$" } } });
    const model = await RunRow.findOne({ where: { pipeline: "due0" }, rejectOnEmpty: true });
    const many = 500_000;
    const at = "now() - (n * interval '1 minute')";
    await store.sequelize.query(`
      CREATE TEMP TABLE made AS SELECT n, nextval('runs_id_seq')::int AS id FROM generate_series(${many}, 1, -1) n;
      INSERT INTO runs (id, uid, pipeline, created_at, started_at, finished_at, ${runColumns})
        SELECT m.id, gen_random_uuid(), 'due' || n % 50, ${at}, ${at}, ${at} + interval '1 second', ${runColumns
          .split(", ")
          .map((name) => `r.${name}`)
          .join(", ")} FROM made m, runs r WHERE r.id = ${model.id};
      INSERT INTO run_loads (run_id, ${loadColumns}) SELECT m.id, ${loadColumns
        .split(", ")
        .map((name) => `l.${name}`)
        .join(", ")} FROM made m, run_loads l WHERE l.run_id = ${model.id};
      INSERT INTO proofs (run_id, pipeline, at, ${proofColumns}) SELECT m.id, 'due' || n % 50, ${at}, ${proofColumns
        .split(", ")
        .map((name) => `p.${name}`)
        .join(", ")} FROM made m, proofs p WHERE p.run_id = ${model.id};
      ANALYZE;`);
    const user = await UserRow.create({ login: "b", name: "B", role: "viewer", password: null, active: true });
    const token = await issuePass(user.id, "token", "bench");
    const app = makeApp({ store, queue, settings, passHour: null, standins: null }, silent);
    const ask = async (path: string) => {
      const response = await app.request(`http://127.0.0.1:${settings.port}/api${path}`, {
        headers: { Authorization: `Bearer ${token}`, Host: `127.0.0.1:${settings.port}` },
      });
      if (!response.ok) throw new Error(`${path} answered ${response.status}`);
      await response.text();
    };
    const asked = [
      "/standing/ledger?zone=UTC",
      "/standing/dock",
      "/runs",
      "/runs?pipeline=due7&status=failed",
      `/runs/${model.id}`,
      "/proofs",
      "/pipelines",
      "/pipelines/due7",
      "/schedules",
      "/workers",
      "/deliveries",
    ];
    const took = new Map<string, number>();
    for (const path of asked) {
      const times: number[] = [];
      for (let time = 0; time < 5; time++) times.push(await timed(() => ask(path)));
      took.set(path, median(times));
    }
    const slowest = Math.max(...took.values());
    return [
      {
        work: `pages with ${many.toLocaleString("en")} runs of 52 pipelines: the slowest answer`,
        ours: slowest,
        theirs: null,
        aim: "≤ 0.2 s",
        memory: 0,
        note: [...took].map(([path, seconds]) => `${path} ${Math.round(seconds * 1000)} ms`).join(", "),
      },
    ];
  }
}
