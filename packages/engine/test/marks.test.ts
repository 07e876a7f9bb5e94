import type { Load } from "@undercoat/core/pipeline/pipeline";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import type { CredentialsOf } from "@undercoat/engine/connection/credentials";
import { allowEgress } from "@undercoat/engine/http/egress";
import { executeLoad, type LoadOutcome } from "@undercoat/engine/load/load";
import { sourceFor } from "@undercoat/engine/source/registry";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { makePair, type Pair, quiet } from "./pair.ts";
import { json, makeWeb, type Web } from "./web.ts";

let pair: Pair;
let web: Web;
beforeAll(async () => {
  pair = await makePair("marks");
  web = await makeWeb();
});
afterAll(async () => {
  await Promise.all([pair.close(), web.close()]);
});

/** What is sent to the application, and how it answers. */
let heard: { path: string; body: string; key: string | undefined; held: Promise<string> }[];
let answering: (body: string) => number | "cut";
let records: { id: string; fare: number | string }[];
beforeEach(async () => {
  allowEgress({ allowed: ["*"], own: [] });
  await pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
  heard = [];
  answering = () => 201;
  records = [
    { id: "1", fare: 5 },
    { id: "2", fare: -2 },
    { id: "3", fare: -3 },
    { id: "4", fare: -4 },
  ];
  web.answer((request, response, url) => {
    if (request.method === "GET") return json(response, JSON.stringify(records));
    let body = "";
    request.on("data", (part) => {
      body += part;
    });
    request.on("end", () => {
      const held = pair
        .atWarehouse("SELECT count(*)::text AS rows FROM landing.ticket")
        .then(([row]) => row?.rows ?? "", String);
      const [key] = [request.headers["idempotency-key"]].flat();
      heard.push({ path: url.pathname + url.search, body, key, held });
      const status = answering(body);
      if (status === "cut") return request.socket.destroy();
      response.writeHead(status, { "content-type": "application/json" }).end('{"said":"as it is"}');
    });
  });
});

const app = (): CredentialsOf<"http"> => ({ name: "app", settings: { kind: "http", url: web.url }, password: "" });
const ticket: Load = {
  from: { connection: "app", path: "/tickets", types: { id: "text", fare: "numeric" } },
  rules: { "a fare is paid": "fare > 0" },
  report: { path: "/tickets/{id}/comments", body: { text: "{reason}", of: ["{id}", 7] } },
  into: { table: "landing.ticket", mode: "upsert", key: ["id"] },
};
const run = (load: Load = ticket, told: Parameters<typeof sourceFor>[0] = app()): Promise<LoadOutcome> =>
  executeLoad(
    {
      pipelineName: "test",
      pipeline: { title: "Test", warehouse: "marks_warehouse", loads: { ticket: load } },
      load: "ticket",
      run: { id: 1, uid: crypto.randomUUID() },
      scope: { kind: "due" },
      told: sourceFor(told),
    },
    sourceFor(app()),
    warehouseFor(pair.warehouse),
    quiet,
    new AbortController().signal,
  );
const stored = () => pair.atWarehouse("SELECT state, count(*)::text AS rows FROM undercoat.told GROUP BY 1 ORDER BY 1");

