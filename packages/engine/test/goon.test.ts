import type { Load } from "@undercoat/core/pipeline/pipeline";
import { failureOf } from "@undercoat/engine/failure";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { makePair, type Pair } from "./pair.ts";

/** Loads that run again and again while their surroundings change. */
let pair: Pair;
beforeAll(async () => {
  pair = await makePair("goon");
});
afterAll(() => pair.close());
beforeEach(async () => {
  await pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
  await pair.atSource(
    `DROP TABLE IF EXISTS trip CASCADE; CREATE TABLE trip (id int PRIMARY KEY, fare numeric(8,2), note text, at timestamptz NOT NULL); INSERT INTO trip SELECT n, n, 'trip ' || n, timestamptz '2026-11-20' + n * interval '1 minute' FROM generate_series(1, 20) n`,
  );
});

const trip: Load = {
  from: { connection: "source", table: "public.trip" },
  watermark: { column: "at" },
  into: { table: "landing.trip", mode: "upsert", key: ["id"] },
  proof: { figures: ["rows", "sum(fare)"] },
};
const notes = async () =>
  (await pair.atWarehouse("SELECT id::text, note FROM landing.trip WHERE id IN (1, 20, 21) ORDER BY trip.id")).map(
    (row) => `${row.id} ${row.note}`,
  );

describe("every policy for a source whose columns change, three times over", () => {
  test("a column that is gone keeps the values it had, and the load its watermark", async () => {
    await pair.run(trip);
    await pair.atSource(
      "ALTER TABLE trip DROP COLUMN note; INSERT INTO trip (id, fare, at) VALUES (21, 21, '2026-11-21')",
    );
    for (const read of ["2", "1", "1"]) {
      const run = await pair.run({ ...trip, drift: { gone: "null" } });
      expect(run.tally.read).toBe(read);
      expect(run.proof.verdict).toBe("proved");
      expect(await notes()).toEqual(["1 trip 1", "20 trip 20", "21 null"]);
    }
    expect((await pair.prove({ ...trip, drift: { gone: "null" } })).proof.verdict).toBe("proved");
    // When the source has it again, it is read whole.
    await pair.atSource("ALTER TABLE trip ADD COLUMN note text DEFAULT 'back'");
    expect((await pair.run({ ...trip, drift: { gone: "null" } })).proof.verdict).toBe("proved");
  });

  test("a column of another type that is filled with null keeps its old values", async () => {
    await pair.run(trip);
    await pair.atSource(
      "ALTER TABLE trip ALTER COLUMN fare TYPE text; INSERT INTO trip VALUES (21, 'free', 'n', '2026-11-21')",
    );
    const filled: Load = { ...trip, drift: { changed: "null" }, proof: { figures: ["rows"] } };
    for (const read of ["2", "1", "1"]) {
      const run = await pair.run(filled);
      expect(run.tally.read).toBe(read);
      expect(
        await pair.atWarehouse("SELECT id::text, fare::text FROM landing.trip WHERE id IN (1, 21) ORDER BY trip.id"),
      ).toEqual([
        { id: "1", fare: "1.00" },
        { id: "21", fare: null },
      ]);
    }
  });

  test("a column of another type that is taken goes on being taken, and proved", async () => {
    await pair.run(trip);
    await pair.atSource(
      "ALTER TABLE trip ALTER COLUMN fare TYPE text; INSERT INTO trip VALUES (21, '21.50', 'n', '2026-11-21'), (22, 'free', 'n', '2026-11-21')",
    );
    const taking: Load = { ...trip, drift: { changed: "take" } };
    for (let time = 0; time < 3; time++) {
      const run = await pair.run(taking);
      expect(run.findings.reasons).toMatchObject([{ reason: "fare is not a number", rows: "1" }]);
      expect(run.proof.verdict).toBe("proved");
      expect((await pair.prove(taking)).proof.verdict).toBe("proved");
    }
  });

  test.each(["added: take", "added: ignore"])("%s", async (policy) => {
    await pair.run(trip);
    await pair.atSource("ALTER TABLE trip ADD COLUMN deck text DEFAULT 'upper'");
    for (let time = 0; time < 3; time++)
      expect(
        (await pair.run({ ...trip, drift: { added: policy.endsWith("take") ? "take" : "ignore" } })).proof.verdict,
      ).toBe("proved");
  });

  test("a key's or watermark's column is never filled with null", async () => {
    const named: Load = {
      ...trip,
      columns: { trip_id: "id", fare: "fare", at: "at" },
      into: { ...trip.into, key: ["trip_id"] },
      drift: { gone: "null", changed: "null" },
    };
    await pair.run(named);
    await pair.atSource("ALTER TABLE trip RENAME COLUMN id TO number");
    await expect(pair.run(named)).rejects.toThrow(/no longer has id/);
    await pair.atSource("ALTER TABLE trip RENAME COLUMN number TO id; ALTER TABLE trip RENAME COLUMN at TO moment");
    await expect(pair.run(named)).rejects.toThrow(/no longer has at/);
    expect(await pair.atWarehouse("SELECT count(*)::text AS n FROM landing.trip WHERE trip_id IS NOT NULL")).toEqual([
      { n: "20" },
    ]);
  });

  test("an append without a key is not doubled by a new column with a default, and fills it in", async () => {
    const append: Load = { ...trip, into: { table: "landing.trip", mode: "append" } };
    await pair.run(append);
    await pair.atSource(
      "ALTER TABLE trip ADD COLUMN deck text DEFAULT 'upper'; INSERT INTO trip VALUES (21, 1, 'n', '2026-11-21', 'lower')",
    );
    const rehearsed = await pair.rehearse(append);
    const run = await pair.run(append);
    expect(run.tally).toMatchObject({ new: "1", changed: "20" });
    expect(rehearsed.tally).toEqual(run.tally);
    expect(run.proof.verdict).toBe("proved");
    for (let time = 0; time < 2; time++)
      expect((await pair.run(append)).tally).toMatchObject({ new: "0", changed: "0" });
    expect(await pair.atWarehouse("SELECT deck, count(*)::text AS n FROM landing.trip GROUP BY 1 ORDER BY 1")).toEqual([
      { deck: "lower", n: "1" },
      { deck: "upper", n: "20" },
    ]);
  });
});

