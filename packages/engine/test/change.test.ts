import type { Load } from "@undercoat/core/pipeline/pipeline";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { makePair, type Pair } from "./pair.ts";

let pair: Pair;
beforeAll(async () => {
  pair = await makePair("change");
});
afterAll(() => pair.close());

const trip: Load = {
  from: { connection: "source", table: "public.trip" },
  watermark: { column: "updated_at", lookBack: "PT10M" },
  into: { table: "landing.trip", mode: "upsert", key: ["id"] },
  proof: { by: { column: "day", slice: "day" }, figures: ["rows", "sum(fare)"] },
};
const held = async () =>
  (await pair.atWarehouse("SELECT t::text AS row FROM landing.trip t ORDER BY id")).map((row) => row.row);

beforeEach(async () => {
  await pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
  await pair.atSource(`DROP TABLE IF EXISTS trip CASCADE;
    CREATE TABLE trip (id int PRIMARY KEY, day date NOT NULL, fare numeric(8,2), note varchar(20), updated_at timestamptz NOT NULL);
    INSERT INTO trip SELECT n, date '2026-11-01' + n % 20, n * 1.25, 'trip ' || n, timestamptz '2026-11-20 06:00+00' + n * interval '1 second' FROM generate_series(1, 1000) n`);
});

describe("rows gone from the source", () => {
  test("are removed, found by their keys alone", async () => {
    const load: Load = { ...trip, into: { ...trip.into, deleted: "remove" } };
    await pair.run(load);
    await pair.atSource(
      "DELETE FROM trip WHERE id IN (3, 500, 999); UPDATE trip SET fare = 0, updated_at = '2026-11-20 07:00+00' WHERE id = 4",
    );
    const run = await pair.run(load);
    expect(run.tally).toMatchObject({ changed: "1", deleted: "3", rejected: "0" });
    expect(run.proof.verdict).toBe("proved");
    expect((await pair.run(load)).tally.deleted).toBe("0");
  });

  test("are marked with the time, left out of the proof, and come back unmarked", async () => {
    const load: Load = { ...trip, into: { ...trip.into, deleted: "mark" } };
    await pair.run(load);
    await pair.atSource("CREATE TABLE kept AS SELECT * FROM trip WHERE id = 7; DELETE FROM trip WHERE id IN (7, 8)");
    const run = await pair.run(load);
    expect(run.tally.deleted).toBe("2");
    expect(run.proof).toMatchObject({ verdict: "proved", figures: [{ source: "998", warehouse: "998" }, {}] });
    expect(
      await pair.atWarehouse("SELECT id FROM landing.trip WHERE deleted_at > now() - interval '1 minute' ORDER BY id"),
    ).toEqual([{ id: "7" }, { id: "8" }]);
    await pair.atSource(
      "INSERT INTO trip SELECT id, day, fare, note, timestamptz '2026-11-20 08:00+00' FROM kept; DROP TABLE kept",
    );
    const back = await pair.run(load);
    expect(back.tally).toMatchObject({ changed: "1", deleted: "0" });
    expect(back.proof.verdict).toBe("proved");
    expect(await pair.atWarehouse("SELECT count(*)::text AS n FROM landing.trip WHERE deleted_at IS NULL")).toEqual([
      { n: "999" },
    ]);
    expect((await pair.prove(load)).rows).toMatchObject({ missing: 0, extra: 0, different: 0 });
  });

  test("stop the load when too many would go, and are not looked for before their time", async () => {
    const load: Load = { ...trip, into: { ...trip.into, deleted: "remove", deletions: { most: 10 } } };
    await pair.run(load);
    await pair.atSource("DELETE FROM trip WHERE id <= 101");
    await expect(pair.run(load)).rejects.toMatchObject({
      failure: { message: "More than 10 % of the 1,000 rows of landing.trip are gone from the source" },
    });
    expect(await held()).toHaveLength(1000);
    const later: Load = { ...load, into: { ...load.into, deletions: { most: 20, every: "P1D" } } };
    expect((await pair.run(later)).tally.deleted).toBe("0");
    await pair.atWarehouse("UPDATE undercoat.known SET swept_at = now() - interval '25 hours'");
    expect((await pair.run(later)).tally.deleted).toBe("101");
  });

  test("are told by composite text keys too, and a rejected row is not gone", async () => {
    await pair.atSource(
      `DROP TABLE IF EXISTS leg; CREATE TABLE leg (route text, "no" int, minutes text, PRIMARY KEY (route, "no")); INSERT INTO leg SELECT 'r' || n % 30, n, n::text FROM generate_series(1, 3000) n`,
    );
    const load: Load = {
      from: { connection: "source", table: "public.leg" },
      columns: { route: "route", no: "no", minutes: { as: "minutes", type: "integer" } },
      into: { table: "landing.leg", mode: "upsert", key: ["route", "no"], deleted: "remove" },
    };
    await pair.run(load);
    await pair.atSource(`DELETE FROM leg WHERE "no" IN (1, 2999); UPDATE leg SET minutes = 'some' WHERE "no" = 5`);
    const run = await pair.run(load);
    expect(run.tally).toMatchObject({ deleted: "2", rejected: "1" });
    expect(await pair.atWarehouse(`SELECT minutes FROM landing.leg WHERE "no" = 5`)).toEqual([{ minutes: "5" }]);
    expect(run.proof.verdict).toBe("proved");
  });
});