describe("marks sent to an application", () => {
  test("come after the commit, one a row, and say why", async () => {
    const { findings } = await run();
    expect(heard.map(({ path, body }) => [path, JSON.parse(body)])).toEqual(
      ["2", "3", "4"].map((id) => [
        `/tickets/${id}/comments`,
        { text: "breaks the rule “a fare is paid”", of: [id, 7] },
      ]),
    );
    // Another session saw the row that was loaded already when the first mark came.
    expect(await Promise.all(heard.map(({ held }) => held))).toEqual(["1", "1", "1"]);
    expect(findings.told).toEqual({ sent: 3, refused: 0, unsure: 0, lacking: 0, left: 0, why: null });
    expect(new Set(heard.map(({ key }) => key)).size).toBe(3);
  });

  test("come once, however often the same row is rejected again; what changed is told", async () => {
    await run();
    expect((await run()).findings.told).toBeUndefined();
    expect(heard).toHaveLength(3);
    records[1] = { id: "2", fare: -2.5 };
    expect((await run()).findings.told?.sent).toBe(1);
    expect(heard.at(-1)?.path).toBe("/tickets/2/comments");
  });

  test("that are refused are told, fail nothing, and are sent again by later runs, five times at most", async () => {
    answering = (body) => (body.includes('"3"') ? 422 : 201);
    const { findings, proof } = await run();
    expect(proof.verdict).toBe("proved");
    expect(findings.told).toMatchObject({ sent: 2, refused: 1 });
    expect(findings.told?.why).toMatch(/answered 422.*as it is/);
    for (let more = 0; more < 6; more++) await run();
    expect(heard.filter(({ path }) => path.includes("/3/"))).toHaveLength(5);
    expect(heard.filter(({ path }) => path.includes("/2/"))).toHaveLength(1);
    expect(new Set(heard.filter(({ path }) => path.includes("/3/")).map(({ key }) => key)).size).toBe(1);
  });

  test("that may have arrived are never sent again", async () => {
    answering = (body) => (body.includes('"2"') ? "cut" : body.includes('"3"') ? 500 : 201);
    expect((await run()).findings.told).toMatchObject({ sent: 1, unsure: 2, refused: 0 });
    answering = () => 201;
    await run();
    expect(heard).toHaveLength(3);
    expect(await stored()).toEqual([
      { state: "sent", rows: "1" },
      { state: "unsure", rows: "2" },
    ]);
  });

  test("are as many as the load allows; the others wait for the next run", async () => {
    const few: Load = { ...ticket, report: { ...ticket.report, limit: 2 } };
    expect((await run(few)).findings.told).toMatchObject({ sent: 2, left: 1 });
    expect((await run(few)).findings.told).toMatchObject({ sent: 1, left: 0 });
    expect(new Set(heard.map(({ path }) => path)).size).toBe(3);
  });

  test("of a load that fails are none, and none of a rehearsal, which shows them", async () => {
    await expect(run({ ...ticket, rejects: { limit: 1 } })).rejects.toThrow(/3 rows/);
    const rehearsal = await pair.between(app()).rehearse(ticket);
    expect(rehearsal.marks).toEqual({
      words: ["2", "3", "4"].map(
        (id) => `POST /tickets/${id}/comments {"text":"breaks the rule “a fare is paid”","of":["${id}",7]}`,
      ),
      lacking: 0,
    });
    expect(heard).toEqual([]);
  });

  test("hold hostile values as values", async () => {
    records = [{ id: '../../admin?x="},{"', fare: -1 }];
    await run({ ...ticket, report: { path: "/tickets/{id}/comments", body: { text: 'of "{id}"' } } });
    expect(heard.map(({ path }) => path)).toEqual([`/tickets/${encodeURIComponent('../../admin?x="},{"')}/comments`]);
    expect(JSON.parse(heard[0]?.body ?? "")).toEqual({ text: 'of "../../admin?x="},{""' });
  });

  test("where nothing answers are not sent, and come later", async () => {
    const nobody: CredentialsOf<"http"> = { ...app(), settings: { kind: "http", url: "http://127.0.0.1:9" } };
    expect((await run(ticket, nobody)).findings.told).toMatchObject({ sent: 0, refused: 3 });
    allowEgress({ allowed: [new URL(web.url).host], own: [] });
    expect((await run(ticket, nobody)).findings.told?.why).toMatch(/may not|not allowed|no connection/i);
    expect((await run()).findings.told?.sent).toBe(3);
  });

  test("are not sent again by a pipeline of another name, nor once what is old is taken away", async () => {
    await run();
    const warehouse = warehouseFor(pair.warehouse);
    await pair.atWarehouse("UPDATE undercoat.told SET at = now() - interval '1 year'");
    await warehouse.prune("P30D");
    expect(await stored()).toEqual([{ state: "sent", rows: "3" }]);
    await warehouse.readdress({ pipeline: "test", load: null }, { pipeline: "other" });
    expect(await pair.atWarehouse("SELECT DISTINCT pipeline FROM undercoat.told")).toEqual([{ pipeline: "other" }]);
    await warehouse.readdress({ pipeline: "other", load: null }, { pipeline: "test" });
    await run();
    expect(heard).toHaveLength(3);
    records = [{ id: "1", fare: 5 }];
    await run();
    await pair.atWarehouse(
      "UPDATE undercoat.rejected SET left_at = now() - interval '1 year' WHERE left_run IS NOT NULL",
    );
    await warehouse.prune("P30D");
    expect(await stored()).toEqual([]);
  });

  test("of one row are sent by one of two who tell at once", async () => {
    const warehouse = warehouseFor(pair.warehouse);
    const two = await Promise.all(["one", "two"].map((name) => warehouse.session(name)));
    const plan = {
      pipeline: "test",
      load: "ticket",
      write: { target: { schema: "landing", table: "ticket" }, part: null },
    } as unknown as LoadPlan;
    const row = { content: "7", reason: "r", message: "m", original: null };
    const claim = () => Promise.all(two.map(({ list }) => list.claim(plan, crypto.randomUUID(), row)));
    expect((await claim()).filter(Boolean)).toHaveLength(1);
    await two[0]?.list.keepTold(plan, row, "unsure", null);
    expect(await claim()).toEqual([false, false]);
    await two[0]?.list.keepTold(plan, row, "refused", "no");
    expect((await claim()).filter(Boolean)).toHaveLength(1);
    await Promise.all(two.map((session) => session.close()));
  });

  test("of what is no row lack what they need", async () => {
    web.answer((request, response) => {
      if (request.method === "GET") return json(response, '[{"id":"1","fare":5},7]');
      heard.push({ path: request.url ?? "", body: "", key: undefined, held: Promise.resolve("") });
      response.writeHead(201).end();
    });
    expect((await run()).findings.told).toMatchObject({ sent: 0, lacking: 1 });
    expect(heard).toEqual([]);
  });

  test("name columns that are read", async () => {
    const naming = (path: string): Load => ({ ...ticket, report: { path } });
    await expect(run(naming("/{nothing}"))).rejects.toThrow(/no column nothing to be told of/);
    await expect(run({ ...naming("/{fare}"), columns: { id: "id" }, rules: {} })).rejects.toThrow(
      /fare is told to the source, but the load does not read it/,
    );
  });
});

