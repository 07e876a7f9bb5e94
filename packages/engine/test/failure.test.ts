import { type ChildProcess, spawn } from "node:child_process";
import { once } from "node:events";
import { fileURLToPath } from "node:url";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import { Cancelled, failureOf } from "@undercoat/engine/failure";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { makePair, type Pair, quiet } from "./pair.ts";

let pair: Pair;
const rows = 60_000;
const load: Load = {
  from: { connection: "source", table: "public.slow" },
  watermark: { column: "at", lookBack: "PT1H" },
  into: { table: "landing.slow", mode: "upsert", key: ["id"] },
  proof: { figures: ["rows", "sum(v)"] },
};
/** The same rows through a view that takes about two seconds to read. */
const slowly: Load = { ...load, from: { connection: "source", table: "public.slowly" } };

beforeAll(async () => {
  pair = await makePair("failure");
  await pair.atSource(`CREATE TABLE slow (id int PRIMARY KEY, v numeric NOT NULL, at timestamptz NOT NULL, filler text);
    INSERT INTO slow SELECT n, n, '2026-11-20', repeat('x', 100) FROM generate_series(1, ${rows}) n;
    CREATE FUNCTION nap(n int) RETURNS int LANGUAGE plpgsql AS $$ BEGIN IF n % 1200 = 0 THEN PERFORM pg_sleep(0.04); END IF; RETURN n; END $$;
    CREATE VIEW slowly AS SELECT nap(id) AS id, v, at, filler FROM slow`);
});
afterAll(() => pair.close());
beforeEach(async () => {
  await pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
});

/** Waits until `sql` at the warehouse gives a row. */
async function until(ask: (sql: string) => Promise<unknown[]>, sql: string): Promise<void> {
  for (let tries = 0; tries < 400; tries++) {
    if ((await ask(sql)).length) return;
    await new Promise((resolve) => setTimeout(resolve, 25));
  }
  throw new Error(`never so: ${sql}`);
}

const copying = "SELECT 1 FROM pg_stat_progress_copy WHERE tuples_processed > 1000 AND command = 'COPY FROM'";
const sessions = "SELECT 1 FROM pg_stat_activity WHERE application_name LIKE 'undercoat run%'";
/** Ends the session of a copy that is under way, found and ended by one statement. */
const terminate = (command: string) =>
  `SELECT pg_terminate_backend(pid) FROM pg_stat_progress_copy WHERE command = '${command}' AND tuples_processed > 1000 AND datname = current_database()`;

async function nothingLeft(): Promise<void> {
  expect(
    await pair.atWarehouse(
      "SELECT to_regclass('landing.slow') IS NULL AS gone, (SELECT count(*) FROM pg_class WHERE relname LIKE 'stage%')::text AS stages",
    ),
  ).toEqual([{ gone: "t", stages: "0" }]);
}

async function sameAsUndisturbed(): Promise<void> {
  const run = await pair.run(load);
  expect(run.proof).toMatchObject({ verdict: "proved", figures: [{ source: String(rows) }, {}] });
  expect((await pair.prove(load)).rows).toMatchObject({ missing: 0, extra: 0, different: 0 });
}

