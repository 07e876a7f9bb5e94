import { mkdtemp, readdir, rm } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import type { From, Load } from "@undercoat/core/pipeline/pipeline";
import type { CredentialsOf } from "@undercoat/engine/connection/credentials";
import { Cancelled } from "@undercoat/engine/failure";
import { allowEgress } from "@undercoat/engine/http/egress";
import { spoolInto } from "@undercoat/engine/source/http/spool";
import { sourceFor } from "@undercoat/engine/source/registry";
import { type Gate, openGate } from "@undercoat/standins/gate";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { sourceContract } from "./contract.ts";
import { makePair, type Pair, quiet } from "./pair.ts";
import { json, makeWeb, type Web } from "./web.ts";

let pair: Pair;
let web: Web;
let gate: Gate;
let folder: string;
const scans = 3000;
beforeAll(async () => {
  pair = await makePair("http");
  web = await makeWeb();
  gate = await openGate({ scans });
  folder = await mkdtemp(join(tmpdir(), "undercoat-spool-"));
  spoolInto(folder);
});
afterAll(async () => {
  await Promise.all([pair.close(), web.close(), gate.close()]);
  await rm(folder, { recursive: true });
});
beforeEach(async () => {
  allowEgress({ allowed: ["*"], own: [] });
  gate.trouble({});
  await pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
  await rm(folder, { recursive: true, force: true });
});

const plain = (settings: Partial<CredentialsOf<"http">["settings"]> = {}, password = ""): CredentialsOf<"http"> => ({
  name: "app",
  settings: { kind: "http", url: web.url, ...settings },
  password,
});
const gateService = (scopes = ["scans.read", "incidents.read"]): CredentialsOf<"http"> => ({
  name: "gate",
  settings: {
    kind: "http",
    url: gate.url,
    describe: "/openapi.json",
    auth: {
      oauth: {
        grant: "client_credentials",
        token: `${new URL(gate.url).origin}/oauth/token`,
        client: gate.client,
        scopes,
      },
    },
  },
  password: gate.secret,
});
const load = (from: Omit<From, "connection">, more: Partial<Load> = {}): Load => ({
  from: { connection: "app", ...from },
  into: { table: "landing.record", mode: "upsert", key: ["id"] },
  ...more,
});
const scanLoad: Load = {
  from: {
    connection: "gate",
    path: "/scans",
    records: "data",
    page: { cursor: "next", as: "after", size: 500, sizeAs: "limit" },
    since: { parameter: "updated_after", excludes: true },
  },
  watermark: { column: "updated_at", lookBack: "PT10M" },
  into: { table: "landing.scan", mode: "upsert", key: ["scan_id"] },
  proof: { figures: ["rows", "sum(paid)"] },
};
const rows = (sql: string) => pair.atWarehouse(sql);
const app = (settings?: Parameters<typeof plain>[0], password?: string) => pair.between(plain(settings, password));

/** Answers with records of some ids, by a parameter that counts what is passed over. */
const counted = (ids: () => number[], name = "offset", size = 10) =>
  web.answer((_, response, url) => {
    const from = Number(url.searchParams.get(name) ?? 0);
    json(
      response,
      JSON.stringify(
        ids()
          .slice(from, from + size)
          .map((id) => ({ id })),
      ),
    );
  });

