import type { Load } from "@undercoat/core/pipeline/pipeline";
import { sliceBounds } from "@undercoat/core/proof/bounds";
import { sliceStart } from "@undercoat/core/sql/slice";
import type { CredentialsOf } from "@undercoat/engine/connection/credentials";
import { type Crew, openCrew } from "@undercoat/standins/crew";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { officeOf } from "./office.ts";
import { makePair, type Pair, quiet } from "./pair.ts";
import { json, makeWeb, type Web } from "./web.ts";

let pair: Pair;
let web: Web;
beforeAll(async () => {
  pair = await makePair("counts");
  web = await makeWeb();
});
afterAll(async () => {
  await Promise.all([pair.close(), web.close()]);
});
beforeEach(() => pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE"));

describe("a service of OData counts", () => {
  let crew: Crew;
  beforeEach(async () => {
    crew = await openCrew();
    return crew.close;
  });
  const office = () => officeOf(crew);
  const load: Load = {
    from: { connection: "crew", table: "Shifts" },
    into: { table: "landing.shift", mode: "upsert", key: ["PersonId", "Number"], deleted: "remove" },
    proof: { by: { column: "BeginsAt", slice: "day", zone: "Europe/Oslo" }, figures: ["rows", "sum(Hours)"] },
  };
  const run = (given = load) => pair.between(office()).run(given);

  test("in all and in the days that a run brought news to, which its proof says", async () => {
    expect((await run()).proof.counted).toBeUndefined();
    crew.passHour();
    const { proof, findings } = await run();
    expect(proof.verdict).toBe("proved");
    expect(proof.counted).toMatchObject({ source: "2404", warehouse: "2404" });
    expect(proof.counted?.slices.length).toBeGreaterThan(2);
    expect(proof.counted?.slices.filter((one) => one.source !== one.warehouse)).toEqual([]);
    expect(findings.asked?.requests.map((one) => one.address).join("\n")).toMatch(
      /\$filter=BeginsAt ge 2026-\d\d-\d\dT23:00:00Z and BeginsAt lt /,
    );
  });

  test("otherwise where a row went missing in the warehouse, or one came that the source never had", async () => {
    await run();
    // The day of a shift that the next hour changes; what was read proves nothing of the others.
    await pair.atWarehouse('DELETE FROM landing.shift WHERE "PersonId" = 1 AND "Number" = 9007199254740020');
    crew.passHour();
    const short = (await run()).proof;
    expect([short.verdict, short.cells?.verdict]).toEqual(["disagrees", "proved"]);
    expect(short.counted).toMatchObject({ source: "2404", warehouse: "2403" });
    await pair.atWarehouse(
      'INSERT INTO landing.shift SELECT * FROM landing.shift WHERE false; INSERT INTO landing.shift ("PersonId", "Number", "BeginsAt") VALUES (99, 1, timestamptz \'2026-01-02 12:00+00\')',
    );
    crew.passHour();
    const swapped = (await run()).proof;
    // One too few on one day and one too many on another: in all as many.
    expect(swapped.counted).toMatchObject({ source: "2408", warehouse: "2408" });
    expect(swapped.verdict).toBe("disagrees");
    expect(swapped.counted?.slices.filter((one) => one.source !== one.warehouse).length).toBeGreaterThan(0);
  });

  test("while it changes its counts say nothing, and no false alarm is given", async () => {
    await run();
    crew.passHour();
    const lines: string[] = [];
    const { proof } = await pair.between(office()).run(load, {
      report: {
        ...quiet,
        line: (words) => {
          lines.push(words);
          // Another hour passes once the rows have been read.
          if (words.endsWith("rows staged")) crew.passHour();
        },
      },
    });
    expect([proof.verdict, proof.counted]).toEqual(["proved", undefined]);
    expect(lines.join("\n")).toContain("has changed since it was read, so its own counts say nothing now");
    expect((await run()).proof.counted).toMatchObject({ source: "2408", warehouse: "2408" });
  });

  test("only as often as leaves half of what it may be asked", async () => {
    const limited = office();
    limited.settings.limits = { minute: 20 };
    const between = pair.between(limited);
    await between.run(load);
    crew.passHour();
    const { proof, findings } = await between.run(load);
    expect(proof.counted).toMatchObject({ source: "2404", warehouse: "2404" });
    const left = findings.asked?.left?.minute?.left ?? 0;
    expect(left).toBeGreaterThanOrEqual(4);
    expect(proof.counted?.slices.length).toBeGreaterThan(0);
  });

  test("rows that are turned away are counted too, so nothing is said", async () => {
    const strict: Load = { ...load, rules: { "no long shift": '"Hours"::numeric < 11' } };
    await run(strict);
    crew.passHour();
    const { proof, tally } = await run(strict);
    expect(proof.counted).toBeUndefined();
    expect([proof.verdict, Number(tally.read) > 0]).toEqual(["proved", true]);
  });

  test("past a watermark too, where a row that was struck off is missed by it", async () => {
    const past: Load = { ...load, watermark: { column: "UpdatedAt" }, into: { ...load.into, deleted: "keep" } };
    await run(past);
    crew.passHour();
    const { proof } = await run(past);
    expect(proof).toMatchObject({ verdict: "disagrees", cells: { verdict: "proved" } });
    expect(proof.counted).toMatchObject({ source: "2404", warehouse: "2405" });
  });
});

test("an application's own count of all is compared after what changed was read, by one record", async () => {
  let records = Array.from({ length: 30 }, (_, at) => ({
    id: at + 1,
    at: `2026-03-01T00:00:${String(at).padStart(2, "0")}Z`,
  }));
  web.answer((_, response, url) => {
    const since = url.searchParams.get("since") ?? "";
    const found = records.filter((one) => one.at >= since);
    const size = Number(url.searchParams.get("limit"));
    const page = Number(url.searchParams.get("page"));
    return json(response, JSON.stringify({ total: found.length, data: found.slice((page - 1) * size, page * size) }));
  });
  const app: CredentialsOf<"http"> = { name: "app", settings: { kind: "http", url: web.url }, password: "" };
  const load: Load = {
    from: {
      connection: "app",
      path: "/records",
      records: "data",
      count: "total",
      page: { number: "page", size: 10, sizeAs: "limit" },
      since: { parameter: "since" },
    },
    watermark: { column: "at" },
    into: { table: "landing.record", mode: "upsert", key: ["id"] },
  };
  await pair.between(app).run(load);
  records.push({ id: 31, at: "2026-03-01T00:00:59Z" });
  web.take();
  expect((await pair.between(app).run(load)).proof.counted).toEqual({ source: "31", warehouse: "31", slices: [] });
  expect(web.take()).toContain("/records?limit=1&page=1");
  records = records.filter(({ id }) => id !== 7);
  records.push({ id: 32, at: "2026-03-01T00:01:00Z" });
  const { proof } = await pair.between(app).run(load);
  expect([proof.verdict, proof.counted]).toEqual(["disagrees", { source: "31", warehouse: "32", slices: [] }]);
});

test("what can't be asked any more stops no load, and one time that can't be read stops no later one", async () => {
  const told = ["2026-03-01T00:00:01Z", "never", "2026-03-01T00:00:03Z"];
  let records = told.map((at, id) => ({ id: id + 1, at }));
  let asked = 0;
  web.answer((_, response, url) => {
    const since = url.searchParams.get("since");
    // What changed since is told once in a run, and refused when it is asked for again.
    if (since !== null && ++asked > 2) return response.writeHead(403).end();
    const found = since === null ? records : records.filter((one) => one.at >= since || one.at === "never");
    return json(response, JSON.stringify({ total: found.length, data: found }));
  });
  const app: CredentialsOf<"http"> = { name: "app", settings: { kind: "http", url: web.url }, password: "" };
  const load: Load = {
    from: {
      connection: "app",
      path: "/records",
      records: "data",
      count: "total",
      since: { parameter: "since" },
      types: { id: "bigint", at: "timestamp with time zone" },
    },
    watermark: { column: "at" },
    into: { table: "landing.record", mode: "upsert", key: ["id"], deleted: "remove" },
  };
  expect((await pair.between(app).run(load)).tally).toMatchObject({ new: "2", rejected: "1" });
  asked = 0;
  expect((await pair.between(app).run(load)).tally).toMatchObject({ rejected: "1" });
  records = records.filter(({ at }) => at !== "never");
  asked = 0;
  expect((await pair.between(app).run(load, { scope: { kind: "whole" } })).proof.verdict).toBe("proved");
  await pair.atWarehouse("DELETE FROM landing.record WHERE id = 1");
  records.push({ id: 9, at: "2026-03-01T00:00:09Z" });
  const { into, ...rest } = load;
  asked = 0;
  const { proof, tally } = await pair.between(app).run({ ...rest, into: { ...into, deleted: "keep" } });
  expect([proof.verdict, proof.counted, tally.new]).toEqual(["proved", undefined, "1"]);
  // A time that is not loaded is not checked either; the watermark passes those alone that can be read.
  records.push({ id: 10, at: "never" });
  asked = 0;
  const unloaded = { ...load, columns: { id: "id" }, into: { ...into, table: "landing.bare" } };
  const { watermark, tally: bare } = await pair.between(app).run(unloaded);
  expect([bare.new, bare.rejected, watermark]).toEqual(["4", "0", "2026-03-01 00:00:09+00"]);
});

test.each([
  "Europe/Oslo",
  "America/Havana",
  "Atlantic/Azores",
  "Africa/Cairo",
  "Australia/Lord_Howe",
  "Asia/Kathmandu",
  "UTC",
])(
  "the bounds of slices in %s are where the warehouse's own grouping has them, clock changes and all",
  async (zone) => {
    for (const unit of ["hour", "day", "week", "month", "year"] as const) {
      const slicing = { column: "t", type: "timestamp with time zone", unit, zone };
      const spanned = unit === "hour" ? ["2026-10-20", "2026-11-05"] : ["2025-01-01", "2026-12-31"];
      const step = unit === "hour" ? "5 minutes" : "15 minutes";
      const rows = await pair.atWarehouse(
        `SELECT ${sliceStart(slicing)}::text AS slice, min(t)::text AS low, max(t)::text AS high, count(*)::text AS rows FROM generate_series(timestamptz '${spanned[0]} 00:00+00', timestamptz '${spanned[1]} 00:00+00', '${step}') t GROUP BY 1 ORDER BY min(t)`,
      );
      // The first and the last are cut.
      for (const { slice, low, high } of rows.slice(1, -1)) {
        const bounds = sliceBounds(slicing, slice ?? "");
        const [from, to] = [Date.parse(bounds?.from ?? ""), Date.parse(bounds?.to ?? "")];
        const minutes = unit === "hour" ? 5 : 15;
        expect([slice, from]).toEqual([slice, Date.parse(`${low}:00`)]);
        expect([slice, to]).toEqual([slice, Date.parse(`${high}:00`) + minutes * 60_000]);
      }
    }
  },
);