describe("a load that is cut in the middle leaves the warehouse as it was", () => {
  test("the source's connection dies", async () => {
    const running = pair.run(slowly).then(
      () => null,
      (error) => error,
    );
    await until(pair.atSource, terminate("COPY TO"));
    expect(failureOf(await running).message).toMatch(
      /failure_(source|warehouse)( closed|:? .*terminat| was cut)|connection to failure_/,
    );
    await nothingLeft();
    await sameAsUndisturbed();
  });

  test("the warehouse's connection dies", async () => {
    const running = pair.run(slowly).then(
      () => null,
      (error) => error,
    );
    await until(pair.atWarehouse, terminate("COPY FROM"));
    expect(failureOf(await running).message).toMatch(
      /failure_(source|warehouse)( closed|:? .*terminat| was cut)|connection to failure_/,
    );
    await nothingLeft();
    await sameAsUndisturbed();
  });

  test("somebody cancels: within two seconds, and a second load too is undone", async () => {
    await pair.run(load);
    await pair.atSource("UPDATE slow SET v = v + 1");
    const abort = new AbortController();
    const running = pair.run(slowly, { signal: abort.signal }).then(
      () => null,
      (error) => error,
    );
    await until(pair.atWarehouse, copying);
    const asked = performance.now();
    abort.abort();
    expect(await running).toBeInstanceOf(Cancelled);
    expect(performance.now() - asked).toBeLessThan(2000);
    expect(await pair.atWarehouse("SELECT sum(v)::text AS sum FROM landing.slow")).toEqual([
      { sum: String((rows * (rows + 1)) / 2) },
    ]);
    await sameAsUndisturbed();
  });

  test("the worker is killed while it reads, and while it applies", async () => {
    const kill = async (child: ChildProcess) => {
      child.kill("SIGKILL");
      await once(child, "exit");
    };
    const start = (definition: Load) =>
      spawn(
        process.execPath,
        [
          "--import",
          "tsx",
          fileURLToPath(new URL("./loader.ts", import.meta.url)),
          JSON.stringify({ source: pair.source, warehouse: pair.warehouse, load: definition }),
        ],
        { stdio: "inherit" },
      );
    const reading = start(slowly);
    await until(pair.atWarehouse, copying);
    await kill(reading);
    await until(pair.atWarehouse, `SELECT 1 WHERE NOT EXISTS (${sessions} AND datname = current_database())`);
    await nothingLeft();

    // An index that naps makes the apply long enough to be met.
    await pair.run({ ...load, from: { ...load.from, where: "id <= 10" } });
    await pair.atWarehouse(`CREATE FUNCTION landing.nap(n int) RETURNS int LANGUAGE plpgsql IMMUTABLE AS $$ BEGIN IF n % 1000 = 0 THEN PERFORM pg_sleep(0.1); END IF; RETURN n; END $$;
      CREATE INDEX naps ON landing.slow (landing.nap(id))`);
    const applying = start(load);
    await until(
      pair.atWarehouse,
      "SELECT 1 FROM pg_stat_activity WHERE application_name LIKE 'undercoat run%' AND query LIKE 'INSERT INTO \"landing\"%' AND state = 'active'",
    );
    await kill(applying);
    await until(pair.atWarehouse, `SELECT 1 WHERE NOT EXISTS (${sessions} AND datname = current_database())`);
    expect(await pair.atWarehouse("SELECT count(*)::text AS n FROM landing.slow")).toEqual([{ n: "10" }]);
    await pair.atWarehouse("DROP INDEX landing.naps");
    await sameAsUndisturbed();
  });
});

test("two loads of one table never write at once, and the second says for whom it waits", async () => {
  const first = pair.run(slowly);
  await until(pair.atWarehouse, copying);
  const holders: (string | null)[] = [];
  const second = pair.run(load, { report: { ...quiet, waiting: (holder) => holders.push(holder) } });
  await until(async () => holders, "");
  // What changes while the second waits is what it loads: its moment at the source begins after the wait.
  await pair.atSource("UPDATE slow SET v = v + 1 WHERE id = 1");
  const [one, two] = await Promise.all([first, second]);
  expect(holders[0]).toMatch(/^run \d+$/);
  expect(holders.at(-1)).toBeNull();
  expect(one.tally.new).toBe(String(rows));
  expect(two.tally).toMatchObject({ new: "0", changed: "1", same: String(rows - 1) });
});

test("a source session can't write", async () => {
  await pair.atSource(
    "CREATE FUNCTION sneak() RETURNS int LANGUAGE plpgsql AS $$ BEGIN DELETE FROM slow WHERE id = 1; RETURN 1; END $$",
  );
  await expect(
    pair.run({
      ...load,
      from: { connection: "source", query: "SELECT sneak() AS id, now() AS at" },
      proof: { figures: ["rows"] },
    }),
  ).rejects.toThrow(/calls public.sneak\(\), which is not PostgreSQL.s own/);
});

test("a load that ends while its progress is first asked for leaves no session behind", async () => {
  // The first question comes after 0.4 seconds; each of these loads ends around then.
  await pair.atSource(
    "CREATE FUNCTION sleepy(s float8) RETURNS text LANGUAGE plpgsql AS $$ BEGIN PERFORM pg_sleep(s); RETURN s::text; END $$",
  );
  for (const seconds of [0.38, 0.4, 0.41, 0.43]) {
    await pair.atSource(`CREATE OR REPLACE VIEW brief AS SELECT 1 AS id, sleepy(${seconds}) AS slept`);
    await pair.run({
      from: { connection: "source", table: "public.brief" },
      into: { table: "landing.brief", mode: "replace" },
    });
  }
  const left = async () =>
    (
      await pair.atWarehouse(
        "SELECT count(*)::text AS n FROM pg_stat_activity WHERE datname = current_database() AND application_name = 'undercoat progress'",
      )
    )[0]?.n;
  await expect.poll(left).toBe("0");
});