sourceContract("An application over HTTP", {
  pair: () => pair,
  credentials: () => plain({ describe: "/openapi.json" }),
  from: { path: "/samples", records: "items", page: { number: "page", size: 25, sizeAs: "per" } },
  item: { schema: ".", table: "/samples" },
  absent: { path: "/nowhere" },
  firstStep: "address",
  furnish: async (given) => {
    const record = ([id, name, fare, at]: (typeof given)[number]) =>
      `{"id":${id},"name":${JSON.stringify(name)},"fare":${fare},"at":"${at.replace(" ", "T").replace("+00", "Z")}"}`;
    web.answer((_, response, url) => {
      if (url.pathname === "/openapi.json") {
        const field = (type: string, format?: string) => ({ type: [type, "null"], ...(format ? { format } : {}) });
        const properties = {
          id: { type: "integer" },
          name: field("string"),
          fare: field("number"),
          at: field("string", "date-time"),
        };
        const schema = {
          properties: { items: { type: "array", items: { type: "object", required: ["id"], properties } } },
        };
        const parameters = ["page", "per"].map((name) => ({
          name,
          in: "query",
          schema: { type: "integer", maximum: 25 },
        }));
        const responses = { 200: { content: { "application/json": { schema } } } };
        return json(
          response,
          JSON.stringify({
            openapi: "3.0.3",
            info: { title: "Samples" },
            paths: { "/samples": { get: { parameters, responses } } },
          }),
        );
      }
      if (url.pathname !== "/samples") return response.writeHead(404).end();
      const [page, per] = [Number(url.searchParams.get("page") ?? 1), Number(url.searchParams.get("per") ?? 25)];
      return json(
        response,
        `{"items":[${given
          .slice((page - 1) * per, page * per)
          .map(record)
          .join(",")}]}`,
      );
    });
  },
});

describe("the Gate service", () => {
  test("is loaded page by page, every number exact, and read on from what changed", async () => {
    const first = await pair.between(gateService()).run(scanLoad);
    expect(first.tally).toMatchObject({ read: String(scans), new: String(scans), rejected: "0" });
    expect(first.proof).toMatchObject({ verdict: "proved", depth: "cells", how: "received" });
    expect(first.findings.asked).toMatchObject({ first: expect.stringContaining('"scan_id":1,') });
    const told = JSON.stringify(first.findings.asked);
    expect(told).not.toContain(gate.secret.repeat(2));
    expect(
      await rows("SELECT ticket::text, jsonb_typeof(device) AS device FROM landing.scan WHERE scan_id = 1"),
    ).toEqual([{ ticket: "9007199254740994", device: "object" }]);
    const hour = gate.passHour();
    const next = await pair.between(gateService()).run(scanLoad);
    expect(next.tally).toMatchObject({ new: String(hour.added), rejected: "0" });
    expect(Number(next.tally.read)).toBeLessThan(200);
    expect(next.proof.verdict).toBe("proved");
  });

  test("finds what was struck out where rows gone are to go, and a planted fault by reading again", async () => {
    const sweeping: Load = { ...scanLoad, into: { ...scanLoad.into, deleted: "remove" } };
    await pair.between(gateService()).run(sweeping);
    gate.passHour();
    const { tally } = await pair.between(gateService()).run(sweeping, { scope: { kind: "whole" } });
    expect(Number(tally.deleted)).toBeGreaterThan(0);
    await rows(
      "UPDATE landing.scan SET paid = paid + CASE scan_id WHEN 11 THEN 1 ELSE -1 END WHERE scan_id IN (11, 12)",
    );
    const { proof, rows: differing } = await pair.between(gateService()).prove(sweeping, true);
    expect(proof).toMatchObject({ verdict: "disagrees", how: "read again" });
    expect(differing).toMatchObject({ different: 2, missing: 0, extra: 0 });
  });

  test("goes on through tokens that end, refusals, limits and cut answers", async () => {
    gate.trouble({ fails: 3, cuts: 5 });
    const ended = setTimeout(() => gate.endTokens(), 300);
    const { tally } = await pair.between(gateService()).run(scanLoad);
    clearTimeout(ended);
    expect(tally.new).toBe(tally.read);
    gate.trouble({ limit: 4 });
    await rows("DROP SCHEMA landing CASCADE");
    expect((await pair.between(gateService()).run(scanLoad)).proof.verdict).toBe("proved");
  });

  test("names the scope that is missing", async () => {
    await expect(pair.between(gateService(["incidents.read"])).run(scanLoad)).rejects.toMatchObject({
      failure: { hint: expect.stringContaining("scans.read") },
    });
    await expect(pair.between(gateService(["no.such"])).run(scanLoad)).rejects.toThrow("invalid_scope");
  });

  test("a first load that was cut goes on from its last page, and ends as if it had not been", async () => {
    const cutting = new AbortController();
    const before = gate.counts()["/api/scans"] ?? 0;
    gate.trouble({ slow: 30 });
    const cut = pair.between(gateService()).run(scanLoad, {
      signal: cutting.signal,
      report: { ...quiet, progress: () => undefined },
    });
    await expect.poll(() => (gate.counts()["/api/scans"] ?? 0) - before, { interval: 10 }).toBeGreaterThan(5);
    cutting.abort();
    await expect(cut).rejects.toThrow(Cancelled);
    gate.trouble({});
    const middle = gate.counts()["/api/scans"] ?? 0;
    const lines: string[] = [];
    const { tally, proof } = await pair.between(gateService()).run(scanLoad, {
      report: { ...quiet, line: (text) => void lines.push(text) },
    });
    expect(lines.join("\n")).toMatch(/pages had been read before/);
    expect((gate.counts()["/api/scans"] ?? 0) - middle).toBeLessThan(8);
    expect(tally.new).toBe(tally.read);
    expect(proof.verdict).toBe("proved");
    expect(
      await rows(
        "SELECT count(*) = max(scan_id) - (SELECT count(*) FROM generate_series(1, (SELECT max(scan_id) FROM landing.scan)) g WHERE NOT EXISTS (SELECT 1 FROM landing.scan WHERE scan_id = g)) AS whole, count(*) - count(DISTINCT scan_id) AS doubled FROM landing.scan",
      ),
    ).toEqual([{ whole: "t", doubled: "0" }]);
    // What has been committed is kept no longer.
    expect(await readdir(folder)).toEqual([]);
  });

  test("a scan reads every record once: the load that follows reads none again", async () => {
    const source = sourceFor(gateService());
    const from = { ...scanLoad.from };
    const found = await source.scan?.(from, () => undefined, new AbortController().signal);
    expect(found?.types).toMatchObject({
      scan_id: "bigint",
      paid: "numeric",
      device: "jsonb",
      updated_at: "timestamp with time zone",
    });
    const before = gate.counts()["/api/scans"] ?? 0;
    const { tally } = await pair
      .between(gateService())
      .run({ ...scanLoad, from: { ...from, types: found?.types ?? {} } });
    expect(tally.read).toBe(String(found?.rows));
    // Two looks at what records are made of, and no page of the reading itself.
    expect((gate.counts()["/api/scans"] ?? 0) - before).toBeLessThanOrEqual(2);
  });

  test("a member that no record had so far is a new column, not a loss", async () => {
    await pair.between(gateService()).run(scanLoad);
    gate.trouble({ fields: "more" });
    gate.passHour();
    const { tally } = await pair.between(gateService()).run(scanLoad);
    expect(tally.rejected).toBe("0");
    expect(await rows("SELECT count(*) > 0 AS there FROM landing.scan WHERE lane IS NOT NULL")).toEqual([
      { there: "t" },
    ]);
  });
});

