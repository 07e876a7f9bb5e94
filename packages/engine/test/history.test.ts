import type { Load } from "@undercoat/core/pipeline/pipeline";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { makePair, type Pair, quiet } from "./pair.ts";

let pair: Pair;
beforeAll(async () => {
  pair = await makePair("history");
});
afterAll(() => pair.close());

const load: Load = {
  from: { connection: "source", table: "public.vessel" },
  into: {
    table: "fleet.vessel",
    mode: "history",
    key: ["code"],
    deleted: "close",
    history: {
      columns: {
        phone: "overwrite",
        launched: "keep",
        name: { previous: "former_name" },
      },
      change: "change_kind",
      surrogate: { column: "sk", start: 1000, step: 1 },
    },
  },
  proof: { figures: ["rows", "max(port)"] },
};
beforeEach(async () => {
  await pair.atWarehouse("DROP SCHEMA IF EXISTS fleet CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
  await pair.atSource(
    `DROP TABLE IF EXISTS vessel; CREATE TABLE vessel (code text PRIMARY KEY, name text, port text, phone text, launched date);
     INSERT INTO vessel VALUES ('A', 'Ann', 'KIL', '1', '2000-01-01'), ('B', 'Bee', 'SKV', '2', '2001-01-01'), ('C', 'Cee', 'MAR', '3', '2002-01-01')`,
  );
});

const versions = (columns = "code, name, former_name, port, phone, change_kind, sk, is_current") =>
  pair.atWarehouse(`SELECT ${columns} FROM fleet.vessel ORDER BY code, valid_from`);
const lines = async (columns?: string) =>
  (await versions(columns)).map((row) =>
    Object.values(row)
      .map((value) => value ?? "-")
      .join(" "),
  );

describe("each column's change does what was chosen for it", () => {
  test("version, overwrite in all, previous; what did not change stays", async () => {
    const first = await pair.run(load);
    expect(first.tally).toMatchObject({ read: "3", new: "3", changed: "0", same: "0", versions: "3", closed: "0" });
    expect(first.proof).toMatchObject({ verdict: "proved", depth: "cells" });
    await pair.atSource(
      "UPDATE vessel SET port = 'KIL' WHERE code = 'B'; UPDATE vessel SET phone = '9', name = 'Anna' WHERE code = 'A'",
    );
    const second = await pair.run(load);
    expect(second.tally).toMatchObject({
      read: "3",
      new: "0",
      changed: "2",
      same: "1",
      versions: "1",
      closed: "1",
      overwritten: "1",
    });
    expect(second.proof).toMatchObject({ verdict: "proved", history: { broken: [] } });
    expect(second.findings.opened).toEqual([{ column: "port", versions: "1" }]);
    await pair.atSource("UPDATE vessel SET phone = '8', port = 'MAR' WHERE code = 'B'");
    await pair.run(load);
    expect(await lines()).toEqual([
      "A Anna Ann KIL 9 overwrite 1000 t",
      "B Bee - SKV 8 new 1001 f",
      "B Bee - KIL 8 version 1003 f",
      "B Bee - MAR 8 version 1004 t",
      "C Cee - MAR 3 new 1002 t",
    ]);
    const { rows, proof } = await pair.prove(load);
    expect([proof.verdict, proof.history?.versions, rows?.different]).toEqual(["proved", "5", 0]);
  });

  test("a kept value that changes rejects the row, stops the load or is counted", async () => {
    await pair.run(load);
    await pair.atSource("UPDATE vessel SET launched = '1999-01-01', port = 'XXX' WHERE code = 'A'");
    const rejecting = await pair.run(load);
    expect(rejecting.tally).toMatchObject({ read: "3", changed: "0", same: "2", rejected: "1" });
    expect(rejecting.findings.reasons[0]).toMatchObject({ column: "launched", reason: /kept as it first was/ });
    expect(rejecting.proof.verdict).toBe("proved");
    const breach = (how: "stop" | "count"): Load => ({
      ...load,
      into: { ...load.into, history: { ...load.into.history, breach: how } },
    });
    await expect(pair.run(breach("stop"))).rejects.toThrow(/launched is kept/);
    const counting = await pair.run(breach("count"));
    expect(counting.tally).toMatchObject({ changed: "1", rejected: "0" });
    expect(counting.findings.counted).toEqual([{ rule: "launched is kept", rows: "1" }]);
    expect(counting.proof.verdict).toBe("proved");
    expect((await versions("launched::text AS at")).map((row) => row.at)).toEqual([
      "2000-01-01",
      "2000-01-01",
      "2001-01-01",
      "2002-01-01",
    ]);
  });

  test("a key that goes ends, one that comes back opens a version and the gap stays", async () => {
    await pair.run(load);
    await pair.atSource("DELETE FROM vessel WHERE code = 'B'");
    const gone = await pair.run(load);
    expect(gone.tally).toMatchObject({ read: "2", deleted: "1", closed: "1", versions: "0" });
    expect(gone.proof.verdict).toBe("proved");
    await pair.atSource("INSERT INTO vessel VALUES ('B', 'Bee', 'SKV', '2', '2001-01-01')");
    const back = await pair.run(load);
    expect(back.tally).toMatchObject({ read: "3", new: "0", changed: "1", same: "2", versions: "1" });
    expect(back.proof).toMatchObject({ verdict: "proved", history: { broken: [] } });
    expect(await lines("code, change_kind, sk, is_current, (valid_to IS NULL) AS open")).toEqual([
      "A new 1000 t t",
      "B deleted 1001 f f",
      "B returned 1003 t t",
      "C new 1002 t t",
    ]);
    expect((await pair.prove(load)).proof).toMatchObject({ verdict: "proved", history: { versions: "4", broken: [] } });
  });
});

/** The load with another history, or other parts. */
const withHistory = (history: object, more: Partial<Load> = {}): Load => ({
  ...load,
  ...more,
  into: { ...load.into, history: { ...load.into.history, ...history } },
});

describe("a rehearsal", () => {
  test("says what the run then does, and writes nothing", async () => {
    await pair.run(load);
    await pair.atSource(
      "UPDATE vessel SET port = 'VES', phone = '7' WHERE code = 'A'; DELETE FROM vessel WHERE code = 'C'; INSERT INTO vessel VALUES ('D', 'Dee', 'ORM', '4', '2004-01-01')",
    );
    const before = await lines();
    const rehearsed = await pair.rehearse(load);
    expect(await lines()).toEqual(before);
    expect(
      await pair.atWarehouse(
        "SELECT relname FROM pg_class WHERE relname ~ '^(news|known|points|spans)_(stage|shaped)'",
      ),
    ).toEqual([]);
    const run = await pair.run(load);
    const { closed: _, ...told } = rehearsed.tally;
    expect(run.tally).toMatchObject(told);
    expect(run.tally).toMatchObject({ new: "1", changed: "1", deleted: "1", versions: "2", closed: "2" });
    expect(rehearsed.findings.opened).toEqual([{ column: "port", versions: "1" }]);
    expect(rehearsed.altered[0]).toMatchObject({
      new: expect.arrayContaining(["VES"]),
      held: expect.arrayContaining(["KIL"]),
    });
  });
});

describe("a table that stands there already", () => {
  const upsert: Load = { ...load, into: { table: "fleet.vessel", mode: "upsert", key: ["code"] } };

  test("made by upsert is taken over: what is added is said, each row is a first version, and versions follow", async () => {
    await pair.run(upsert);
    const said = await pair.rehearse(load);
    expect(said.changes.map((change) => change.message)).toEqual(
      expect.arrayContaining([
        "fleet.vessel gets the column valid_from",
        "each row becomes the first version of its key",
        "versions are numbered",
        "the key code with valid_from is built",
        expect.stringMatching(/lets a key have one row only, and goes/),
      ]),
    );
    await pair.atSource("UPDATE vessel SET port = 'VES' WHERE code = 'A'");
    const run = await pair.run(load);
    expect(run.tally).toMatchObject({ new: "0", changed: "1", same: "2", versions: "1" });
    expect(run.proof).toMatchObject({ verdict: "proved", history: { broken: [] } });
    expect(await lines("code, port, sk, is_current")).toEqual([
      "A KIL 1000 f",
      "A VES 1003 t",
      "B SKV 1001 t",
      "C MAR 1002 t",
    ]);
    expect((await pair.run(load)).tally).toMatchObject({ changed: "0", same: "3" });
  });

  test("kept by hand under names of its own goes on, with its numbers", async () => {
    await pair.atWarehouse(
      `CREATE SCHEMA fleet; CREATE TABLE fleet.vessel (no bigint PRIMARY KEY, code text NOT NULL, name text, port text, phone text, launched date, eff_from timestamptz NOT NULL, eff_to timestamptz NOT NULL, cur text);
       INSERT INTO fleet.vessel VALUES (7, 'A', 'Ann', 'OLD', '1', '2000-01-01', '2020-01-01', '2021-01-01', 'N'), (8, 'A', 'Ann', 'KIL', '1', '2000-01-01', '2021-01-01', '9999-12-31', 'Y'),
         (9, 'B', 'Bee', 'SKV', '2', '2001-01-01', '2021-01-01', '9999-12-31', 'Y')`,
    );
    const byHand = withHistory({
      columns: { phone: "overwrite", launched: "keep" },
      change: undefined,
      from: "eff_from",
      to: "eff_to",
      end: "9999-12-31",
      current: { column: "cur", yes: "Y", no: "N" },
      surrogate: { column: "no" },
    });
    await pair.atSource("UPDATE vessel SET port = 'VES' WHERE code = 'B'");
    const run = await pair.run(byHand);
    expect(run.tally).toMatchObject({ new: "1", changed: "1", same: "1", versions: "2" });
    expect(
      (await pair.atWarehouse("SELECT no, code, port, cur, eff_to::date AS until FROM fleet.vessel ORDER BY no")).map(
        (row) => Object.values(row).join(" "),
      ),
    ).toEqual([
      "7 A OLD N 2021-01-01",
      "8 A KIL Y 9999-12-31",
      expect.stringMatching(/^9 B SKV N 20/),
      expect.stringMatching(/^10 . ... Y 9999-12-31/),
      expect.stringMatching(/^11 . ... Y 9999-12-31/),
    ]);
    expect((await pair.prove(byHand)).proof).toMatchObject({
      verdict: "proved",
      history: { broken: [], versions: "5" },
    });
    expect(await pair.atWarehouse("SELECT count(*)::text AS n FROM fleet.vessel_now")).toEqual([{ n: "3" }]);
  });

  test("what stands under a view's name and is not ours is left alone", async () => {
    await pair.atWarehouse("CREATE SCHEMA fleet; CREATE VIEW fleet.vessel_now AS SELECT 1 AS mine");
    await pair.run(load);
    expect(await pair.atWarehouse("SELECT * FROM fleet.vessel_now")).toEqual([{ mine: "1" }]);
  });
});

describe("what is a change", () => {
  test("a text may ignore case, space around and accents; null and '' differ; the spelling still follows the source", async () => {
    await pair.atSource(
      "UPDATE vessel SET port = ' Kíl ' WHERE code = 'A'; UPDATE vessel SET port = '' WHERE code = 'B'",
    );
    const loose = withHistory({ compare: { ignore: ["case", "space", "accents"], locale: "nb-NO" } });
    await pair.run(loose);
    await pair.atSource(
      "UPDATE vessel SET port = 'KIL' WHERE code = 'A'; UPDATE vessel SET port = NULL WHERE code = 'B'",
    );
    const run = await pair.run(loose);
    expect(run.tally).toMatchObject({ changed: "2", versions: "1", overwritten: "1" });
    expect(run.proof.verdict).toBe("proved");
    expect(await lines("code, port, is_current")).toEqual(["A KIL t", "B  f", "B - t", "C MAR t"]);
  });

  test("numbers, times and documents compare by value, and are stored as the source has them", async () => {
    await pair.atSource(
      "DROP TABLE IF EXISTS odd; CREATE TABLE odd (id int PRIMARY KEY, n numeric, j jsonb, f float8, i interval); INSERT INTO odd VALUES (1, 1.0, '{\"a\": 1.0}', 0, '1 day'), (2, 'NaN', NULL, 'Infinity', '1 mon')",
    );
    const odd: Load = {
      from: { connection: "source", table: "public.odd" },
      into: { table: "fleet.odd", mode: "history", key: ["id"] },
    };
    await pair.run(odd);
    await pair.atSource("UPDATE odd SET n = n + 0.00, j = '{\"a\": 1.00}', f = -f, i = '24:00' WHERE id = 1");
    const run = await pair.run(odd);
    expect(run.tally).toMatchObject({ changed: "1", same: "1", versions: "0", overwritten: "1" });
    expect(run.proof.verdict).toBe("proved");
    expect(await pair.atWarehouse("SELECT n::text, j::text, f::text, i::text FROM fleet.odd WHERE id = 1")).toEqual([
      { n: "1.00", j: '{"a": 1.00}', f: "-0", i: "24:00:00" },
    ]);
  });
});

describe("what is always true is looked at, and can fail", () => {
  test.each<[string, string, RegExp]>([
    [
      "two open versions",
      "UPDATE fleet.vessel SET valid_to = NULL, is_current = true WHERE code = 'A'",
      /open although/,
    ],
    [
      "an overlap",
      "UPDATE fleet.vessel SET valid_to = valid_to + interval '1 microsecond' WHERE NOT is_current",
      /overlap/,
    ],
    [
      "a gap that nobody made",
      "UPDATE fleet.vessel SET valid_to = valid_to - interval '1 microsecond' WHERE NOT is_current",
      /gap/,
    ],
    [
      "a version of no length",
      "UPDATE fleet.vessel SET valid_to = valid_from WHERE NOT is_current",
      /end before they begin/,
    ],
    ["two alike side by side", "UPDATE fleet.vessel SET port = 'VES' WHERE code = 'A'", /says the same/],
    ["a wrong mark", "UPDATE fleet.vessel SET is_current = true", /marked as current/],
  ])("%s", async (_, tampering, says) => {
    await pair.run(load);
    await pair.atSource("UPDATE vessel SET port = 'VES' WHERE code = 'A'");
    await pair.run(load);
    expect((await pair.prove(load)).proof).toMatchObject({ verdict: "proved", history: { broken: [], versions: "4" } });
    await pair.atWarehouse(tampering);
    const { proof } = await pair.prove(load);
    expect(proof.verdict).toBe("disagrees");
    expect(proof.history?.broken.map((one) => one.says)).toEqual(expect.arrayContaining([expect.stringMatching(says)]));
  });

  test("current versions that differ from the source are found row by row, past ones are not mistaken for them", async () => {
    await pair.run(load);
    await pair.atSource("UPDATE vessel SET port = 'VES' WHERE code = 'A'");
    await pair.run(load);
    await pair.atWarehouse("UPDATE fleet.vessel SET port = 'AAA' WHERE code = 'C'");
    const { rows, proof } = await pair.prove(load);
    expect([proof.verdict, rows?.different, rows?.missing, rows?.extra]).toEqual(["disagrees", 1, 0, 0]);
    // Repaired as any row is; the wrong value was a version for as long as it stood.
    const repair = await pair.run(load, { scope: { kind: "keys", keys: [["C"]] } });
    expect(repair.tally).toMatchObject({ read: "1", changed: "1", versions: "1" });
    expect((await pair.prove(load)).proof.verdict).toBe("proved");
  });
});

describe("a load that goes on", () => {
  test("a new column is null in old versions; what it says opens one", async () => {
    await pair.run(load);
    await pair.atSource("ALTER TABLE vessel ADD COLUMN berth text DEFAULT 'b1'");
    const run = await pair.run(load);
    expect(run.findings.drift).toMatchObject([{ column: "berth", kind: "added", done: "taken" }]);
    expect(run.proof.verdict).toBe("proved");
    expect(run.findings.opened).toEqual([{ column: "berth", versions: "3" }]);
    expect(await pair.atWarehouse("SELECT DISTINCT is_current, berth FROM fleet.vessel ORDER BY 1")).toEqual([
      { is_current: "f", berth: null },
      { is_current: "t", berth: "b1" },
    ]);
    expect((await pair.run(load)).tally).toMatchObject({ changed: "0", same: "3" });
  });

  test("or is filled in where that is chosen: old versions hold what the source says now, and none is opened", async () => {
    const filling = { ...load, into: { ...load.into, history: { ...load.into.history, added: "fill" as const } } };
    await pair.run(filling);
    await pair.atSource("UPDATE vessel SET port = 'VES' WHERE code = 'A'");
    await pair.run(filling);
    await pair.atSource("ALTER TABLE vessel ADD COLUMN berth text; UPDATE vessel SET berth = 'at ' || code");
    expect((await pair.rehearse(filling)).tally).toMatchObject({ changed: "0", same: "3", versions: "0" });
    const run = await pair.run(filling);
    expect([run.tally.same, run.tally.versions, run.proof.verdict]).toEqual(["3", "0", "proved"]);
    expect(
      await pair.atWarehouse(
        "SELECT code, berth, count(*)::text AS versions FROM fleet.vessel GROUP BY 1, 2 ORDER BY 1",
      ),
    ).toEqual([
      { code: "A", berth: "at A", versions: "2" },
      { code: "B", berth: "at B", versions: "1" },
      { code: "C", berth: "at C", versions: "1" },
    ]);
    expect((await pair.prove(filling)).proof.verdict).toBe("proved");
  });

  test("a widened column takes the view of the current versions with it", async () => {
    await pair.atSource("ALTER TABLE vessel ALTER COLUMN port TYPE varchar(3)");
    await pair.run(load);
    await pair.atSource(
      "ALTER TABLE vessel ALTER COLUMN port TYPE varchar(9); UPDATE vessel SET port = 'LONGER' WHERE code = 'A'",
    );
    expect((await pair.run(load)).proof.verdict).toBe("proved");
    expect(await pair.atWarehouse("SELECT port FROM fleet.vessel_now WHERE code = 'A'")).toEqual([{ port: "LONGER" }]);
  });

  test("a source whose clock is set back opens no version before an earlier one", async () => {
    await pair.run(load);
    await pair.atWarehouse(
      "UPDATE undercoat.history SET moment = now() + interval '1 day'; UPDATE fleet.vessel SET valid_from = now() + interval '1 day'",
    );
    await pair.atSource("UPDATE vessel SET port = 'VES' WHERE code = 'A'");
    const run = await pair.run(load);
    expect(run.proof).toMatchObject({ verdict: "proved", history: { broken: [] } });
  });

  test("numbers are never given twice, also where the table was lost", async () => {
    await pair.run(load);
    await pair.atWarehouse("DROP TABLE fleet.vessel CASCADE");
    await pair.run(load);
    expect(await lines("code, sk")).toEqual(["A 1003", "B 1004", "C 1005"]);
  });

  test("names of the source that are the history's own words, and odd keys", async () => {
    await pair.atSource(
      `DROP TABLE IF EXISTS "odd names"; CREATE TABLE "odd names" (at int NOT NULL, "select" text NOT NULL, version text, source text, news text, gone text, first text, "undercoat" text, moved timestamptz NOT NULL, PRIMARY KEY (at, "select"));
       INSERT INTO "odd names" VALUES (1, 'a', 'v', 's', 'n', 'g', 'f', 'u', '2026-01-01'), (1, 'b', 'v', 's', 'n', 'g', 'f', 'u', '2026-01-01')`,
    );
    const odd: Load = {
      from: { connection: "source", table: 'public."odd names"' },
      into: { table: 'fleet."odd names"', mode: "history", key: ["at", "select"], history: { since: "moved" } },
    };
    await pair.run(odd);
    await pair.atSource(
      `UPDATE "odd names" SET version = 'w', moved = '2026-02-01' WHERE "select" = 'a'; UPDATE "odd names" SET gone = 'h', moved = '2025-12-01' WHERE "select" = 'b'`,
    );
    const run = await pair.run(odd);
    expect(run.proof).toMatchObject({ verdict: "proved", history: { broken: [] } });
    expect(run.tally).toMatchObject({ changed: "2" });
    expect((await pair.prove(odd)).proof).toMatchObject({ verdict: "proved", history: { broken: [] } });
  });

  test("a time that the load does not write still dates the versions; a row without one is rejected", async () => {
    await pair.atSource(
      "DROP TABLE IF EXISTS dated; CREATE TABLE dated (id int PRIMARY KEY, port text, at timestamptz); INSERT INTO dated VALUES (1, 'KIL', '2026-01-01'), (2, 'SKV', NULL), (3, 'MAR', 'infinity')",
    );
    const hidden: Load = {
      from: { connection: "source", table: "public.dated" },
      columns: { id: "id", port: "port" },
      into: { table: "fleet.dated", mode: "history", key: ["id"], history: { since: "at" } },
    };
    const first = await pair.run(hidden);
    expect(first.tally).toMatchObject({ read: "3", new: "1", rejected: "2" });
    await pair.atSource(
      "UPDATE dated SET port = 'VES', at = '2026-02-01' WHERE id = 1; UPDATE dated SET at = '2026-01-15' WHERE id = 2",
    );
    const second = await pair.run(hidden);
    expect(second.tally).toMatchObject({ new: "1", changed: "1", rejected: "1" });
    await pair.atSource("UPDATE dated SET at = '2026-03-01' WHERE id = 1");
    const touched = await pair.run(hidden);
    expect(touched.tally).toMatchObject({ changed: "0", same: "2", versions: "0" });
    expect(touched.proof.verdict).toBe("proved");
    expect(
      await pair.atWarehouse(
        "SELECT id, port, valid_from::date::text AS since FROM fleet.dated ORDER BY id, valid_from",
      ),
    ).toEqual([
      { id: "1", port: "KIL", since: "2026-01-01" },
      { id: "1", port: "VES", since: "2026-02-01" },
      { id: "2", port: "SKV", since: "2026-01-15" },
    ]);
  });

  test("a first read takes rows as they come, and looks at each where one can't be dated", async () => {
    const dated: Load = {
      from: { connection: "source", table: "public.dated" },
      into: {
        table: "fleet.dated",
        mode: "history",
        key: ["id"],
        history: { since: "at", surrogate: { column: "sk", start: 5, step: 2 }, change: "kind", end: "9999-12-31" },
      },
    };
    const made =
      "DROP TABLE IF EXISTS dated; CREATE TABLE dated (id int PRIMARY KEY, port text, at timestamp NOT NULL); INSERT INTO dated VALUES (1, 'KIL', '2026-01-01'), (2, 'SKV', '2026-01-02')";
    const held = () =>
      pair.atWarehouse(
        "SELECT id, valid_from::text AS since, valid_to::date::text AS until, kind, sk, is_current FROM fleet.dated ORDER BY id",
      );
    const rows = [
      { id: "1", since: "2026-01-01 00:00:00+00", until: "9999-12-31", kind: "new", sk: "5", is_current: "t" },
      { id: "2", since: "2026-01-02 00:00:00+00", until: "9999-12-31", kind: "new", sk: "7", is_current: "t" },
    ];
    await pair.atSource(made);
    const said: string[] = [];
    const run = await pair.run(dated, { report: { ...quiet, line: (text) => said.push(text) } });
    expect(said).toContain("2 rows written");
    expect(run.tally).toMatchObject({ new: "2", versions: "2", closed: "0" });
    expect(run.proof.verdict).toBe("proved");
    expect(await held()).toEqual(rows);
    expect(
      await pair.atWarehouse(
        "SELECT column_default FROM information_schema.columns WHERE table_schema = 'fleet' AND column_default IS NOT NULL",
      ),
    ).toEqual([]);
    expect(
      await pair.atWarehouse("SELECT relname FROM pg_class WHERE relkind = 'S' AND relname LIKE 'numbers%'"),
    ).toEqual([]);
    await pair.atWarehouse("DROP SCHEMA fleet CASCADE; DROP SCHEMA undercoat CASCADE");
    await pair.atSource(`${made}, (3, 'MAR', 'infinity')`);
    const looked = await pair.run(dated);
    expect(looked.tally).toMatchObject({ read: "3", new: "2", rejected: "1" });
    expect((await held()).map(({ sk: _, ...row }) => row)).toEqual(rows.map(({ sk: _, ...row }) => row));
    expect((await pair.prove(dated)).proof).toMatchObject({
      verdict: "proved",
      history: { broken: [], versions: "2" },
    });
  });

  test("readers see one current version of each key at every moment of a run, or a cut-off run leaves nothing", async () => {
    await pair.atSource(
      "INSERT INTO vessel SELECT 'X' || n, 'n', 'KIL', '1', '2000-01-01' FROM generate_series(1, 3000) n",
    );
    await pair.run(load);
    const before = await lines("code, valid_from, valid_to, port");
    await pair.atSource("UPDATE vessel SET port = 'VES'");
    for (const cut of [5, 40, 90]) {
      const abort = new AbortController();
      const timer = setTimeout(() => abort.abort(), cut);
      const outcome = await pair.run(load, { signal: abort.signal }).catch((error: Error) => error);
      clearTimeout(timer);
      if (!(outcome instanceof Error)) break;
      expect(await lines("code, valid_from, valid_to, port")).toEqual(before);
    }
    await pair.atSource("UPDATE vessel SET port = 'ORM'");
    const running = pair.run(load);
    const counts = new Set<string>();
    let done = false;
    void running.then(() => {
      done = true;
    });
    while (!done) {
      const [row] = await pair.atWarehouse(
        "SELECT count(*)::text AS open, count(DISTINCT code)::text AS keys FROM fleet.vessel WHERE is_current",
      );
      counts.add(`${row?.open} ${row?.keys}`);
    }
    expect((await running).tally).toMatchObject({ changed: "3003", versions: "3003" });
    expect([...counts]).toEqual(["3003 3003"]);
  });
});

describe("what a definition can't mean is refused with its place", () => {
  test.each<[object, RegExp]>([
    [{ since: "nowhere" }, /no column nowhere/],
    [{ since: "port" }, /port is text; a version is valid from a date or a time/],
    [{ from: "port" }, /port is a column already/],
    [{ to: "valid_from" }, /valid_from is a column already/],
    [{ columns: { nothing: "keep" } }, /nothing is not a column of the load/],
    [{ columns: { code: "overwrite" } }, /code is part of the key/],
    [{ columns: { name: { previous: "port" } } }, /port is a column already/],
  ])("%j", async (history, says) => {
    await expect(pair.run(withHistory(history))).rejects.toThrow(says);
  });
});

describe("back to one row a key", () => {
  const upsert: Load = { ...load, into: { table: "fleet.vessel", mode: "upsert", key: ["code"] } };

  test("is refused until it is said that versions go; then the current rows stay, and a history can begin again", async () => {
    await pair.run(load);
    await pair.atSource("UPDATE vessel SET port = 'VES' WHERE code = 'A'");
    await pair.run(load);
    await expect(pair.run(upsert)).rejects.toThrow(/keeps versions, and mode upsert keeps none/);
    expect(await lines("code, port")).toHaveLength(4);
    const dropping: Load = { ...upsert, into: { ...upsert.into, versions: "drop" } };
    const said = await pair.rehearse(dropping);
    expect(said.changes.map((change) => change.message)).toContain("versions that have ended are removed");
    expect(await lines("code, port")).toHaveLength(4);
    const run = await pair.run(dropping);
    expect([run.tally.same, run.proof.verdict]).toEqual(["3", "proved"]);
    expect(await pair.atWarehouse("SELECT * FROM fleet.vessel WHERE code = 'A'")).toEqual([
      { code: "A", name: "Ann", port: "VES", phone: "1", launched: "2000-01-01" },
    ]);
    await pair.run(upsert);
    const again = await pair.run(load);
    expect(again.proof).toMatchObject({ verdict: "proved" });
    expect((await pair.prove(load)).proof).toMatchObject({ verdict: "proved", history: { broken: [], versions: "3" } });
  });
});

test("what was proved once is asked for again as of its moment, and must still be so", async () => {
  await pair.run(load);
  await pair.atSource("UPDATE vessel SET port = 'ZZZ' WHERE code = 'A'; DELETE FROM vessel WHERE code = 'C'");
  await pair.run(load);
  const { proof } = await pair.prove(load);
  expect(proof).toMatchObject({
    verdict: "proved",
    history: {
      earlier: {
        figures: [
          { figure: "rows", was: "3", is: "3" },
          { figure: "max(port)", was: "SKV", is: "SKV" },
        ],
      },
    },
  });
  // Somebody rewrites the past: the current versions still say what the source says.
  await pair.atWarehouse("UPDATE fleet.vessel SET port = 'TTT' WHERE NOT is_current AND code = 'A'");
  const rewritten = (await pair.prove(load)).proof;
  expect(rewritten.verdict).toBe("disagrees");
  expect(rewritten.history?.earlier?.figures).toContainEqual({ figure: "max(port)", was: "SKV", is: "TTT" });
});

describe("facts that look a version up", () => {
  const fact: Load = {
    from: { connection: "source", table: "public.crossing" },
    into: { table: "harbour.crossing", mode: "upsert", key: ["id"] },
    proof: { figures: ["rows"], within: { dimension: "fleet.vessel", key: "vessel", at: "sailed" } },
  };
  beforeEach(async () => {
    await pair.atWarehouse("DROP SCHEMA IF EXISTS harbour CASCADE");
    await pair.atSource(
      "DROP TABLE IF EXISTS crossing; CREATE TABLE crossing (id int PRIMARY KEY, vessel text, sailed date); INSERT INTO crossing VALUES (1, 'A', '2026-11-01'), (2, 'B', '2026-11-02')",
    );
  });
  const dated = withHistory({ first: "2026-01-01" });

  test("each find exactly one; those that find none or several are listed, in the run and in a proof", async () => {
    await pair.run(dated);
    const good = await pair.run(fact);
    expect(good.proof).toMatchObject({ verdict: "proved", within: { rows: "2", astray: "0", of: "all" } });
    await pair.atSource(
      "INSERT INTO crossing VALUES (3, 'Z', '2026-11-01'), (4, 'A', '2025-11-01'), (5, NULL, '2026-11-01'), (6, 'A', NULL)",
    );
    const bad = await pair.run(fact);
    expect(bad.proof).toMatchObject({ verdict: "disagrees", within: { rows: "6", astray: "4", of: "read" } });
    expect(bad.proof.within?.examples).toContainEqual({ key: ["A"], at: "2025-11-01 00:00:00+00", found: "0" });
    await pair.atSource("DELETE FROM crossing WHERE id > 2");
    await pair.atWarehouse("DELETE FROM harbour.crossing WHERE id > 2");
    expect((await pair.prove(fact)).proof).toMatchObject({ verdict: "proved", within: { astray: "0", of: "all" } });
    // Two versions at once: somebody has broken the history.
    await pair.atWarehouse(
      "INSERT INTO fleet.vessel (code, name, port, valid_from, is_current, sk) VALUES ('A', 'Ann', 'XXX', '2026-02-01', true, 99)",
    );
    expect((await pair.prove(fact)).proof).toMatchObject({
      verdict: "disagrees",
      within: { astray: "1", examples: [{ found: "2" }] },
    });
  });

  test("what is looked up must keep versions, by as many columns", async () => {
    await expect(pair.run(fact)).rejects.toThrow(/fleet.vessel keeps no versions to look up/);
    await pair.run(dated);
    const within = (change: object): Load => ({
      ...fact,
      proof: { figures: ["rows"], within: { dimension: "fleet.vessel", key: "vessel", at: "sailed", ...change } },
    });
    await expect(pair.run(within({ key: ["vessel", "id"] }))).rejects.toThrow(/goes by code; name as many/);
    await expect(pair.run(within({ key: "ship" }))).rejects.toThrow(/ship is not a column/);
    await expect(pair.run(within({ at: "vessel" }))).rejects.toThrow(/looked up at a date or a time/);
  });
});

describe("strange tables", () => {
  test("an empty one, one of 300 columns, one whose every name needs quotes", async () => {
    const columns = Array.from({ length: 300 }, (_, n) => `"c ${n} 🐦" text DEFAULT 'v${n}'`).join(", ");
    await pair.atSource(
      `DROP TABLE IF EXISTS wide; CREATE TABLE wide ("id ""x""" int PRIMARY KEY, ${columns}, at timestamptz NOT NULL)`,
    );
    const wide: Load = {
      from: { connection: "source", table: "public.wide" },
      into: {
        table: 'fleet."wide of 300"',
        mode: "history",
        key: ['id "x"'],
        history: { since: "at", surrogate: { column: "no." }, current: { column: "the 'current'", yes: 1, no: 0 } },
      },
    };
    expect((await pair.run(wide)).tally).toMatchObject({ read: "0", versions: "0" });
    await pair.atSource(`INSERT INTO wide ("id ""x""", at) SELECT n, '2026-01-01' FROM generate_series(1, 5) n`);
    expect((await pair.run(wide)).tally).toMatchObject({ new: "5", versions: "5" });
    await pair.atSource(
      `UPDATE wide SET "c 299 🐦" = NULL, at = '2026-02-01' WHERE "id ""x""" = 1; UPDATE wide SET "c 0 🐦" = '', at = '2025-02-01' WHERE "id ""x""" = 2`,
    );
    const run = await pair.run(wide);
    expect(run.tally).toMatchObject({ changed: "2", same: "3" });
    expect(run.findings.opened).toContainEqual({ column: "c 299 🐦", versions: "1" });
    expect((await pair.prove(wide)).proof).toMatchObject({ verdict: "proved", history: { broken: [] } });
  });

  test("a trigger that keeps versions out makes the load fail, and nothing is written", async () => {
    await pair.run(load);
    await pair.atWarehouse(
      "CREATE FUNCTION fleet.no_more() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NULL; END'; CREATE TRIGGER t BEFORE INSERT ON fleet.vessel FOR EACH ROW EXECUTE FUNCTION fleet.no_more()",
    );
    await pair.atSource("UPDATE vessel SET port = 'VES' WHERE code = 'A'");
    const before = await lines("code, port, valid_to");
    await expect(pair.run(load)).rejects.toThrow(/tally does not balance/);
    expect(await lines("code, port, valid_to")).toEqual(before);
  });
});
