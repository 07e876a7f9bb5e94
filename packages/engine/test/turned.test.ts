import { checkQuery } from "@undercoat/core/expression/parse";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import { failureOf } from "@undercoat/engine/failure";
import { Session } from "@undercoat/engine/postgres/session";
import { sourceFor } from "@undercoat/engine/source/registry";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";
import { afterAll, beforeAll, describe, expect, test } from "vitest";
import { makePair, type Pair } from "./pair.ts";

/** Sessions that author's SQL tries to turn. */
let pair: Pair;
beforeAll(async () => {
  pair = await makePair("turned");
  await pair.atSource(
    "CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t VALUES (1, 'a'), (2, 'b'); CREATE FUNCTION double(n int) RETURNS int LANGUAGE sql IMMUTABLE AS 'SELECT 2 * n'",
  );
});
afterAll(() => pair.close());

let tables = 0;
const of = (query: string): Load => ({
  from: { connection: "source", query },
  into: { table: `landing.t${++tables}`, mode: "replace" },
});
const told = (load: Load) =>
  pair.run(load).then(
    () => "it ran",
    (error: unknown) => failureOf(error).message,
  );

describe("a query is refused that calls", () => {
  test.each([
    "SELECT id, set_config('standard_conforming_strings', 'off', false) AS v FROM t",
    "SELECT id, pg_catalog.set_config('x.y', 'off', false) AS v FROM t",
    "SELECT id, pg_terminate_backend(id) AS v FROM t",
    "SELECT id, pg_advisory_lock(id) AS v FROM t",
    "SELECT id, pg_advisory_xact_lock_shared(id)::text AS v FROM t",
    "SELECT id, pg_sleep(10)::text AS v FROM t",
    "SELECT id, pg_notify('x', 'y')::text AS v FROM t",
    "SELECT id, lo_creat(1) AS v FROM t",
    "SELECT id, query_to_xml('DELETE FROM t', true, true, '')::text AS v FROM t",
    "SELECT id, database_to_xml(true, true, '')::text AS v FROM t",
    "SELECT id, pg_read_file('/etc/passwd') AS v FROM t",
    "SELECT id, pg_ls_dir('/') AS v FROM t",
    "SELECT * FROM ts_stat('DELETE FROM t')",
    "SELECT id, random() AS v FROM t",
    "SELECT id, clock_timestamp() AS v FROM t",
    "SELECT nextval('s') AS id",
    "SELECT id, double(id) AS v FROM t",
    "SELECT id, public.double(id) AS v FROM t",
    "WITH x AS (SELECT double(id) AS id FROM t) SELECT id FROM x",
    "SELECT id FROM t WHERE EXISTS (SELECT pg_sleep(1))",
    "SELECT id FROM t ORDER BY double(id)",
    "SELECT id, sum(id) FILTER (WHERE pg_sleep(1) IS NULL) OVER () AS v FROM t",
    "SELECT id FROM t, LATERAL (SELECT double(t.id)) x",
  ])("%s", async (query) => {
    expect(await told(of(query))).toMatch(/^The query calls /);
  });

  test.each([
    "SELECT 1 AS id; DELETE FROM t",
    "DELETE FROM t RETURNING id",
    "WITH d AS (DELETE FROM t RETURNING id) SELECT * FROM d",
    "SELECT id INTO x FROM t",
    "SELECT id FROM t FOR UPDATE",
    "COPY t TO PROGRAM 'id'",
    "SET x.y = 1",
  ])("or is no plain question: %s", async (query) => {
    await expect(checkQuery(query)).rejects.toThrow();
  });

  test("what an administrator has listed may be called", async () => {
    const listed = { ...pair.source, settings: { ...pair.source.settings, functions: ["public.double"] } };
    expect((await pair.between(listed).run(of("SELECT id, double(id) AS v FROM t"))).tally.read).toBe("2");
    expect(
      (await pair.run(of("SELECT id, upper(v) AS v, count(*) OVER () AS n, now() - interval '1 day' AS at FROM t")))
        .tally.read,
    ).toBe("2");
  });

  test("a user's function does not stand in for a built-in one, nor an operator of theirs for another", async () => {
    await pair.atSource(
      "CREATE FUNCTION upper(int) RETURNS text LANGUAGE plpgsql VOLATILE AS $$ BEGIN PERFORM set_config('standard_conforming_strings', 'off', false); RETURN 'x'; END $$",
    );
    expect(await told(of("SELECT id, upper(id) AS v FROM t"))).toMatch(/calls public\.upper/);
    await pair.atSource(
      "CREATE FUNCTION evil(int, int) RETURNS int LANGUAGE plpgsql IMMUTABLE AS $$ BEGIN PERFORM set_config('standard_conforming_strings', 'off', false); RETURN 1; END $$; CREATE OPERATOR ### (LEFTARG = int, RIGHTARG = int, FUNCTION = evil)",
    );
    expect(await told(of("SELECT id, id ### id AS v FROM t"))).toMatch(/calls public\.evil.*by the operator ###/);
    await pair.atSource("DROP FUNCTION upper(int); DROP OPERATOR ### (int, int)");
  });
});

test("a setting that was changed all the same is set back before the next statement of ours", async () => {
  // A view's function can't be seen from the query that reads it.
  await pair.atSource(
    "CREATE FUNCTION turn(n int) RETURNS int LANGUAGE plpgsql IMMUTABLE AS $$ BEGIN PERFORM set_config('standard_conforming_strings', 'off', false), set_config('TimeZone', 'Asia/Tokyo', false), set_config('row_security', 'on', false); RETURN n; END $$; CREATE VIEW turning AS SELECT turn(id) AS id, v || chr(92) AS v FROM t",
  );
  const run = await pair.run({
    ...of(
      "SELECT id, v || '\\' AS v, timestamptz '2026-11-20 12:00+00' AS at FROM turning WHERE v <> 'a\\' OR v <> '; UPDATE t SET v = ''gone'' --'",
    ),
    proof: { figures: ["rows", "max(v)"] },
  });
  expect(run.proof).toMatchObject({ verdict: "proved", cells: { rows: "2", verdict: "proved" } });
  expect(await pair.atSource("SELECT v FROM t ORDER BY id")).toEqual([{ v: "a" }, { v: "b" }]);
});

test("a message holds one statement", async () => {
  const session = await Session.open(pair.source, { application: "test" });
  await expect(session.query("SELECT 1; DELETE FROM t")).rejects.toThrow(/multiple commands/);
  await session.close();
});

test("a session that is cancelled ends its statement at the server", async () => {
  const abort = new AbortController();
  const session = await Session.open(pair.source, { application: "undercoat cancelled", signal: abort.signal });
  const asleep = session.query("SELECT pg_sleep(60)").catch((error: Error) => error.message);
  const working = async () =>
    (await pair.atSource("SELECT 1 FROM pg_stat_activity WHERE application_name = 'undercoat cancelled'")).length;
  await expect.poll(working).toBe(1);
  abort.abort();
  expect(await asleep).toBe("Cancelled");
  await expect.poll(working).toBe(0);
  await session.close();
});

test("nothing is written by looking, and a session ends though its opening was refused", async () => {
  const signal = new AbortController().signal;
  const quiet = { line: () => undefined, phase: () => undefined, progress: () => undefined, waiting: () => undefined };
  const { lookAtShape } = await import("@undercoat/engine/load/rehearse");
  const load: Load = {
    from: { connection: "source", table: "public.t" },
    columns: { id: "id", v: "upper(v)" },
    rules: { known: "v <> 'B'" },
    into: { table: "landing.look", mode: "upsert", key: ["id"] },
  };
  await pair.atWarehouse("DROP SCHEMA IF EXISTS undercoat CASCADE; DROP SCHEMA IF EXISTS landing CASCADE");
  const look = await lookAtShape(
    { pipelineName: "p", pipeline: { title: "P", warehouse: "w", loads: { load } }, load: "load" },
    10,
    sourceFor(pair.source),
    warehouseFor(pair.warehouse),
    quiet,
    signal,
  );
  expect(look).toMatchObject({ rows: [["1", "A"]], rejected: [{ values: { id: "2" } }] });
  expect(await pair.atWarehouse("SELECT nspname FROM pg_namespace WHERE nspname IN ('undercoat', 'landing')")).toEqual(
    [],
  );
  // A warehouse of a later version is refused.
  await pair.run({ ...load, rules: {} });
  await pair.atWarehouse("INSERT INTO undercoat.version (number) VALUES (99)");
  await expect(pair.run(load)).rejects.toThrow(/later version of Undercoat/);
  await expect(warehouseFor(pair.warehouse).rejected({}, 10, 0)).rejects.toThrow(/later version/);
  await expect
    .poll(
      async () =>
        (
          await pair.atWarehouse(
            "SELECT application_name FROM pg_stat_activity WHERE datname = current_database() AND application_name LIKE 'undercoat%' AND application_name <> 'undercoat, idle'",
          )
        ).length,
    )
    .toBe(0);
  await pair.atWarehouse("DELETE FROM undercoat.version WHERE number = 99");
});

test("a warehouse that an earlier version furnished is brought up to date, and its loads go on", async () => {
  await pair.atWarehouse("DROP SCHEMA IF EXISTS undercoat CASCADE; DROP SCHEMA IF EXISTS landing CASCADE");
  const load: Load = {
    from: { connection: "source", table: "public.t" },
    columns: { id: "id", v: { as: "v", type: "varchar(1)" } },
    into: { table: "landing.t", mode: "upsert", key: ["id"] },
  };
  await pair.run(load);
  await pair.atWarehouse(
    "DROP TABLE undercoat.version, undercoat.history, undercoat.told; ALTER TABLE undercoat.tally DROP COLUMN versions, DROP COLUMN closed, DROP COLUMN overwritten, DROP COLUMN moment; ALTER TABLE undercoat.rejected DROP COLUMN content, DROP COLUMN covered, DROP COLUMN file; ALTER TABLE undercoat.tally DROP COLUMN void; DELETE FROM undercoat.watermark",
  );
  await pair.atWarehouse(
    "INSERT INTO undercoat.rejected (run, number, pipeline, load, target, code, reason, message, identity) VALUES (gen_random_uuid(), 1, 'test', 'load', 'landing.t', 'type', 'r', 'm', 1)",
  );
  const run = await pair.run(load);
  expect(run.proof).toMatchObject({ verdict: "proved" });
  expect(
    await pair.atWarehouse(
      "SELECT max(number)::text AS version, (SELECT count(*)::text FROM undercoat.rejected WHERE left_run IS NULL) AS open FROM undercoat.version",
    ),
  ).toEqual([{ version: "6", open: "0" }]);
});
