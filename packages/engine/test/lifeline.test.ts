import type { Load } from "@undercoat/core/pipeline/pipeline";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";
import { afterAll, beforeAll, beforeEach, expect, test } from "vitest";
import { makePair, type Pair } from "./pair.ts";

let pair: Pair;
beforeAll(async () => {
  pair = await makePair("lifeline");
});
afterAll(() => pair.close());

/** Each key's row as it is now, or a log of all that was said of it. */
const load = (table: "vessel" | "word", history: object = {}): Load => ({
  from: { connection: "source", table: `public.${table}` },
  into: {
    table: "fleet.vessel",
    mode: "history",
    key: ["code"],
    history: { since: "at", columns: { phone: "overwrite" }, ...history },
    deleted: "close",
  },
});

beforeEach(async () => {
  await pair.atWarehouse("DROP SCHEMA IF EXISTS fleet CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
  const columns = "port text, phone text, at timestamptz NOT NULL";
  await pair.atSource(
    `DROP TABLE IF EXISTS vessel, word; CREATE TABLE vessel (code text PRIMARY KEY, ${columns}); CREATE TABLE word (code text, ${columns}); INSERT INTO vessel VALUES ('A', 'KIL', '1', '2026-01-01 00:00+00'), ('B', 'KIL', '1', '2026-01-01 00:00+00')`,
  );
});

/** The runs that made each edge of a key, and those that corrected it, by their order. */
async function madeOf(key: string) {
  const runs = (await pair.atWarehouse("SELECT run FROM undercoat.tally WHERE moment IS NOT NULL ORDER BY moment")).map(
    ({ run }) => run,
  );
  const line = await (await warehouseFor(pair.warehouse).lookBack("fleet.vessel"))?.lifeline([key]);
  const order = (run: string | null | undefined) => (run == null ? null : runs.indexOf(run));
  return {
    edges: line?.versions.map(({ valid_from, port }) => [port, order(line.runs[valid_from ?? ""])]),
    ended: line?.versions.map(({ valid_to }) => valid_to && order(line.runs[valid_to])),
    corrections: line?.corrections.map(({ at, run }) => [at, order(run)]),
  };
}

test("the run that made each version is known though the source dates it, and the one that ended the last", async () => {
  const vessels = load("vessel");
  await pair.run(vessels);
  await pair.atSource("UPDATE vessel SET port = 'SKV', at = '2026-02-01 00:00+00' WHERE code = 'A'");
  await pair.run(vessels);
  await pair.atSource("UPDATE vessel SET phone = '2', at = '2026-03-01 00:00+00' WHERE code = 'A'");
  await pair.run(vessels);
  await pair.atSource(
    "DELETE FROM vessel WHERE code = 'A'; INSERT INTO vessel VALUES ('C', 'NOR', '1', '2025-06-01 00:00+00')",
  );
  await pair.run(vessels, { scope: { kind: "whole" } });
  await pair.run(vessels, { scope: { kind: "gone" } });
  const { edges, ended, corrections } = await madeOf("A");
  expect(edges).toEqual([
    ["KIL", 0],
    ["SKV", 1],
  ]);
  expect(ended?.[0]).toBe(1);
  expect(ended?.[1]).toBeGreaterThanOrEqual(3);
  expect(corrections).toEqual([]);
  expect((await madeOf("B")).edges).toEqual([["KIL", 0]]);
  expect((await madeOf("C")).edges).toEqual([["NOR", 3]]);
});

test("what is said again of the same time, or of an earlier one, is told as a correction of its run", async () => {
  const vessels = load("vessel");
  await pair.run(vessels);
  await pair.atSource("UPDATE vessel SET port = 'SKV', at = '2026-02-01 00:00+00' WHERE code = 'A'");
  await pair.run(vessels);
  await pair.atSource("UPDATE vessel SET port = 'NOR' WHERE code = 'A'");
  await pair.run(vessels);
  expect(await madeOf("A")).toMatchObject({
    edges: [
      ["KIL", 0],
      ["NOR", 1],
    ],
    corrections: [["2026-02-01 00:00:00+00", 2]],
  });
});

test("versions of a log that come late are the later run's own", async () => {
  const words = load("word");
  await pair.atSource(
    "INSERT INTO word VALUES ('A', 'KIL', '1', '2026-01-01 00:00+00'), ('A', 'SKV', '1', '2026-03-01 00:00+00')",
  );
  await pair.run(words);
  await pair.atSource("INSERT INTO word VALUES ('A', 'NOR', '1', '2026-02-01 00:00+00')");
  await pair.run(words);
  expect((await madeOf("A")).edges).toEqual([
    ["KIL", 0],
    ["NOR", 1],
    ["SKV", 0],
  ]);
});

test.each(["-infinity", "2020-01-01T00:00Z"])(
  "a first version dated back to %s is its run's all the same",
  async (first) => {
    const vessels = load("vessel", { first });
    await pair.run(vessels);
    await pair.atSource("INSERT INTO vessel VALUES ('C', 'NOR', '1', '2026-06-01 00:00+00')");
    await pair.run(vessels);
    expect((await madeOf("A")).edges).toEqual([["KIL", 0]]);
    expect((await madeOf("C")).edges).toEqual([["NOR", 1]]);
  },
);

test("of a table that was taken over, or whose runs are kept no longer, no run is claimed", async () => {
  await pair.run({ ...load("vessel"), into: { table: "fleet.vessel", mode: "upsert", key: ["code"] } });
  const vessels = load("vessel");
  await pair.run(vessels);
  expect((await madeOf("A")).edges).toEqual([["KIL", null]]);
  await pair.atSource("UPDATE vessel SET port = 'SKV', at = '2026-02-01 00:00+00' WHERE code = 'A'");
  await pair.run(vessels);
  expect((await madeOf("A")).edges).toEqual([
    ["KIL", null],
    ["SKV", 1],
  ]);
  await warehouseFor(pair.warehouse).prune("PT0S");
  await pair.atSource("UPDATE vessel SET port = 'NOR', at = '2026-03-01 00:00+00' WHERE code = 'A'");
  await pair.run(vessels);
  const { edges } = await madeOf("A");
  expect(edges?.map(([, run]) => run === null)).toEqual([true, true, false]);
});

test("a history from before runs were kept by its source's times is looked at without them", async () => {
  await pair.run(load("vessel"));
  await pair.atWarehouse(
    "DO $$ DECLARE t text; BEGIN FOR t IN SELECT relname FROM pg_class WHERE relname ~ '^deeds_[0-9a-f]{16}$' LOOP EXECUTE format('DROP TABLE undercoat.%I', t); END LOOP; END $$",
  );
  expect((await madeOf("A")).edges).toEqual([["KIL", null]]);
  await pair.atSource("UPDATE vessel SET port = 'SKV', at = '2026-02-01 00:00+00' WHERE code = 'A'");
  await pair.run(load("vessel"));
  expect((await madeOf("A")).edges).toEqual([
    ["KIL", null],
    ["SKV", 1],
  ]);
});
