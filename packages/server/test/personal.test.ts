import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { hiddenValue } from "@undercoat/core/run/rejected";
import { allowFolders } from "@undercoat/engine/source/files/folder";
import { afterAll, beforeAll, expect, test } from "vitest";
import { environment, makeHouse, projectFile, type TestHouse } from "./house.ts";

/** Two loads with rejected rows; the first lets a guest's mail through as a digest only. */
const loads = `      guest:
        from: { connection: trips, table: public.guest }
        columns:
          id: id
          who: { as: "encode(sha256(convert_to('salt' || mail, 'UTF8')), 'hex')" }
          born: { as: born, type: date }
        into: { table: landing.guest, mode: upsert, key: [id] }
      berth:
        from: { connection: trips, table: public.berth }
        columns: { id: id, length: { as: length, type: integer } }
        into: { table: landing.berth, mode: upsert, key: [id] }
`;
const mail = "bo@fjord.example";

let house: TestHouse;
let viewer: TestHouse["ask"];
let rehearsed = 0;
beforeAll(async () => {
  house = await makeHouse("personal");
  viewer = house.as(house.tokens.viewer);
  await house.sql(
    house.names.source,
    `CREATE TABLE guest (id int PRIMARY KEY, mail text, born text);
     INSERT INTO guest VALUES (1, 'ann@fjord.example', '1990-01-01'), (2, '${mail}', 'unknown');
     CREATE TABLE berth (id int PRIMARY KEY, length text);
     INSERT INTO berth VALUES (1, '12'), (2, 'long'), (3, 'longer')`,
  );
  const text = projectFile(house, (file) => `${file.slice(0, file.indexOf("      trip:\n"))}${loads}`);
  expect((await house.ask("POST", "/project", { text, environment: environment() })).status).toBe(200);
  rehearsed = (await house.ask("POST", "/pipelines/trips/run", { kind: "rehearse" })).body.id;
  await house.execute(rehearsed);
  await house.execute((await house.ask("POST", "/pipelines/trips/run", {})).body.id);
});
afterAll(() => house.close());

test("a value that a load hashes is in no answer that a viewer gets, and can't be found by searching", async () => {
  for (const path of [
    "/rejected",
    "/rejected?pipeline=trips&load=guest",
    "/rejected/csv?pipeline=trips",
    "/connections/trips/rows?schema=public&table=guest",
    `/runs/${rehearsed}`,
  ]) {
    const [seen, full] = [await viewer("GET", path), await house.ask("GET", path)];
    expect([path, seen.status]).toEqual([path, 200]);
    expect(JSON.stringify(full.body)).toContain(mail);
    expect(JSON.stringify(seen.body)).not.toContain(mail);
    expect(JSON.stringify(seen.body)).toContain(hiddenValue);
  }
  const search = async (ask: TestHouse["ask"], text: string) =>
    (await ask("GET", `/rejected?text=${encodeURIComponent(text)}`)).body.rows.length;
  expect([await search(house.ask, "bo@fj"), await search(viewer, "bo@fj")]).toEqual([1, 0]);
  // What is not hashed is seen and searched as before.
  expect([await search(house.ask, "longer"), await search(viewer, "longer")]).toEqual([1, 1]);
  expect((await viewer("GET", "/rejected?load=guest")).body.rows[0]).toMatchObject({
    message: "born is not a date",
    original: { id: "2", mail: hiddenValue, born: "unknown" },
  });
});

test("rejected rows of several loads are exported together, each column once", async () => {
  const csv = (await house.ask("GET", "/rejected/csv?pipeline=trips")).body as string;
  const [head, ...rows] = csv.trimEnd().split("\n");
  expect(head?.split(",").slice(5)).toEqual(["undercoat message", "id", "length", "mail", "born"]);
  expect(rows.map((row) => row.split(",").slice(1, 3).join("/")).sort()).toEqual([
    "trips/berth",
    "trips/berth",
    "trips/guest",
  ]);
});

test("chosen rows of several loads are loaded again in one run, and no others", async () => {
  const { body: rows } = await house.ask("GET", "/rejected");
  const ids = rows.rows
    .filter((row: { original: { id: string } }) => row.original.id === "2")
    .map((row: { id: string }) => row.id);
  expect(ids).toHaveLength(2);
  const all = (await house.ask("GET", "/rejected/choices")).body;
  expect(all).toEqual([
    { pipeline: "trips", loads: expect.arrayContaining(["berth", "guest"]), ids: expect.any(Array), given: {} },
  ]);
  expect(all[0].ids).toHaveLength(3);
  await house.sql(
    house.names.source,
    "UPDATE guest SET born = '2001-02-03' WHERE id = 2; UPDATE berth SET length = id::text",
  );
  const asked = { kind: "repair", loads: all[0].loads, scope: { kind: "rejected", ids } };
  const { id } = (await house.ask("POST", "/pipelines/trips/run", asked)).body;
  await house.execute(id);
  expect((await house.ask("GET", `/runs/${id}`)).body.tally).toMatchObject({ read: "2", new: "2", rejected: "0" });
  expect((await house.ask("GET", "/rejected")).body.rows.map((row: { original: object }) => row.original)).toEqual([
    { id: "3", length: "longer" },
  ]);
});

test("a broken line of a file is not shown to a viewer where one of its columns is hashed", async () => {
  const folder = mkdtempSync(join(tmpdir(), "undercoat-files-"));
  allowFolders([folder]);
  mkdirSync(join(folder, "guests"));
  writeFileSync(join(folder, "guests", "a.csv"), `id,mail\n1,ann@fjord.example\n2,${mail},too many\n`);
  const text = `undercoat: 1
connections: { guests: { kind: files, path: guests } }
pipelines:
  guests:
    title: Guests
    warehouse: store
    loads:
      guest:
        from: { connection: guests, files: "*.csv" }
        columns: { id: id, who: { as: "encode(sha256(convert_to('salt' || mail, 'UTF8')), 'hex')" } }
        into: { table: landing.guest_of_file, mode: upsert, key: [id] }
`;
  expect((await house.ask("POST", "/project", { text })).status).toBe(200);
  const { id } = (await house.ask("POST", "/pipelines/guests/run", {})).body;
  await house.execute(id);
  expect((await house.ask("GET", `/runs/${id}`)).body.tally).toMatchObject({ read: "2", new: "1", rejected: "1" });
  for (const path of [
    "/rejected?pipeline=guests",
    "/rejected/csv?pipeline=guests",
    "/connections/guests/rows?schema=.&table=a.csv",
  ]) {
    const [seen, full] = [await viewer("GET", path), await house.ask("GET", path)];
    expect([path, seen.status]).toEqual([path, 200]);
    expect(JSON.stringify(full.body)).toContain("@fjord.example");
    expect(JSON.stringify(seen.body)).not.toContain("@fjord.example");
  }
  rmSync(folder, { recursive: true });
});