describe("the watermark", () => {
  const later = async (change: string, definition: Load) => {
    await pair.run(definition);
    await pair.atSource(change);
    return (await pair.run(definition)).tally;
  };

  test("moves on with every run", async () => {
    const marks: (string | null)[] = [];
    for (let n = 21; n < 24; n++) {
      await pair.atSource(`INSERT INTO trip VALUES (${n}, 1, 'n', '2026-11-${n}')`);
      marks.push((await pair.run(trip)).watermark);
    }
    expect(marks).toEqual(["2026-11-21 00:00:00+00", "2026-11-22 00:00:00+00", "2026-11-23 00:00:00+00"]);
    expect((await pair.run(trip)).tally.read).toBe("1");
  });

  test("is not carried away by an infinite number", async () => {
    await pair.atSource(
      "ALTER TABLE trip ADD COLUMN v numeric; UPDATE trip SET v = id; UPDATE trip SET v = 'Infinity' WHERE id = 1; UPDATE trip SET v = 'NaN' WHERE id = 2",
    );
    expect(
      await later("INSERT INTO trip VALUES (21, 1, 'n', now(), 21)", { ...trip, watermark: { column: "v" } }),
    ).toMatchObject({ new: "1" });
  });

  test("without a zone is never past the source's own local clock", async () => {
    // Sessions that wait for work were signed in before; the next load signs in anew.
    await pair.atSource(
      "ALTER DATABASE goon_source SET timezone = 'America/Los_Angeles'; SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'undercoat, idle'",
    );
    try {
      await pair.atSource(
        "ALTER TABLE trip ADD COLUMN local timestamp; UPDATE trip SET local = timezone('America/Los_Angeles', now()) - interval '1 day'; UPDATE trip SET local = timezone('America/Los_Angeles', now()) + interval '4 hours' WHERE id = 1",
      );
      expect(
        await later(
          "INSERT INTO trip VALUES (21, 1, 'n', now(), timezone('America/Los_Angeles', now()) + interval '1 second')",
          { ...trip, watermark: { column: "local" } },
        ),
      ).toMatchObject({ new: "1" });
    } finally {
      await pair.atSource("ALTER DATABASE goon_source RESET timezone");
    }
  });

  test("taken from one database does not count for another of the same name", async () => {
    const other = await makePair("goon_other");
    try {
      await pair.run(trip);
      await other.atSource(
        "CREATE TABLE trip (id int PRIMARY KEY, fare numeric(8,2), note text, at timestamptz NOT NULL); INSERT INTO trip VALUES (900, 1, 'elsewhere', '2020-01-01')",
      );
      const moved = await pair.between(other.source).run(trip);
      expect(moved.tally).toMatchObject({ read: "1", new: "1" });
    } finally {
      await other.close();
    }
  });

  test("of a key that also stands without one leaves the choice between the two as it is", async () => {
    await pair.atSource(
      "CREATE TABLE loose (id int, v text, at timestamptz); INSERT INTO loose VALUES (1, 'dated', '2026-11-20'), (1, 'undated', NULL), (2, 'last', '2026-11-22')",
    );
    const loose: Load = {
      from: { connection: "source", table: "public.loose" },
      watermark: { column: "at" },
      into: { table: "landing.loose", mode: "upsert", key: ["id"] },
    };
    for (let time = 0; time < 3; time++) {
      const run = await pair.run(loose);
      expect(run.proof.verdict).toBe("proved");
      expect(await pair.atWarehouse("SELECT v FROM landing.loose WHERE id = 1")).toEqual([{ v: "dated" }]);
    }
    await pair.atSource("DROP TABLE loose");
  });

  test("stays where it is when something is loaded again", async () => {
    await pair.run(trip);
    const kept = () => pair.atWarehouse("SELECT value FROM undercoat.watermark");
    const before = await kept();
    await pair.atSource("INSERT INTO trip VALUES (21, 1, 'n', '2026-11-21'); UPDATE trip SET fare = 0 WHERE id = 1");
    await pair.run(trip, { scope: { kind: "keys", keys: [["1"]] } });
    await pair.run(trip, { scope: { kind: "interval", from: "2026-11-19", to: "2026-11-22" } });
    expect(await kept()).toEqual(before);
  });
});