describe("a reading that is of no one moment", () => {
  /** Records in pages of ten, each with when it changed; `asked` is told of each page. */
  const changing = (rows: { id: number; at: string; name: string }[], asked: (page: number) => void) =>
    web.answer((_, response, url) => {
      const page = Number(url.searchParams.get("page") ?? 1);
      const since = url.searchParams.get("since");
      if (url.searchParams.has("page")) asked(page);
      const told = rows.filter(({ at }) => since === null || Date.parse(at) >= Date.parse(since));
      json(response, JSON.stringify(told.slice((page - 1) * 10, page * 10)));
    });
  const from = { path: "/r", page: { number: "page", size: 10, sizeAs: "limit" }, since: { parameter: "since" } };
  const kept = { ...load(from), watermark: { column: "at" } };
  const names = async (id: number) => (await rows(`SELECT name FROM landing.record WHERE id = ${id}`))[0]?.name;

  test("does not let its watermark pass what changed behind it", async () => {
    const all = Array.from({ length: 40 }, (_, at) => ({ id: at + 1, at: "2026-01-01T00:00:00Z", name: "first" }));
    changing(all, (page) => {
      // While the third page is read, the first record changes, and the last one after it.
      if (page !== 3 || all[0]?.name !== "first") return;
      all[0] = { id: 1, at: new Date().toISOString(), name: "second" };
      all[39] = { id: 40, at: new Date(Date.now() + 20).toISOString(), name: "second" };
    });
    await app().run(kept);
    expect([await names(1), await names(40)]).toEqual(["first", "second"]);
    await app().run(kept);
    expect([await names(1), await names(40)]).toEqual(["second", "second"]);
  });

  test("nor when it was cut and gone on from later", async () => {
    const all = Array.from({ length: 40 }, (_, at) => ({ id: at + 1, at: "2026-01-01T00:00:00Z", name: "first" }));
    const cutting = new AbortController();
    changing(all, (page) => page === 4 && cutting.abort());
    await expect(app().run(kept, { signal: cutting.signal })).rejects.toThrow(Cancelled);
    // Between the two halves the first record changes; the last one does in the middle of the second.
    const before = Date.now();
    await expect.poll(() => Date.now() - before, { interval: 200, timeout: 5000 }).toBeGreaterThan(2100);
    all[0] = { id: 1, at: new Date().toISOString(), name: "second" };
    all[39] = { id: 40, at: new Date(Date.now() + 500).toISOString(), name: "second" };
    changing(all, () => undefined);
    const lines: string[] = [];
    await app().run(kept, { report: { ...quiet, line: (text) => void lines.push(text) } });
    expect(lines.join()).toContain("had been read before");
    expect(await names(1)).toBe("first");
    await app().run(kept);
    expect(await names(1)).toBe("second");
  });

  test("and pages that a repair has read serve no run after it", async () => {
    const all = Array.from({ length: 20 }, (_, at) => ({ id: at + 1, at: "2026-01-01T00:00:00Z", name: "first" }));
    changing(all, () => undefined);
    const plainly = load({ path: "/r", page: from.page });
    await app().run(plainly);
    await app().run(plainly, { scope: { kind: "keys", keys: [["3"]] } });
    all[4] = { id: 5, at: "2026-01-01T00:00:00Z", name: "second" };
    await app().run(plainly);
    expect(await names(5)).toBe("second");
  });
});

