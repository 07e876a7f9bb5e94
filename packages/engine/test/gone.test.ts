import type { From, Load } from "@undercoat/core/pipeline/pipeline";
import type { CredentialsOf } from "@undercoat/engine/connection/credentials";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { makePair, type Pair } from "./pair.ts";
import { json, makeWeb, type Web } from "./web.ts";

let pair: Pair;
let web: Web;
beforeAll(async () => {
  pair = await makePair("gone");
  web = await makeWeb();
});
afterAll(async () => {
  await Promise.all([pair.close(), web.close()]);
});

/** The application's records and what it has struck out, each with the second of its time. */
let records: Map<number, number>;
let deleted: [number, number][];
const at = (second: number) => new Date(Date.UTC(2026, 2, 1) + second * 1000).toISOString();
/** What it says there are, where that is not what it has. */
let lies: (page: number) => number;

beforeEach(async () => {
  await pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
  records = new Map(Array.from({ length: 30 }, (_, id) => [id + 1, id]));
  deleted = [];
  lies = () => 0;
  web.answer((_, response, url) => {
    const since = Date.parse(url.searchParams.get("since") ?? "") || 0;
    if (url.pathname === "/gone")
      return json(
        response,
        JSON.stringify(
          deleted
            .filter(([, second]) => Date.parse(at(second)) >= since)
            .map(([no, second]) => ({ no, at: at(second) })),
        ),
      );
    const page = Number(url.searchParams.get("page") ?? 1);
    const found = [...records].filter(([, second]) => Date.parse(at(second)) >= since);
    const told = found.slice((page - 1) * 10, page * 10).map(([id, second]) => ({ id, updated_at: at(second) }));
    return json(response, JSON.stringify({ total: found.length + lies(page), data: told }));
  });
});

const app = (): CredentialsOf<"http"> => ({ name: "app", settings: { kind: "http", url: web.url }, password: "" });
const load = (from: Partial<From> = {}, into: Partial<Load["into"]> = {}): Load => ({
  from: {
    connection: "app",
    path: "/records",
    records: "data",
    page: { number: "page", size: 10 },
    since: { parameter: "since" },
    gone: { path: "/gone", since: { parameter: "since" }, key: ["no"] },
    ...from,
  },
  watermark: { column: "updated_at" },
  into: { table: "landing.record", mode: "upsert", key: ["id"], deleted: "remove", ...into },
});
const run = (given = load()) => pair.between(app()).run(given);
const ids = async () =>
  (await pair.atWarehouse("SELECT id::text FROM landing.record ORDER BY id")).map(({ id }) => Number(id));

describe("an application's own list of the deleted", () => {
  test("takes rows away though only what changed is read, and the proof of all of it holds", async () => {
    await run();
    web.take();
    records.delete(3);
    records.delete(4);
    deleted.push([3, 40], [4, 41], [999, 41]);
    records.set(31, 42);
    const { tally, proof } = await run();
    expect(tally).toMatchObject({ read: "2", new: "1", same: "1", deleted: "2" });
    expect(proof.verdict).toBe("proved");
    expect(web.take().filter((asked) => asked.startsWith("/gone"))).toEqual(["/gone?since=2026-03-01T00%3A00%3A29Z"]);
    expect((await pair.between(app()).prove(load())).proof).toMatchObject({ verdict: "proved", how: "read again" });
    expect((await run()).tally.deleted).toBe("0");
  });

  test("leaves a record that has come again, and takes one that it lists though it still came", async () => {
    await run();
    deleted.push([5, 40]);
    records.set(5, 45);
    await run();
    expect(await ids()).toContain(5);
    // It was struck out between the pages and the list: the next run hears of it again.
    deleted.push([6, 46]);
    records.set(6, 46);
    await run();
    records.delete(6);
    await run();
    expect(await ids()).not.toContain(6);
    expect((await pair.between(app()).prove(load())).proof.verdict).toBe("proved");
  });

  test("a row that is not on it is found by a proof, and taken when keys are compared", async () => {
    await run();
    records.delete(7);
    await run();
    const { proof, rows } = await pair.between(app()).prove(load());
    expect([proof.verdict, rows?.extra]).toEqual(["disagrees", 1]);
    const { tally } = await pair.between(app()).run(load(), { scope: { kind: "gone" } });
    expect([tally.deleted, (await ids()).includes(7)]).toEqual(["1", false]);
  });

  test("marks, where that is the policy, and a rehearsal counts", async () => {
    const marking = load({}, { deleted: "mark" });
    await run(marking);
    records.delete(8);
    deleted.push([8, 40]);
    expect((await pair.between(app()).rehearse(marking)).tally.deleted).toBe("1");
    expect((await run(marking)).tally.deleted).toBe("1");
    expect(await pair.atWarehouse("SELECT id::text FROM landing.record WHERE deleted_at IS NOT NULL")).toEqual([
      { id: "8" },
    ]);
  });

  test("that is too long, or names no key, ends the load with the fact, and nothing is written", async () => {
    await run();
    for (let id = 1; id <= 30; id++) deleted.push([id, 40]);
    await expect(run()).rejects.toThrow(/lists more than 50 % of the 30 rows/);
    deleted = [[9, 40]];
    const other = load({ gone: { path: "/gone", key: ["number"] } });
    await run(other);
    await expect(run(other)).rejects.toThrow(/has an entry without number/);
    expect(await ids()).toHaveLength(30);
  });
});

describe("what an application counts", () => {
  const counting = load({ count: "total" });

  test("is what came, of all and of what changed", async () => {
    expect((await run(counting)).findings.asked?.counts).toEqual({ least: "30", most: "30", read: "30" });
    records.set(31, 50);
    expect((await run(counting)).findings.asked?.counts).toEqual({ least: "2", most: "2", read: "2" });
  });

  test("ends the load where pages were lost, and nothing is written", async () => {
    lies = () => 1;
    await expect(run(counting)).rejects.toThrow("app says that there are 31 records, and 30 came");
    expect(await pair.atWarehouse("SELECT to_regclass('landing.record') AS is")).toEqual([{ is: null }]);
  });

  test("may change while it is read", async () => {
    lies = (page) => (page === 1 ? -2 : 0);
    expect((await run(counting)).findings.asked?.counts).toEqual({ least: "28", most: "30", read: "30" });
  });
});