test("an interval's bounds without a zone are local to the slices' zone", async () => {
  const sliced: Load = {
    ...trip,
    proof: { by: { column: "at", slice: "day", zone: "Asia/Tokyo" }, figures: ["rows"] },
  };
  await pair.run(sliced);
  // 09:05 to 09:10 in Tokyo are 00:05 to 00:10 UTC: rows 5 to 9.
  expect(
    (await pair.run(sliced, { scope: { kind: "interval", from: "2026-11-20 09:05", to: "2026-11-20 09:10" } })).tally
      .read,
  ).toBe("5");
  expect(
    (await pair.run(sliced, { scope: { kind: "interval", from: "2026-11-20T00:05Z", to: "2026-11-20 09:10+09" } }))
      .tally.read,
  ).toBe("5");
});

describe("names and rules", () => {
  test("columns are called as they like", async () => {
    await pair.atSource(
      "CREATE TABLE odd (id int PRIMARY KEY, stops text, step int, breaks int, found int, v0 text, f text, s text, q text)",
    );
    await pair.atSource("INSERT INTO odd SELECT n, 'x', n, n, n, 'a', 'b', 'c', 'd' FROM generate_series(1, 10) n");
    const odd: Load = {
      from: { connection: "source", table: "public.odd" },
      columns: {
        id: "id",
        stops: { as: "stops", type: "varchar(1)" },
        step: "step / nullif(step - 3, 0)",
        breaks: "10 / (breaks - 4)",
        found: "found",
        s: "s",
      },
      rules: {
        small: "1 / (found - 6) > -5 AND stops = 'x'",
        many: { check: "10 / (found - 7) < 5", breach: "count" },
      },
      into: { table: "landing.odd", mode: "upsert", key: ["id"] },
    };
    const run = await pair.run(odd);
    // Four fails to compute breaks, six to decide the rule; where a rule only counts, what can't be decided counts.
    expect(run.tally).toMatchObject({ new: "8", rejected: "2" });
    expect(run.findings.counted).toEqual([{ rule: "many", rows: "3" }]);
    expect(run.proof.verdict).toBe("proved");
    await pair.atSource("DROP TABLE odd");
  });

  test("keys that two source rows spell alike, one of them rejected, give no false alarm", async () => {
    await pair.atSource(
      "CREATE TABLE code (code text PRIMARY KEY, v text); INSERT INTO code VALUES ('A', 'bad'), ('a', '1'), ('B', '2'), ('b', '3'), ('É', '4'), ('é', '5')",
    );
    const code: Load = {
      from: { connection: "source", table: "public.code" },
      columns: { code: "lower(code)", v: { as: "v", type: "integer" } },
      into: { table: "landing.code", mode: "upsert", key: ["code"], deleted: "remove" },
    };
    for (let time = 0; time < 3; time++) {
      const run = await pair.run(code);
      expect(run.tally).toMatchObject({ read: "6", rejected: "3", deleted: "0" });
      expect(run.proof.verdict).toBe("proved");
      expect((await pair.prove(code)).rows).toMatchObject({ missing: 0, extra: 0, different: 0 });
    }
    await pair.atSource("DROP TABLE code");
  });

  test("rows are swept though a rejected one's key can't be cast", async () => {
    await pair.atSource(
      "CREATE TABLE cast_key (k text PRIMARY KEY, v text); INSERT INTO cast_key VALUES ('1', 'a'), ('2', 'b'), ('three', 'c')",
    );
    const cast: Load = {
      from: { connection: "source", table: "public.cast_key" },
      columns: { k: { as: "k", type: "integer" }, v: "v" },
      into: { table: "landing.cast_key", mode: "upsert", key: ["k"], deleted: "remove" },
    };
    await pair.run(cast);
    await pair.atSource("DELETE FROM cast_key WHERE k = '2'");
    expect((await pair.rehearse(cast)).tally).toMatchObject({ deleted: "1", rejected: "1" });
    const run = await pair.run(cast);
    expect(run.tally).toMatchObject({ deleted: "1", rejected: "1" });
    expect(run.proof.verdict).toBe("proved");
    await pair.atSource("DROP TABLE cast_key");
  });

  test("letters are told alike on servers of different locales", async () => {
    const plain = await pair.inLocale(
      "C",
      "CREATE TABLE name (id int PRIMARY KEY, n text); INSERT INTO name VALUES (1, 'ÅSE Øvre'), (2, 'İstanbul'), (3, 'straße')",
    );
    const name: Load = {
      from: { connection: "source", table: "public.name" },
      columns: { id: "id", low: "lower(n)", up: "upper(n)", each: "initcap(n)", like: "n ~* 'øvre'" },
      into: { table: "landing.name", mode: "upsert", key: ["id"] },
    };
    const run = await pair.between(plain).run(name);
    expect(run.proof.verdict).toBe("proved");
    expect(await pair.atWarehouse("SELECT low FROM landing.name WHERE id = 1")).toEqual([{ low: "åse øvre" }]);
  });
});