describe("an export in the background", () => {
  const bulk = {
    begin: "/exports",
    body: { of: "scans" },
    id: "id",
    ask: "/exports/{id}",
    at: "state",
    done: "done",
    failed: "failed",
    count: "records",
    parts: "parts",
    format: "csv" as const,
  };
  const byBulk: Load = { ...scanLoad, from: { ...scanLoad.from, bulk } };

  test("serves a whole read, and holds just what the pages do", async () => {
    await pair.between(gateService()).run(scanLoad);
    const sum =
      "SELECT count(*)::text AS rows, md5(string_agg(s::text, '|' ORDER BY scan_id)) AS all FROM landing.scan s";
    const pages = await rows(sum);
    await rows("DROP SCHEMA landing CASCADE; DROP SCHEMA undercoat CASCADE");
    const lines: string[] = [];
    const { tally, proof } = await pair.between(gateService()).run(byBulk, {
      report: { ...quiet, line: (text) => void lines.push(text) },
    });
    expect([tally.rejected, proof.verdict]).toEqual(["0", "proved"]);
    expect(await rows(sum)).toEqual(pages);
    expect(lines.join("\n")).toMatch(/the application exports: running, \d+ records so far/);
    // What changed is read by pages as before.
    gate.passHour();
    expect(Number((await pair.between(gateService()).run(byBulk)).tally.read)).toBeLessThan(1000);
  });

  const exporting = (state: string, part: (response: Parameters<typeof json>[0]) => void) =>
    web.answer((_, response, url) => {
      if (url.pathname === "/exports") return json(response, '{"id":7}');
      if (url.pathname === "/exports/7") return json(response, `{"state":"${state}","parts":["/part"]}`);
      if (url.pathname === "/part") return part(response);
      return json(response, '[{"id":1,"name":"x"}]');
    });
  const small = load({ path: "/r", bulk });

  test("of lines of JSON, one of them broken", async () => {
    exporting(
      "done",
      (response) => void response.writeHead(200).end('{"id":1,"name":"Kjær"}\n{"id":2,"name":null}\n{broken\n'),
    );
    const { tally } = await app().run({ ...small, from: { ...small.from, bulk: { ...bulk, format: "ndjson" } } });
    expect(tally).toMatchObject({ read: "3", new: "2", rejected: "1" });
    expect(await rows("SELECT name FROM landing.record ORDER BY id")).toEqual([{ name: "Kjær" }, { name: null }]);
  });

  test("that is cut off is fetched again, that one part alone", async () => {
    let asked = 0;
    exporting("done", (response) => {
      if (asked++ > 0) return void response.writeHead(200).end("id,name\n1,x\n2,y\n");
      response.writeHead(200, { "content-length": "100" });
      response.write("id,name\n1,x\n");
      response.destroy();
    });
    expect((await app().run(small)).tally.new).toBe("2");
  });

  test.each([
    ["few records", 9999, "pages"],
    ["many", 10_000, "export"],
  ])("is gone without for %s, where the application says how many there are", async (_, total, way) => {
    let exported = false;
    web.answer((request, response, url) => {
      if (url.pathname === "/exports") exported = request.method === "POST";
      if (url.pathname === "/exports") return json(response, '{"id":7}');
      if (url.pathname === "/exports/7") return json(response, '{"state":"done","parts":["/part"]}');
      if (url.pathname === "/part") return void response.writeHead(200).end("id\n1\n");
      return json(response, `{"total":${total},"data":[{"id":1}]}`);
    });
    const counting = load({ path: "/r", records: "data", count: "total", bulk });
    await app()
      .run(counting)
      .catch(() => undefined);
    expect(exported ? "export" : "pages").toBe(way);
  });

  test.each([
    ["that failed", "failed", "id\n1\n", "could not export: it says failed"],
    ["with a column that pages don't have", "done", "id,other\n1,2\n", "exports a column other"],
  ])("%s ends the load with the fact", async (_, state, text, words) => {
    exporting(state, (response) => void response.writeHead(200).end(text));
    await expect(app().run(small)).rejects.toThrow(words);
    expect(await rows("SELECT to_regclass('landing.record') AS t")).toEqual([{ t: null }]);
  });
});