describe("a source whose columns change", () => {
  test("a new column is taken, with its values in every row; or ignored; or stops the load", async () => {
    await pair.run(trip);
    await pair.atSource("ALTER TABLE trip ADD COLUMN deck text DEFAULT 'upper'");
    await expect(pair.run({ ...trip, drift: { added: "stop" } })).rejects.toMatchObject({
      failure: { message: "The source's columns have changed: the source has a new column deck (text)" },
    });
    const ignoring = await pair.run({ ...trip, drift: { added: "ignore" } });
    expect(ignoring.findings.drift).toEqual([
      { column: "deck", kind: "added", from: null, to: "text", done: "ignored" },
    ]);
    expect((await pair.run({ ...trip, drift: { added: "ignore" } })).findings.drift).toEqual([]);
    const taking = await pair.run(trip);
    expect(taking.findings.drift).toMatchObject([{ column: "deck", done: "taken" }]);
    expect(taking.tally).toMatchObject({ read: "1000", changed: "1000" });
    expect(taking.proof.verdict).toBe("proved");
  });

  test("a widened type widens the target", async () => {
    await pair.run(trip);
    await pair.atSource(
      "ALTER TABLE trip ALTER COLUMN id TYPE bigint, ALTER COLUMN fare TYPE numeric(14,2), ALTER COLUMN note TYPE text; INSERT INTO trip VALUES (5000000000, '2026-11-02', 123456789012.5, repeat('long ', 20), '2026-11-20 09:00+00')",
    );
    const run = await pair.run(trip);
    expect(run.findings.drift.map((note) => `${note.column} ${note.done}`).sort()).toEqual([
      "fare widened",
      "id widened",
      "note widened",
    ]);
    expect(run.tally).toMatchObject({ new: "1" });
    expect(run.proof.verdict).toBe("proved");
    const types = await pair.atWarehouse(
      "SELECT format_type(atttypid, atttypmod) AS type FROM pg_attribute WHERE attrelid = 'landing.trip'::regclass AND attnum > 0 ORDER BY attnum",
    );
    expect(types.map((row) => row.type)).toEqual([
      "bigint",
      "date",
      "numeric(14,2)",
      "text",
      "timestamp with time zone",
    ]);
  });

  test("a column gone, narrowed or changed stops the load with the choices, or goes on by its policy", async () => {
    await pair.run(trip);
    const before = await held();
    await pair.atSource("ALTER TABLE trip DROP COLUMN note, ALTER COLUMN fare TYPE text");
    await expect(pair.run(trip)).rejects.toMatchObject({
      failure: {
        message:
          "The source's columns have changed: fare changed from numeric(8,2) to text; the source no longer has note",
        hint: expect.stringMatching(/fill a column that is gone with null.*take a changed type/),
      },
    });
    expect(await held()).toEqual(before);
    await pair.atSource(
      "UPDATE trip SET fare = 'free', updated_at = '2026-11-20 09:00+00' WHERE id = 1; UPDATE trip SET updated_at = '2026-11-20 09:00+00' WHERE id = 2",
    );
    const run = await pair.run({ ...trip, drift: { gone: "null", changed: "take" } });
    expect(run.findings.drift.map((note) => `${note.column} ${note.done}`)).toEqual(["fare taken", "note null"]);
    expect(run.findings.reasons).toMatchObject([{ reason: "fare is not a number", rows: "1" }]);
    expect(run.proof.verdict).toBe("proved");
    expect(await pair.atWarehouse("SELECT id, fare, note FROM landing.trip WHERE id IN (1, 2, 3) ORDER BY id")).toEqual(
      [
        { id: "1", fare: "1.25", note: "trip 1" },
        { id: "2", fare: "2.50", note: "trip 2" },
        { id: "3", fare: "3.75", note: "trip 3" },
      ],
    );
    // A column the shape does not read may do as it likes.
    const narrow: Load = {
      ...trip,
      columns: { id: "id", day: "day" },
      into: { ...trip.into, table: "landing.narrow" },
      proof: { figures: ["rows"] },
    };
    await pair.run(narrow);
    await pair.atSource("ALTER TABLE trip DROP COLUMN fare");
    expect((await pair.run(narrow)).findings.drift).toMatchObject([{ column: "fare", done: "left out" }]);
  });
});