describe("a rehearsal gives the numbers of the run, or fails as it would", () => {
  const told = (work: Promise<unknown>) =>
    work.then(
      () => "went on",
      (error: unknown) => failureOf(error).message,
    );

  test("of an append whose key repeats in the target", async () => {
    await pair.atWarehouse(
      "CREATE SCHEMA landing; CREATE TABLE landing.trip (id int, fare numeric(8,2), note text, at timestamptz); INSERT INTO landing.trip VALUES (1, 1, 'a', now()), (1, 1, 'b', now())",
    );
    const append: Load = { ...trip, into: { table: "landing.trip", mode: "append", key: ["id"] } };
    const rehearsed = await pair.rehearse(append);
    expect(rehearsed.tally).toEqual((await pair.run(append)).tally);
    expect(rehearsed.tally).toMatchObject({ new: "19", same: "1" });
  });

  test.each([
    ["a check that a row breaks", "ALTER TABLE landing.trip ADD CHECK (fare < 20)"],
    [
      "a trigger that refuses",
      "CREATE FUNCTION landing.no() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.id = 20 THEN RAISE EXCEPTION 'not that one'; END IF; RETURN NEW; END $$; CREATE TRIGGER no BEFORE INSERT ON landing.trip FOR EACH ROW EXECUTE FUNCTION landing.no()",
    ],
    ["an identity that takes no value", "ALTER TABLE landing.trip ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY"],
    ["a second unique index", "CREATE UNIQUE INDEX ON landing.trip ((length(note)))"],
    [
      "a column that the table computes",
      "ALTER TABLE landing.trip DROP COLUMN note; ALTER TABLE landing.trip ADD COLUMN note text GENERATED ALWAYS AS ('x') STORED",
    ],
  ])("of %s", async (_, change) => {
    await pair.atWarehouse(
      "CREATE SCHEMA landing; CREATE TABLE landing.trip (id int PRIMARY KEY, fare numeric(8,2), note text, at timestamptz)",
    );
    await pair.atWarehouse(change);
    const rehearsed = await told(pair.rehearse(trip));
    expect(rehearsed).not.toBe("went on");
    expect(rehearsed).toBe(await told(pair.run(trip)));
    expect(await pair.atWarehouse("SELECT count(*)::text AS n FROM landing.trip")).toEqual([{ n: "0" }]);
  });

  test("and a trigger that keeps rows out, or changes them, does not go unseen", async () => {
    await pair.atWarehouse(`CREATE SCHEMA landing; CREATE TABLE landing.trip (id int PRIMARY KEY, fare numeric(8,2), note text, at timestamptz);
      CREATE FUNCTION landing.skip() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.id = 5 THEN RETURN NULL; END IF; RETURN NEW; END $$; CREATE TRIGGER skip BEFORE INSERT ON landing.trip FOR EACH ROW EXECUTE FUNCTION landing.skip()`);
    await expect(pair.run(trip)).rejects.toThrow(/does not balance/);
    await pair.atWarehouse(
      "CREATE OR REPLACE FUNCTION landing.skip() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.note := NEW.note || '!'; RETURN NEW; END $$",
    );
    expect((await pair.run(trip)).proof).toMatchObject({
      verdict: "disagrees",
      cells: { verdict: "disagrees" },
      slices: [{ verdict: "disagrees" }],
    });
  });
});

