import { mkdtempSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { prune } from "@undercoat/server/jobs/prune";
import { readSettings, SettingError } from "@undercoat/server/settings";
import { ProofRow, RunLineRow, RunRow, SliceRow, StandingRow } from "@undercoat/server/store/models";
import { afterAll, beforeAll, describe, expect, test } from "vitest";
import { environment, makeHouse, projectFile, type TestHouse, trips } from "./house.ts";

let house: TestHouse;
beforeAll(async () => {
  house = await makeHouse("growth");
  await house.sql(house.names.source, trips);
  await house.ask("POST", "/project", { text: projectFile(house), environment: environment() });
});
afterAll(() => house.close());

async function run(body: object = {}): Promise<number> {
  const { id } = (await house.ask("POST", "/pipelines/trips/run", body)).body;
  await house.execute(id);
  return id;
}
const keeping = { runs: "P180D", lines: "P30D" };
const age = (id: number, days: number) =>
  house.sql("growth_own", `UPDATE runs SET finished_at = now() - interval '${days} days' WHERE id = ${id}`);

describe("what has been kept long enough", () => {
  test("goes: lines first, then runs with their proofs; the ledger's marks and the latest of each load stay", async () => {
    const [oldest, old, latest] = [await run({ scope: { kind: "whole" } }), await run(), await run()];
    await age(oldest, 400);
    await age(old, 40);
    const marks = await SliceRow.count();
    expect(marks).toBeGreaterThan(0);
    await house.sql(
      house.names.warehouse,
      `UPDATE undercoat.tally SET at = now() - interval '400 days' WHERE run = (SELECT run FROM undercoat.tally ORDER BY at LIMIT 1)`,
    );
    const before = Number(
      (await house.sql(house.names.warehouse, "SELECT count(*) FROM undercoat.tally")).rows[0].count,
    );
    const gone = await prune(house.house.store, keeping);
    expect(gone).toMatchObject({ passes: 0, "rows in warehouses": 1 });
    expect(gone?.lines).toBeGreaterThan(0);
    expect(gone?.runs).toBe(1);
    expect((await RunRow.findAll({ order: ["id"] })).map((row) => row.id)).toEqual([old, latest]);
    expect(await RunLineRow.count({ where: { runId: old } })).toBe(0);
    expect(await RunLineRow.count({ where: { runId: latest } })).toBeGreaterThan(0);
    expect(Number((await house.sql(house.names.warehouse, "SELECT count(*) FROM undercoat.tally")).rows[0].count)).toBe(
      before - 1,
    );
    // The ledger stands on the latest, however old it is.
    for (const id of [old, latest]) await age(id, 400);
    expect((await prune(house.house.store, keeping))?.runs).toBe(1);
    expect((await RunRow.findAll({ order: ["id"] })).map((row) => row.id)).toEqual([latest]);
    expect(await ProofRow.count({ where: { runId: oldest } })).toBe(0);
    expect(await SliceRow.count()).toBe(marks);
    expect((await house.ask("GET", "/standing/ledger?zone=UTC")).body.groups[0].tables[0]).toMatchObject({
      rows: "100",
      verdict: "proved",
      failed: null,
    });
  });

  test("stays while it is open, whatever its age, and while another process is at it", async () => {
    const { id } = (await house.ask("POST", "/pipelines/trips/run", {})).body;
    await house.sql("growth_own", `UPDATE runs SET created_at = now() - interval '2 years' WHERE id = ${id}`);
    const held = house.house.store.alone("prune", () => prune(house.house.store, keeping));
    expect(await held).toBeNull();
    expect((await prune(house.house.store, keeping))?.runs).toBe(0);
    expect(await RunRow.findByPk(id)).not.toBeNull();
    await house.execute(id);
  });

  test("rejected rows go when they have left the list for so long, and not before", async () => {
    const rejected = async () =>
      (await house.sql(house.names.warehouse, "SELECT code FROM undercoat.rejected ORDER BY id")).rows.map(
        (row) => row.code,
      );
    const add = (code: string, left: string) =>
      `INSERT INTO undercoat.rejected (run, number, pipeline, load, target, code, reason, message, identity, left_run, left_at) VALUES (gen_random_uuid(), 1, 'trips', 'trip', 'landing.trip', '${code}', '', '', 1, ${left})`;
    await house.sql(
      house.names.warehouse,
      [
        add("open", "NULL, NULL"),
        add("left", "gen_random_uuid(), now() - interval '1 day'"),
        add("gone", "gen_random_uuid(), now() - interval '1 year'"),
      ].join("; "),
    );
    const choices = (await house.ask("GET", "/rejected/choices?pipeline=trips&load=trip&all=true")).body;
    expect(choices).toEqual([{ pipeline: "trips", loads: ["trip"], ids: [expect.any(String)], given: {} }]);
    expect((await house.ask("GET", "/rejected/choices?pipeline=trips&load=trip&text=nothing")).body).toEqual([]);
    expect((await house.ask("GET", "/rejected/choices?pipeline=nothing")).status).toBe(404);
    await prune(house.house.store, keeping);
    expect(await rejected()).toEqual(["open", "left"]);
    await house.sql(house.names.warehouse, "DELETE FROM undercoat.rejected");
  });

  test("a warehouse that is away is told of, and does not keep the rest from going", async () => {
    await house.sql(
      "growth_own",
      "UPDATE connections SET settings = jsonb_set(settings::jsonb, '{port}', '1') WHERE name = 'store'",
    );
    const errors: unknown[] = [];
    expect(await prune(house.house.store, keeping, (error) => errors.push(error))).not.toBeNull();
    expect(errors).toHaveLength(1);
    const { status, body } = await house.ask("GET", "/warehouse");
    expect([status, body.tables, body.unreachable[0].connection]).toEqual([200, [], "store"]);
    await house.ask("POST", "/project", { text: projectFile(house), environment: environment() });
  });

  test.each(["soon", "PT1H", "-P1D", "P0D"])("a duration of %s is refused in a sentence", (text) => {
    const data = mkdtempSync(join(tmpdir(), "undercoat-settings-"));
    expect(() => readSettings({ UNDERCOAT_DATA: data, UNDERCOAT_KEEP: text })).toThrow(SettingError);
    expect(() => readSettings({ UNDERCOAT_DATA: data, UNDERCOAT_KEEP: text })).toThrow(/^UNDERCOAT_KEEP is .*P180D\.$/);
  });
});

test("how a load stands is its newest outcome: a failure until a run succeeds, a proof until the next", async () => {
  const stands = async () => (await StandingRow.findAll({ where: { pipeline: "trips" } })).map((row) => row.status);
  const pipeline = async () => (await house.ask("GET", "/pipelines")).body[0].standing;
  await house.sql(house.names.source, "ALTER TABLE trip RENAME TO away");
  const failed = await run();
  expect(await stands()).toEqual(["failed"]);
  expect((await house.ask("GET", "/standing/ledger?zone=UTC")).body.groups[0].tables[0].failed).toMatchObject({
    run: failed,
  });
  expect(await pipeline()).toEqual({ disagrees: 0, failed: 1, rejecting: 0, proved: 0 });
  await house.sql(house.names.source, "ALTER TABLE away RENAME TO trip");
  await run();
  expect(await pipeline()).toEqual({ disagrees: 0, failed: 0, rejecting: 0, proved: 1 });
  // A proof that could not be made proves nothing.
  await house.sql("growth_own", "UPDATE proofs SET verdict = 'unproved' WHERE id = (SELECT max(id) FROM proofs)");
  expect(await pipeline()).toEqual({ disagrees: 0, failed: 0, rejecting: 0, proved: 0 });
  await house.sql(house.names.warehouse, "UPDATE landing.trip SET fare = 0 WHERE id = 3");
  await run({ kind: "prove" });
  expect(await pipeline()).toMatchObject({ disagrees: 1 });
  await run({ kind: "load", scope: { kind: "whole" } });
  expect(await pipeline()).toEqual({ disagrees: 0, failed: 0, rejecting: 0, proved: 1 });
});

test.each(["hour", "day", "week", "month", "year"])("slices by the %s have marks on the days shown", async (unit) => {
  await house.sql(
    house.names.source,
    "DROP TABLE IF EXISTS hourly; CREATE TABLE hourly (id int PRIMARY KEY, at timestamptz NOT NULL); INSERT INTO hourly SELECT n, now() - n * interval '1 hour' FROM generate_series(1, 200) n",
  );
  const definition = {
    title: "Hourly",
    warehouse: "store",
    loads: {
      hourly: {
        from: { connection: "trips", table: "public.hourly" },
        into: { table: "landing.hourly", mode: "upsert", key: ["id"] },
        proof: { by: { column: "at", slice: unit }, figures: ["rows"] },
      },
    },
  };
  await house.sql(house.names.warehouse, "DROP TABLE IF EXISTS landing.hourly");
  await house.ask("DELETE", "/pipelines/hourly");
  expect(await StandingRow.count({ where: { pipeline: "hourly" } })).toBe(0);
  expect((await house.ask("POST", "/pipelines", { name: "hourly", definition })).status).toBe(201);
  const execute = async (body: object) => {
    const { id } = (await house.ask("POST", "/pipelines/hourly/run", body)).body;
    await house.execute(id);
  };
  const states = async () => {
    const { groups } = (await house.ask("GET", "/standing/ledger?zone=UTC")).body;
    const [table] = groups.find((group: { pipeline: string }) => group.pipeline === "hourly").tables;
    return table.days.map((slice: { state: string } | null) => slice?.state ?? null);
  };
  await execute({});
  // The rows reach back eight days and some hours; days before them are proved as empty where slices are fine.
  expect((await states()).slice(-8)).toEqual(Array(8).fill("proved"));
  await house.sql(house.names.warehouse, "DELETE FROM landing.hourly WHERE id = 30");
  await execute({ kind: "prove" });
  // An hour that has lost its only row is one that is not loaded.
  expect(await states()).toContain(unit === "hour" ? "empty" : "disagrees");
});

test("a table that no pipeline loads any more is told with the one that did, one that none ever did as such", async () => {
  await house.sql(house.names.warehouse, "CREATE TABLE landing.by_hand (id int)");
  const table = async (name: string) =>
    (await house.ask("GET", "/warehouse")).body.tables.find((row: { name: string }) => row.name === name);
  expect(await table("hourly")).toMatchObject({ pipeline: "hourly", once: null });
  await house.ask("DELETE", "/pipelines/hourly");
  expect(await table("hourly")).toMatchObject({ pipeline: null, once: "Hourly", loadedAt: expect.any(String) });
  expect(await table("by_hand")).toMatchObject({ pipeline: null, once: null, loadedAt: null });
  // Nor does a warehouse go out of sight with the last pipeline that used it.
  for (const { name } of (await house.ask("GET", "/pipelines")).body) await house.ask("DELETE", `/pipelines/${name}`);
  expect(await table("hourly")).toMatchObject({ pipeline: null, once: "Hourly" });
});