describe("lists within records", () => {
  const orders = [
    '{"order":7,"at":"2026-03-01T00:00:00Z","lines":[{"no":1,"fare":9007199254740993.10},{"no":2,"fare":0.1}]}',
    '{"order":8,"at":"2026-03-02T00:00:00Z","lines":[]}',
    '{"order":9,"at":"2026-03-03T00:00:00Z","lines":null}',
    '{"order":10,"at":"2026-03-04T00:00:00Z","lines":[{"no":1,"fare":null}, {} ]}',
  ];
  const lines = (more: Partial<From> = {}): Load => ({
    from: { connection: "app", path: "/r", each: "lines", keep: ["order", "at"], ...more },
    into: { table: "landing.record", mode: "upsert", key: ["order", "no"] },
  });

  test("are rows of their own, with what is kept of the record", async () => {
    web.answer((_, response) => json(response, `[${orders.join(",")}]`));
    const { tally, proof } = await app().run(lines());
    // A line without a number has no key.
    expect([tally.new, tally.rejected, proof.verdict]).toEqual(["3", "1", "proved"]);
    expect(
      await rows(`SELECT r.order::text AS of, no::text, fare::text FROM landing.record r ORDER BY r.order, no`),
    ).toEqual([
      { of: "7", no: "1", fare: "9007199254740993.10" },
      { of: "7", no: "2", fare: "0.1" },
      { of: "10", no: "1", fare: null },
    ]);
  });

  test("that are none are rejected, and a name that both have is told", async () => {
    web.answer((_, response) => json(response, `[${orders[0]},{"order":11,"at":"2026-03-04T00:00:00Z","lines":7}]`));
    expect((await app().run(lines())).tally).toMatchObject({ read: "3", new: "2", rejected: "1" });
    web.answer((_, response) => json(response, '[{"no":1,"lines":[{"no":2}]}]'));
    await expect(app().run(lines({ keep: ["no"] }))).rejects.toThrow("What stands at lines has a member no of its own");
  });
});