test("readers of the target are not kept out while a column is added", async () => {
  await pair.run(trip);
  await pair.atSource(
    "ALTER TABLE trip ADD COLUMN deck text DEFAULT 'upper'; CREATE FUNCTION nap(n int) RETURNS int LANGUAGE plpgsql AS $$ BEGIN PERFORM pg_sleep(0.05); RETURN n; END $$; CREATE VIEW napping AS SELECT nap(id) AS id, fare, note, at, deck FROM trip",
  );
  const slowly: Load = { ...trip, from: { connection: "source", table: "public.napping" } };
  let reading = 0;
  const report = { line: () => undefined, phase: () => undefined, progress: () => undefined, waiting: () => undefined };
  const running = pair.run(slowly, { report }).finally(() => {
    reading = Number.NaN;
  });
  while (!Number.isNaN(reading)) {
    const [{ n } = {}] = await pair.atWarehouse(
      "SET lock_timeout = '400ms'; SELECT count(*)::text AS n FROM landing.trip",
    );
    expect(n).toBe("20");
    reading++;
  }
  expect((await running).proof.verdict).toBe("proved");
  await pair.atWarehouse("RESET lock_timeout");
});

test("errors name the side at which they happened", async () => {
  await pair.atWarehouse(
    "CREATE SCHEMA landing; CREATE TABLE landing.trip (id int PRIMARY KEY, fare numeric(8,2) CHECK (fare > 5), note text, at timestamptz)",
  );
  expect((await pair.run(trip).catch((error: unknown) => failureOf(error))) as object).toMatchObject({
    message: expect.stringMatching(/^goon_warehouse: /),
  });
  expect(
    (await pair
      .run({ ...trip, from: { connection: "source", query: "SELECT id / (id - 5) AS id, fare, note, at FROM trip" } })
      .catch((error: unknown) => failureOf(error))) as object,
  ).toMatchObject({ message: "goon_source: division by zero" });
});