describe("marks written by SQL", () => {
  const desk = () => ({ ...pair.source, settings: { ...pair.source.settings, marks: true as const } });
  const written = (sql: string): Load => ({ ...ticket, report: { connection: "desk", sql } });
  beforeEach(() =>
    pair.atSource(
      "DROP TABLE IF EXISTS note; CREATE TABLE note (ticket text PRIMARY KEY, why text); INSERT INTO note VALUES ('2'), ('4')",
    ),
  );

  test("are bound, each once, and one that finds no row is refused", async () => {
    const load = written("UPDATE note SET why = :message WHERE ticket = :id AND ':id' <> ''");
    const { findings } = await run(load, desk());
    expect(findings.told).toMatchObject({ sent: 2, refused: 1 });
    expect(findings.told?.why).toMatch(/has no row that the statement is about/);
    expect(await pair.atSource("SELECT ticket, why FROM note ORDER BY 1")).toEqual([
      { ticket: "2", why: expect.stringContaining("a fare is paid") },
      { ticket: "4", why: expect.stringContaining("a fare is paid") },
    ]);
  });

  test("hold hostile values as values, and a statement that is none is refused in the server's words", async () => {
    records = [{ id: "x'); DROP TABLE note; --", fare: -1 }];
    expect((await run(written("INSERT INTO note VALUES (:id, :reason)"), desk())).findings.told?.sent).toBe(1);
    expect(await pair.atSource("SELECT count(*)::text AS rows FROM note")).toEqual([{ rows: "3" }]);
    records = [{ id: "9", fare: -9 }];
    const { findings } = await run(written("INSERT INTO nowhere VALUES (:id); DELETE FROM note"), desk());
    expect(findings.told).toMatchObject({ sent: 0, refused: 1 });
    expect(await pair.atSource("SELECT count(*)::text AS rows FROM note")).toEqual([{ rows: "3" }]);
  });

  test("are written only where an administrator lets a connection be written to", async () => {
    const { findings } = await run(written("UPDATE note SET why = 'x'"), pair.source);
    expect(findings.told).toMatchObject({ sent: 0, left: 3, why: expect.stringContaining("may not write marks") });
    expect(await pair.atSource("SELECT count(why)::text AS rows FROM note")).toEqual([{ rows: "0" }]);
  });
});