describe("pages", () => {
  const ids = Array.from({ length: 95 }, (_, at) => at + 1);
  const form = { size: 10, sizeAs: "limit" };
  const taken = async () =>
    (await rows("SELECT id::text FROM landing.record r ORDER BY r.id")).map(({ id }) => Number(id));

  test.each<[string, From["page"], (url: URL) => { body: string; link?: string }]>([
    [
      "a link header",
      { link: true },
      (url) => {
        const at = Number(url.searchParams.get("p") ?? 0);
        return {
          body: JSON.stringify(ids.slice(at, at + 10).map((id) => ({ id }))),
          ...(at < 90 ? { link: `<${web.url}/r?p=${at + 10}>; rel="next"` } : {}),
        };
      },
    ],
    [
      "an address in the answer",
      { next: "links.next" },
      (url) => {
        const at = Number(url.searchParams.get("p") ?? 0);
        return {
          body: JSON.stringify({
            rows: ids.slice(at, at + 10).map((id) => ({ id })),
            links: { next: at < 90 ? `?p=${at + 10}` : null },
          }),
        };
      },
    ],
    [
      "a cursor",
      { cursor: "meta.next_cursor", as: "cursor" },
      (url) => {
        const at = Number(url.searchParams.get("cursor") ?? 0);
        return {
          body: JSON.stringify({
            rows: ids.slice(at, at + 10).map((id) => ({ id })),
            meta: { next_cursor: at < 90 ? String(at + 10) : "" },
          }),
        };
      },
    ],
    [
      "a page number",
      { number: "page", ...form },
      (url) => {
        const at = (Number(url.searchParams.get("page") ?? 1) - 1) * 10;
        return { body: JSON.stringify(ids.slice(at, at + 10).map((id) => ({ id }))) };
      },
    ],
    [
      "an offset",
      { offset: "skip", ...form },
      (url) => {
        const at = Number(url.searchParams.get("skip") ?? 0);
        return { body: JSON.stringify(ids.slice(at, at + 10).map((id) => ({ id }))) };
      },
    ],
  ])("that follow by %s are all read, and the way is proposed by itself", async (_, page, answer) => {
    web.answer((_request, response, url) => {
      const { body, link } = answer(url);
      json(response, body, link ? { link } : {});
    });
    const records = page?.next || page?.cursor ? "rows" : undefined;
    const { tally } = await app().run(load({ path: "/r", page, ...(records ? { records } : {}) }));
    expect(tally).toMatchObject({ read: "95", new: "95" });
    expect(await taken()).toEqual(ids);
    const parameters: Record<string, string> = page?.offset
      ? { skip: "0", limit: "10" }
      : page?.number
        ? { page: "1" }
        : {};
    const proposal = await sourceFor(plain()).propose?.(
      { connection: "app", path: "/r", parameters },
      new AbortController().signal,
    );
    const way = (form: From["page"]) =>
      Object.keys(form ?? {}).find((name) => ["link", "next", "cursor", "number", "offset"].includes(name));
    expect(way(proposal?.from.page)).toBe(way(page));
    expect(proposal).toMatchObject({ key: "id" });
    expect(proposal?.from.records).toBe(records);
  });

  test("counted through while records go and come lose and double nothing, and that is told", async () => {
    let held = ids.map((id) => id * 10);
    let asked = 0;
    web.answer((_, response, url) => {
      asked++;
      // In the middle of the reading one goes before the place, later one comes.
      if (asked === 5) held = held.filter((id) => id !== 20);
      if (asked === 9) held = [5, ...held];
      const from = Number(url.searchParams.get("offset") ?? 0);
      json(response, JSON.stringify(held.slice(from, from + 10).map((id) => ({ id }))));
    });
    const lines: string[] = [];
    const { tally, proof } = await app().run(load({ path: "/r", page: { offset: "offset", ...form } }), {
      report: { ...quiet, line: (text) => void lines.push(text) },
    });
    expect(tally).toMatchObject({ rejected: "0" });
    expect(proof.verdict).toBe("proved");
    const found = await taken();
    expect(ids.map((id) => id * 10).filter((id) => id !== 20 && !found.includes(id))).toEqual([]);
    expect(new Set(found).size).toBe(found.length);
    expect(lines.join("\n")).toMatch(/records moved while page/);
  });

  test.each<[string, From["page"], string]>([
    ["a cursor that never changes", { cursor: "next", as: "after" }, "leads back"],
    ["an address that is the page's own", { next: "self" }, "leads back"],
  ])("%s ends the load with the fact", async (_, page, words) => {
    web.answer((_request, response) =>
      json(response, JSON.stringify({ rows: [{ id: 1 }], next: "x", self: "?after=x" })),
    );
    await expect(app().run(load({ path: "/r", records: "rows", page }))).rejects.toThrow(
      new RegExp(`${words}|back to one`),
    );
  });

  test("that lead to another host are not followed", async () => {
    web.answer((_, response) =>
      json(response, JSON.stringify({ rows: [{ id: 1 }], next: "http://169.254.169.254/latest" })),
    );
    await expect(app().run(load({ path: "/r", records: "rows", page: { next: "next" } }))).rejects.toThrow(
      "leads to another host",
    );
  });
});