describe("a rehearsal", () => {
  const loads: [string, Load, string][] = [
    ["a first load", trip, ""],
    [
      "an upsert",
      trip,
      "UPDATE trip SET fare = 9, updated_at = '2026-11-20 07:00+00' WHERE id <= 5; INSERT INTO trip VALUES (2001, '2026-11-03', 1, 'new', '2026-11-20 07:00+00')",
    ],
    ["deletions", { ...trip, into: { ...trip.into, deleted: "mark" } }, "DELETE FROM trip WHERE id IN (10, 20)"],
    ["a replace", { ...trip, into: { table: "landing.trip", mode: "replace" } }, "DELETE FROM trip WHERE id = 1"],
    [
      "a keyless append",
      { ...trip, into: { table: "landing.trip", mode: "append" } },
      "INSERT INTO trip VALUES (2002, '2026-11-03', 1, 'new', '2026-11-20 07:00+00')",
    ],
    [
      "a shape with rules",
      {
        ...trip,
        columns: {
          id: "id",
          day: "day",
          fare: { as: "fare::text", type: "numeric(8,2)" },
          note: { as: "note", type: "varchar(8)" },
        },
        rules: { cheap: "fare < 100" },
        rejects: { limit: "100%" },
      },
      "UPDATE trip SET fare = 999, updated_at = '2026-11-20 07:00+00' WHERE id <= 5; UPDATE trip SET note = 'n', updated_at = '2026-11-20 07:00+00' WHERE id = 9",
    ],
    ["a new column", trip, "ALTER TABLE trip ADD COLUMN deck text DEFAULT 'upper'"],
  ];

  test.each(loads)("of %s writes nothing and gives the numbers of the run that follows", async (name, load, change) => {
    if (name !== "a first load") await pair.run(load);
    if (change) await pair.atSource(change);
    const state = () =>
      pair.atWarehouse(
        "SELECT c.relname, c.relfilenode::text, pg_relation_size(c.oid)::text AS size, (SELECT max(attnum)::text FROM pg_attribute WHERE attrelid = c.oid) AS columns FROM pg_class c WHERE relnamespace IN (SELECT oid FROM pg_namespace WHERE nspname IN ('landing', 'undercoat')) AND relkind = 'r' ORDER BY 1",
      );
    await pair.atWarehouse("CREATE SCHEMA IF NOT EXISTS undercoat");
    const rehearsed = await pair.rehearse(load);
    const before = await state();
    expect(await pair.rehearse(load)).toEqual(rehearsed);
    expect(await state()).toEqual(before);
    const run = await pair.run(load);
    expect(rehearsed.tally).toEqual(run.tally);
    expect(rehearsed.findings.reasons).toEqual(run.findings.reasons);
    expect(rehearsed.findings.drift).toEqual(run.findings.drift);
  });

  test("fails where the run would", async () => {
    const limited: Load = {
      ...trip,
      columns: { id: "id", day: "day", fare: "fare" },
      rules: { cheap: "fare < 1000" },
      rejects: { limit: 10 },
    };
    const failure = { failure: { message: "201 rows would be rejected; the load allows 10" } };
    await expect(pair.rehearse(limited)).rejects.toMatchObject(failure);
    await expect(pair.run(limited)).rejects.toMatchObject(failure);
    expect((await pair.rehearse({ ...limited, rejects: {} })).tally).toMatchObject({ new: "799", rejected: "201" });
  });

  test("shows real rows of each outcome, and the statements it would run", async () => {
    const load: Load = {
      ...trip,
      columns: { id: "id", day: "day", fare: "fare", note: { as: "note", type: "varchar(9)" } },
      into: { ...trip.into, deleted: "remove" },
    };
    await pair.run({ ...load, columns: { id: "id", day: "day", fare: "fare" } });
    await pair.atSource(
      "UPDATE trip SET fare = 9, updated_at = '2026-11-20 07:00+00' WHERE id = 5; DELETE FROM trip WHERE id = 6; INSERT INTO trip VALUES (3000, '2026-11-03', 1, 'far too long a note', '2026-11-20 07:00+00'), (3001, '2026-11-03', 2, 'short', '2026-11-20 07:00+00')",
    );
    const told = await pair.rehearse(load);
    expect(told.changes).toEqual([
      {
        message: "landing.trip gets the column note",
        sql: 'ALTER TABLE "landing"."trip" ADD COLUMN "note" character varying(9)',
      },
    ]);
    expect(told.tally).toMatchObject({ new: "1", rejected: "1", deleted: "1" });
    expect(told.added).toEqual([{ new: ["3001", "2026-11-03", "2.00", "short"], held: null }]);
    expect(told.rejected).toMatchObject([
      { reason: 'note is longer than 9 characters: "far too long a note"', values: { id: "3000" } },
    ]);
    expect(told.altered[0]?.held?.[3]).toBeNull();
    expect(told.gone).toEqual([["6"]]);
    expect((await pair.rehearse(load, 10)).tally.read).toBe("10");
    expect((await pair.rehearse(load, 10)).limit).toBe(10);
  });
});