describe("limits and figures hold to the letter", () => {
  test("as many rows may be rejected as the limit says, and as many may go as the guard says", async () => {
    await pair.atSource("ALTER TABLE trip ALTER COLUMN fare TYPE text; UPDATE trip SET fare = 'x' WHERE id <= 2");
    const cast = (limit: number | string): Load => ({
      ...trip,
      columns: { id: "id", fare: { as: "fare", type: "numeric(8,2)" }, at: "at" },
      rejects: { limit },
    });
    expect((await pair.run(cast(2))).tally.rejected).toBe("2");
    expect((await pair.run(cast("10%"), { scope: { kind: "whole" } })).tally.rejected).toBe("2");
    await expect(pair.run(cast(1), { scope: { kind: "whole" } })).rejects.toThrow(
      /2 rows would be rejected; the load allows 1/,
    );
    await expect(pair.run(cast("9.99%"), { scope: { kind: "whole" } })).rejects.toThrow(/would be rejected/);

    await pair.atWarehouse("DROP SCHEMA landing CASCADE; DROP SCHEMA undercoat CASCADE");
    const swept: Load = {
      ...trip,
      columns: { id: "id", at: "at" },
      into: { ...trip.into, deleted: "remove", deletions: { most: 15 } },
      proof: { figures: ["rows"] },
    };
    await pair.run(swept);
    await pair.atSource("DELETE FROM trip WHERE id IN (3, 4, 5, 6)");
    await expect(pair.run(swept)).rejects.toThrow(/More than 15 %/);
    await pair.atSource("INSERT INTO trip VALUES (6, '6', 'trip 6', '2026-11-20 00:06')");
    expect((await pair.run(swept)).tally.deleted).toBe("3");
  });

  test("floats are added up as decimals, whatever the order of rows", async () => {
    await pair.atSource(
      "CREATE TABLE drop_ (id int PRIMARY KEY, f float8); INSERT INTO drop_ SELECT n, CASE n WHEN 1 THEN 1e16 WHEN 2 THEN -1e16 ELSE 0.1 END FROM generate_series(1, 50) n",
    );
    const drop: Load = {
      from: { connection: "source", query: "SELECT id, f FROM drop_ ORDER BY id" },
      into: { table: "landing.drop_", mode: "upsert", key: ["id"] },
      proof: { figures: ["sum(f)"] },
    };
    await pair.run(drop);
    await pair.atWarehouse(
      "CREATE TABLE landing.turned AS SELECT * FROM landing.drop_ ORDER BY id DESC; TRUNCATE landing.drop_; INSERT INTO landing.drop_ SELECT * FROM landing.turned",
    );
    expect((await pair.prove(drop, false)).proof).toMatchObject({
      verdict: "proved",
      figures: [{ source: "4.8", warehouse: "4.8" }],
    });
    await pair.atSource("DROP TABLE drop_");
  });

  test("the least text is the least by its bytes, whatever a side's collation says", async () => {
    const other = await pair.inLocale(
      "icu",
      "CREATE TABLE word (id int PRIMARY KEY, w text); INSERT INTO word VALUES (1, 'b'), (2, 'A'), (3, 'a'), (4, 'B'), (5, '007'), (6, '07')",
    );
    const word: Load = {
      from: { connection: "source", table: "public.word" },
      into: { table: "landing.word", mode: "upsert", key: ["id"] },
      proof: { figures: ["min(w)", "max(w)"] },
    };
    expect((await pair.between(other).run(word)).proof).toMatchObject({
      verdict: "proved",
      figures: [{ source: "007" }, { source: "b" }],
    });
  });

  test("of a large table the slices that rows were swept from are proved too", async () => {
    const sliced: Load = {
      ...trip,
      into: { ...trip.into, deleted: "remove" },
      proof: { by: { column: "at", slice: "hour" }, figures: ["rows"] },
    };
    await pair.atSource("UPDATE trip SET at = at + id * interval '1 hour'");
    await pair.run(sliced);
    await pair.atWarehouse("UPDATE pg_class SET reltuples = 3000000 WHERE oid = 'landing.trip'::regclass");
    await pair.atSource("DELETE FROM trip WHERE id = 3");
    const run = await pair.run(sliced);
    expect(run.tally.deleted).toBe("1");
    expect(run.proof).toMatchObject({
      whole: false,
      slices: [{ slice: "2026-11-20 03:00:00", figures: [{ source: "0", warehouse: "0" }] }],
    });
    await pair.atWarehouse("UPDATE pg_class SET reltuples = 3000000 WHERE oid = 'landing.trip'::regclass");
    // One that finds nothing looks at no slice, and says so.
    expect((await pair.run(sliced)).proof).toMatchObject({
      verdict: "proved",
      depth: "cells",
      cells: { rows: "1" },
      figures: [],
      slices: [],
    });
  });

  test("of a large table the figures may agree where a cell that was written does not", async () => {
    const sliced: Load = { ...trip, proof: { by: { column: "at", slice: "hour" }, figures: ["rows"] } };
    await pair.run(sliced);
    await pair.atWarehouse(`CREATE FUNCTION landing.shout() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.note := NEW.note || '!'; RETURN NEW; END $$;
      CREATE TRIGGER shout BEFORE UPDATE ON landing.trip FOR EACH ROW EXECUTE FUNCTION landing.shout();
      UPDATE pg_class SET reltuples = 3000000 WHERE oid = 'landing.trip'::regclass`);
    await pair.atSource("UPDATE trip SET note = 'other', at = at + interval '1 minute' WHERE id = 20");
    expect((await pair.run(sliced)).proof).toMatchObject({
      verdict: "disagrees",
      whole: false,
      cells: { rows: "1", verdict: "disagrees", of: "read" },
      slices: [{ figures: [{ source: "20", warehouse: "20" }] }],
    });
  });

  test("a row marked as gone that comes back as it was is there again", async () => {
    const marked: Load = { ...trip, into: { ...trip.into, deleted: "mark" } };
    const gone = () => pair.atWarehouse("SELECT id::text FROM landing.trip WHERE deleted_at IS NOT NULL");
    await pair.run(marked);
    await pair.atSource("DELETE FROM trip WHERE id = 20");
    expect((await pair.run(marked)).tally.deleted).toBe("1");
    expect(await gone()).toEqual([{ id: "20" }]);
    await pair.atSource("INSERT INTO trip VALUES (20, 20, 'trip 20', '2026-11-20 00:20')");
    expect((await pair.run(marked)).tally).toMatchObject({ changed: "1", same: "0" });
    expect(await gone()).toEqual([]);
  });

  test("a watermark taken in another mode, or for other columns, does not count", async () => {
    const append: Load = { ...trip, into: { ...trip.into, mode: "append" } };
    await pair.run(append);
    await pair.atSource("UPDATE trip SET fare = 99 WHERE id = 1");
    expect((await pair.run(append)).tally.read).toBe("1");
    const run = await pair.run(trip);
    expect(run.tally).toMatchObject({ read: "20", changed: "1" });
    expect(
      (await pair.run({ ...trip, columns: { id: "id", fare: { as: "fare + 1", type: "numeric(8,2)" }, at: "at" } }))
        .tally.read,
    ).toBe("20");
  });

  test("both ends must have counted the same rows", async () => {
    const { transfer } = await import("@undercoat/engine/load/staging");
    const { Readable, Writable } = await import("node:stream");
    const rows = Object.assign(Readable.from([Buffer.from("x")]), { counted: Promise.resolve(3) });
    const sink = Object.assign(new Writable({ write: (_chunk, _encoding, done) => done() }), { rowCount: 2 });
    const ends = { inside: false, source: { rows: async () => rows } } as never;
    const landing = { sink: () => sink, progress: async () => null } as never;
    const report = {
      line: () => undefined,
      phase: () => undefined,
      progress: () => undefined,
      waiting: () => undefined,
    };
    await expect(transfer(ends, landing, { signal: new AbortController().signal } as never, report)).rejects.toThrow(
      "The source sent 3 rows and the warehouse took 2",
    );
  });
});