describe("an answer", () => {
  test.each<[string, (response: Parameters<typeof json>[0]) => unknown, RegExp]>([
    [
      "that is a page for people",
      (response) => response.writeHead(200, { "content-type": "text/html" }).end("<h1>Sign in</h1>"),
      /page for people/,
    ],
    ["that is no JSON", (response) => json(response, "{broken"), /is no JSON|does not end|names/],
    ["without records", (response) => json(response, '{"rows":7}'), /holds no list at rows/],
    [
      "that says it is packed and is not",
      (response) => json(response, "[]", { "content-encoding": "gzip" }),
      /can't be unpacked/,
    ],
  ])("%s ends the load with the fact, and nothing is written", async (_, how, words) => {
    web.answer((_request, response) => void how(response));
    await expect(app().run(load({ path: "/r", records: "rows" }))).rejects.toThrow(words);
    expect(await rows("SELECT to_regclass('landing.record') AS t")).toEqual([{ t: null }]);
  });

  test("that is small when packed and endless when unpacked is not taken", async () => {
    const bomb = gzipSync(Buffer.alloc(80 * 1024 * 1024, 32), { level: 9 });
    web.answer((_, response) =>
      response.writeHead(200, { "content-type": "application/json", "content-encoding": "gzip" }).end(bomb),
    );
    await expect(app().run(load({ path: "/r" }))).rejects.toThrow("more than 64 MB at once");
  });

  test("keeps null, nothing and empty apart, and refuses a record that says a thing twice", async () => {
    web.answer((_, response) =>
      json(
        response,
        '[{"id":1,"a":null,"n":1e-7},{"id":2,"a":""},{"id":3,"a":"x","n":9007199254740993.10},{"id":4,"id":5}]',
      ),
    );
    const { tally, findings } = await app().run(load({ path: "/r" }));
    expect(tally).toMatchObject({ read: "4", new: "3", rejected: "1" });
    expect(JSON.stringify(findings.reasons)).toContain("names id twice");
    expect(await rows("SELECT id::text, a, n::text FROM landing.record ORDER BY id")).toEqual([
      { id: "1", a: null, n: "0.0000001" },
      { id: "2", a: "", n: null },
      { id: "3", a: "x", n: "9007199254740993.10" },
    ]);
  });
});

