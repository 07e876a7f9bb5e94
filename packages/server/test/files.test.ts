import { mkdir, readdir, readFile, rm, symlink, utimes, writeFile } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import type { Schedule } from "@undercoat/core/pipeline/pipeline";
import { allowFolders } from "@undercoat/engine/source/files/folder";
import { RunRow, TimerRow } from "@undercoat/server/store/models";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { startDue } from "../src/jobs/scheduler.ts";
import { environment, makeHouse, projectFile, type TestHouse, trips } from "./house.ts";

/** Files that come: dropped onto a page, and waited for by a schedule. */
let house: TestHouse;
let folder: string;
beforeAll(async () => {
  house = await makeHouse("arrivals");
  const root = join(house.house.settings.data, "files");
  folder = join(root, "fares");
  await mkdir(folder, { recursive: true });
  allowFolders([root]);
  await house.sql(house.names.source, trips);
  await house.ask("POST", "/project", { text: projectFile(house), environment: environment() });
  await house.ask("POST", "/connections", { name: "fares", kind: "files", path: "fares" });
});
afterAll(() => house.close());
beforeEach(async () => {
  for (const name of await readdir(folder)) await rm(join(folder, name), { recursive: true });
});

const bring = (name: string, text: string | Buffer, { as = house.tokens.editor, replace = false } = {}) =>
  house.as(as)(
    "PUT",
    `/connections/fares/files?${new URLSearchParams({ file: name, ...(replace ? { replace: "yes" } : {}) })}`,
    Buffer.from(text as string),
  );

describe("a file that is dropped", () => {
  test("lies in the folder as it came, and is listed", async () => {
    const bytes = Buffer.from("id;navn\n1;Kjær\n", "latin1");
    expect(await bring("2026/fares.csv", bytes)).toMatchObject({ status: 201, body: { bytes: bytes.length } });
    expect(await readFile(join(folder, "2026/fares.csv"))).toEqual(bytes);
    const { body } = await house.ask("GET", "/connections/fares/datasets");
    expect(body).toMatchObject([{ schema: "2026", name: "fares.csv" }]);
  });

  test("is not put over another but where that is asked for", async () => {
    await bring("a.csv", "id\n1\n");
    expect((await bring("a.csv", "id\n2\n")).status).toBe(409);
    expect(await readFile(join(folder, "a.csv"), "utf8")).toBe("id\n1\n");
    expect((await bring("a.csv", "id\n2\n", { replace: true })).status).toBe(201);
    expect(await readFile(join(folder, "a.csv"), "utf8")).toBe("id\n2\n");
  });

  test.each([
    "../out.csv",
    "/etc/out.csv",
    "a/../../out.csv",
    "..",
    "",
    ".hidden.csv",
    "a//b.csv",
    "a\0.csv",
    "a\\b.csv",
    "run.sh",
    "x",
  ])("%j is no name that is taken", async (name) => {
    expect((await bring(name, "id\n1\n")).status).toBe(422);
    expect(await readdir(folder)).toEqual([]);
  });

  test("does not follow a link out of the folder", async () => {
    await symlink(tmpdir(), join(folder, "out"));
    expect((await bring("out/a.csv", "id\n1\n")).status).toBe(422);
  });

  test("larger than what is taken is refused, and nothing of it stays", async () => {
    const large = await bring("large.csv", Buffer.alloc(1024 * 1024 + 1, "x"));
    expect(large).toMatchObject({ status: 413, body: { title: "large.csv is larger than the 1 MB that are taken" } });
    expect(await readdir(folder)).toEqual([]);
  });

  test("is taken from editors alone", async () => {
    expect((await bring("a.csv", "id\n1\n", { as: house.tokens.viewer })).status).toBe(403);
    expect((await bring("a.csv", "id\n1\n", { as: "nobody" })).status).toBe(401);
    await house.ask("POST", "/connections", {
      name: "db",
      kind: "mariadb",
      host: "127.0.0.1",
      port: 1,
      database: "d",
      user: "u",
      password: "p",
    });
    expect((await house.ask("PUT", "/connections/db/files?file=a.csv", Buffer.from("x"))).status).toBe(422);
  });
});

describe("a schedule that waits for files", () => {
  const now = Date.parse("2026-11-27T12:00:30Z");
  const waits: Schedule = { every: "PT1M", when: "arrived" };
  const begin = async () => {
    await TimerRow.update({ nextAt: new Date(now - 1000) }, { where: { pipeline: "sheets" } });
    return startDue(house.house.store, house.house.queue, now, (error) => {
      throw error;
    });
  };
  const runs = () => RunRow.count({ where: { pipeline: "sheets" } });
  const definition = (more: object = {}) => ({
    title: "Sheets",
    warehouse: "store",
    loads: {
      sheet: {
        from: { connection: "fares", files: "*.csv" },
        into: { table: "landing.sheet", mode: "upsert", key: ["id"] },
      },
    },
    ...more,
  });

  test("starts once for what has come and stands still, not for what is still written", async () => {
    await writeFile(join(folder, "a.csv"), "id\n1\n");
    const made = await house.ask("POST", "/pipelines", { name: "sheets", definition: definition({ schedule: waits }) });
    expect([made.status, JSON.stringify(made.body)]).toEqual([201, expect.anything()]);
    // The first look sees it, the second that it stands still.
    expect([await begin(), await begin(), await begin()]).toEqual([[], ["sheets"], []]);
    await RunRow.update({ status: "finished" }, { where: { pipeline: "sheets" } });
    await writeFile(join(folder, "b.csv"), "id\n");
    expect(await begin()).toEqual([]);
    await writeFile(join(folder, "b.csv"), "id\n2\n");
    await utimes(join(folder, "b.csv"), new Date(now), new Date(now));
    expect([await begin(), await begin(), await begin()]).toEqual([[], ["sheets"], []]);
    await RunRow.update({ status: "finished" }, { where: { pipeline: "sheets" } });
    // What goes is no arrival but where others are left.
    for (const name of await readdir(folder)) await rm(join(folder, name));
    expect([await begin(), await begin()]).toEqual([[], []]);
    await rm(folder, { recursive: true });
    expect(await begin()).toEqual([]);
    await mkdir(folder);
    expect(await runs()).toBe(2);
    const { body } = await house.ask("GET", "/pipelines/sheets");
    expect(body.schedules[0].words).toBe("when a file arrives, looked for every minute");
  });

  test("is refused where no load reads files, or with another time", async () => {
    const none = {
      loads: { trip: { from: { connection: "trips", table: "a.b" }, into: { table: "c.d", mode: "replace" } } },
    };
    const refused = await house.ask("POST", "/pipelines", {
      name: "other",
      definition: definition({ ...none, schedule: waits }),
    });
    expect([refused.status, JSON.stringify(refused.body)]).toEqual([
      422,
      expect.stringContaining("no load reads files"),
    ]);
    const cron = await house.ask("PUT", "/pipelines/sheets/schedules", {
      schedules: [{ cron: "0 5 * * *", when: "arrived" }],
    });
    expect(cron.status).toBe(422);
  });
});