test("late rows are measured", async () => {
  await pair.run(trip);
  await pair.atSource(
    "INSERT INTO trip VALUES (4001, '2026-11-03', 1, 'late', '2026-11-20 06:13:30+00'), (4002, '2026-11-03', 1, 'later', '2026-11-20 06:10:40+00')",
  );
  expect((await pair.run(trip)).findings.late).toEqual({ rows: "2", most: "00:06:00" });
});

describe("each mode keeps its word", () => {
  test("a replaced table keeps its grants, comments, indexes and views, and is never seen empty", async () => {
    const load: Load = { ...trip, into: { table: "landing.trip", mode: "replace" } };
    await pair.run(load);
    await pair.atWarehouse(
      `CREATE INDEX trip_day ON landing.trip (day); COMMENT ON TABLE landing.trip IS 'Trips'; CREATE VIEW landing.cheap AS SELECT * FROM landing.trip WHERE fare < 10; GRANT SELECT ON landing.trip TO PUBLIC`,
    );
    const kept = () =>
      pair.atWarehouse(
        "SELECT c.oid::text, obj_description(c.oid) AS comment, relacl::text, (SELECT count(*)::text FROM pg_index WHERE indrelid = c.oid) AS indexes, (SELECT count(*)::text FROM landing.cheap) AS cheap FROM pg_class c WHERE oid = 'landing.trip'::regclass",
      );
    const before = await kept();
    await pair.atSource("DELETE FROM trip WHERE id > 500");
    const seen: string[] = [];
    const watching = {
      line: async () => seen.push((await pair.atWarehouse("SELECT count(*)::text AS n FROM landing.trip"))[0]?.n ?? ""),
      phase: () => undefined,
      progress: () => undefined,
      waiting: () => undefined,
    };
    const run = await pair.run(load, { report: watching });
    expect(run.tally).toMatchObject({ new: "500", deleted: "1000" });
    expect(await kept()).toEqual(before);
    expect(seen.every((count) => count === "1000" || count === "500")).toBe(true);
  });

  test("values that are equal but not the same count as changed, and arrive as they are", async () => {
    await pair.atSource(`DROP TABLE IF EXISTS spelled; CREATE TABLE spelled (id int PRIMARY KEY, n numeric, f float8, j jsonb, at timestamptz, t text, e text);
      INSERT INTO spelled VALUES (1, 1.50, 'NaN', '{"a": 1, "b": 2}', '2026-11-20 06:00+00', NULL, ''), (2, 'NaN', '-0', '[1, 2]', 'infinity', 'x', 'y')`);
    const load: Load = {
      from: { connection: "source", table: "public.spelled" },
      into: { table: "landing.spelled", mode: "upsert", key: ["id"] },
    };
    await pair.run(load);
    await pair.atSource(
      `UPDATE spelled SET n = 1.5, j = '{"b": 2, "a": 1}', at = '2026-11-20 08:00+02' WHERE id = 1; UPDATE spelled SET f = 0 WHERE id = 2`,
    );
    expect((await pair.run(load)).tally).toMatchObject({ changed: "2", same: "0" });
    expect(await pair.atWarehouse("SELECT n::text, f::text FROM landing.spelled ORDER BY id")).toEqual([
      { n: "1.5", f: "NaN" },
      { n: "NaN", f: "0" },
    ]);
    // Written anew in the same form, they are the same.
    await pair.atSource(`UPDATE spelled SET j = '{"a": 1, "b": 2}', at = '2026-11-20 06:00+00' WHERE id = 1`);
    expect((await pair.run(load)).tally).toMatchObject({ changed: "0", same: "2" });
    await pair.atSource("UPDATE spelled SET t = '' WHERE id = 1; UPDATE spelled SET e = NULL WHERE id = 2");
    expect((await pair.run(load)).tally).toMatchObject({ changed: "2" });
  });

  test("an append does not double a row, whether it is read again by look-back, by retry or whole", async () => {
    const load: Load = { ...trip, into: { table: "landing.trip", mode: "append" } };
    await pair.run(load);
    await pair.atSource("INSERT INTO trip VALUES (6001, '2026-11-03', 1, 'new', '2026-11-20 06:20+00')");
    expect((await pair.run(load)).tally).toMatchObject({ new: "1" });
    expect((await pair.run(load, { scope: { kind: "whole" } })).tally).toMatchObject({
      read: "1001",
      new: "0",
      same: "1001",
    });
    expect(await held()).toHaveLength(1001);
  });
});