describe("what it signs in with", () => {
  test.each<[string, CredentialsOf<"http">["settings"]["auth"], string, string]>([
    [
      "a password",
      { basic: { user: "ada" } },
      "authorization",
      `Basic ${Buffer.from("ada:s3cret").toString("base64")}`,
    ],
    ["a key", { key: { header: "X-Api-Key" } }, "x-api-key", "s3cret"],
    ["a bearer token", { bearer: true }, "authorization", "Bearer s3cret"],
  ])("%s goes to its own host alone, and stands in nothing that is told", async (_, auth, header, value) => {
    const other = await makeWeb();
    const heard: (string | undefined)[] = [];
    other.answer((request, response) => {
      heard.push(request.headers[header] as string | undefined);
      json(response, '[{"id":1}]');
    });
    web.answer((request, response) => {
      expect(request.headers[header]).toBe(value);
      response.writeHead(302, { location: `${other.url}/r` }).end();
    });
    const { findings } = await app({ auth }, "s3cret").run(load({ path: "/r" }));
    expect(heard.length).toBeGreaterThan(0);
    expect(new Set(heard)).toEqual(new Set([undefined]));
    expect(JSON.stringify(findings)).not.toContain("s3cret");
    web.answer((_request, response) => response.writeHead(401).end("who are you"));
    const refused = await app({ auth }, "s3cret")
      .run(load({ path: "/r" }))
      .catch((error) => error.failure);
    expect(refused).toMatchObject({ message: expect.stringContaining("401"), detail: "who are you" });
    expect(JSON.stringify(refused)).not.toContain("s3cret");
    await other.close();
  });
});

describe("where it may lead", () => {
  test.each([
    ["a link-local address", "http://169.254.169.254", "link-local"],
    ["a link-local address written as IPv6", "http://[::ffff:169.254.169.254]", "link-local"],
    ["an address in another notation", "http://2852039166", "link-local"],
  ])("%s is refused where only everything is allowed", async (_, url, words) => {
    await expect(app({ url }).run(load({ path: "/r" }))).rejects.toThrow(words);
  });

  test("the product's own database is refused, and allowed once it is listed", async () => {
    counted(() => [1]);
    const port = Number(new URL(web.url).port);
    const own = [{ host: "127.0.0.1", port, database: "undercoat" }];
    allowEgress({ allowed: ["*"], own });
    await expect(app().run(load({ path: "/r" }))).rejects.toThrow("it is the product's own");
    await expect(app({ url: `http://localhost:${port}` }).run(load({ path: "/r" }))).rejects.toThrow(
      "it is the product's own",
    );
    allowEgress({ allowed: ["*", `127.0.0.1:${port}`], own });
    expect((await app().run(load({ path: "/r" }))).tally.read).toBe("1");
  });

  test("a redirect leads no further than the list", async () => {
    const port = Number(new URL(web.url).port);
    allowEgress({ allowed: [`127.0.0.1:${port}`], own: [] });
    web.answer((_, response) => response.writeHead(302, { location: "http://127.0.0.2:1/" }).end());
    await expect(app().run(load({ path: "/r" }))).rejects.toThrow("not on the administrator's list");
  });
});

test("an application that allows no more for now is left alone before the next request, not after the last", async () => {
  web.answer((_, response, url) => {
    const last = url.searchParams.get("page") === "2";
    const headers = { "ratelimit-remaining": "0", "ratelimit-reset": last ? "600" : "1" };
    json(response, JSON.stringify(last ? [] : Array.from({ length: 2 }, (_one, id) => ({ id }))), headers);
  });
  const waits: string[] = [];
  const between = pair.between({ ...plain(), name: "resting" });
  await between.run(load({ path: "/r", page: { number: "page", size: 2 } }), {
    report: { ...quiet, waiting: (why) => void (why && waits.push(why)) },
  });
  expect(waits.join()).toContain("resting allows no more requests for now; waiting 1 s");
  expect(waits.join()).not.toContain("600 s");
});

test("an own limit of requests is kept", async () => {
  counted(() => Array.from({ length: 40 }, (_, at) => at), "offset");
  const waits: string[] = [];
  const cutting = new AbortController();
  const run = pair
    .between({ ...plain({ limits: { minute: 3 } }), name: "slow" })
    .run(load({ path: "/r", page: { offset: "offset", size: 10, sizeAs: "limit" } }), {
      signal: cutting.signal,
      report: {
        ...quiet,
        waiting: (why) => {
          if (why) waits.push(why);
          if (why?.includes("limit of requests")) cutting.abort();
        },
      },
    });
  await expect(run).rejects.toThrow(Cancelled);
  expect(web.take()).toHaveLength(3);
  expect(waits.join()).toContain("own limit of requests");
});
