import { mkdtemp, rm } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import type { From, Load } from "@undercoat/core/pipeline/pipeline";
import { suggestLoad } from "@undercoat/core/pipeline/suggest";
import type { CredentialsOf } from "@undercoat/engine/connection/credentials";
import { spoolInto } from "@undercoat/engine/source/http/spool";
import { sourceFor } from "@undercoat/engine/source/registry";
import { openTill, type Till } from "@undercoat/standins/till";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { makePair, type Pair, quiet } from "./pair.ts";
import { json, makeWeb, type Web } from "./web.ts";

let pair: Pair;
let web: Web;
let till: Till;
let folder: string;
beforeAll(async () => {
  pair = await makePair("report");
  web = await makeWeb();
  till = await openTill();
  folder = await mkdtemp(join(tmpdir(), "undercoat-spool-"));
  spoolInto(folder);
});
afterAll(async () => {
  await Promise.all([pair.close(), web.close(), till.close()]);
  await rm(folder, { recursive: true, force: true });
});

/** What the application counts, by day: each row a till and its takings. */
let book: Record<string, [string, string][]>;
/** Answers with the rows of the days from (included) to (excluded), by what the two parameters are called. */
const answers = (from = "from", to = "to", after = (day: string) => day) =>
  web.answer((_, response, url) => {
    const [first, end] = [url.searchParams.get(from) ?? "", after(url.searchParams.get(to) ?? "")];
    const rows = Object.entries(book)
      .filter(([day]) => day >= first && day < end)
      .flatMap(([, all]) => all);
    json(response, `{"rows":[${rows.map(([till, amount]) => `{"till":"${till}","amount":${amount}}`).join(",")}]}`);
  });
beforeEach(async () => {
  await pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
  await rm(folder, { recursive: true, force: true });
  book = {
    "2026-03-01": [
      ["a", "1.10"],
      ["b", "2.20"],
    ],
    "2026-03-02": [["a", "3.30"]],
    "2026-03-03": [
      ["a", "4.40"],
      ["b", "5.50"],
    ],
  };
  answers();
});

const desk = (): CredentialsOf<"http"> => ({ name: "desk", settings: { kind: "http", url: web.url }, password: "" });
const report = (more: Partial<Omit<From, "connection">> = {}, into: Partial<Load["into"]> = {}): Load => ({
  from: {
    connection: "desk",
    path: "/takings",
    records: "rows",
    parameters: { from: "2026-03-01", to: "2026-03-04", split: "day" },
    ...more,
  },
  into: { table: "landing.taking", mode: "replace", ...into },
  proof: { figures: ["rows", "sum(amount)"] },
});
// What nobody counted of late is known by its types.
const ongoing = {
  parameters: { from: ":from", to: ":to", split: "day" },
  types: { till: "text", amount: "numeric" },
};
const app = () => pair.between(desk());
const stands = async () =>
  (await pair.atWarehouse("SELECT period::text AS day, till, amount::text FROM landing.taking ORDER BY 1, 2")).map(
    ({ day, till: of, amount }) => `${day} ${of} ${amount}`,
  );
const march = (from: number, to: number) =>
  ({ kind: "interval", from: `2026-03-0${from}`, to: `2026-03-0${to}` }) as const;

describe("a report by date", () => {
  test("is asked for day by day, and each day is a slice of its proof", async () => {
    const { tally, proof, findings } = await app().run(report());
    expect(tally).toMatchObject({ read: "5", new: "5", rejected: "0" });
    expect(proof).toMatchObject({ verdict: "proved", depth: "cells", how: "received" });
    expect(proof.slices.map(({ slice, verdict }) => [slice, verdict])).toEqual([
      ["2026-03-01", "proved"],
      ["2026-03-02", "proved"],
      ["2026-03-03", "proved"],
    ]);
    expect(findings.asked?.requests.slice(-3).map(({ address }) => new URL(address).search)).toEqual([
      "?from=2026-03-01&to=2026-03-02",
      "?from=2026-03-02&to=2026-03-03",
      "?from=2026-03-03&to=2026-03-04",
    ]);
    expect(await stands()).toEqual([
      "2026-03-01 a 1.10",
      "2026-03-01 b 2.20",
      "2026-03-02 a 3.30",
      "2026-03-03 a 4.40",
      "2026-03-03 b 5.50",
    ]);
  });

  test.each(["replace", "upsert"] as const)(
    "some days take the place of their own rows alone, in mode %s",
    async (mode) => {
      const load = report({}, mode === "upsert" ? { mode, key: ["period", "till"], deleted: "remove" } : { mode });
      await app().run(load);
      book["2026-03-01"] = [["z", "9.99"]];
      book["2026-03-02"] = [["b", "3.31"]];
      const { tally, proof } = await app().run(load, { scope: march(2, 3) });
      expect(tally).toMatchObject({ read: "1", new: "1", deleted: "1" });
      expect(proof.slices.map(({ slice }) => slice)).toEqual(["2026-03-02"]);
      expect([proof.verdict, proof.whole]).toEqual(["proved", false]);
      expect(await stands()).toEqual([
        "2026-03-01 a 1.10",
        "2026-03-01 b 2.20",
        "2026-03-02 b 3.31",
        "2026-03-03 a 4.40",
        "2026-03-03 b 5.50",
      ]);
      // What changed elsewhere is found by a proof, down to its rows.
      const told = await app().prove(load);
      expect(told.proof.verdict).toBe("disagrees");
      expect(told.proof.slices.filter(({ verdict }) => verdict === "disagrees").map(({ slice }) => slice)).toEqual([
        "2026-03-01",
      ]);
      if (mode === "upsert") expect([told.rows?.missing, told.rows?.extra]).toEqual([1, 2]);
    },
  );

  test("a day that has become empty is emptied, and proved to be", async () => {
    await app().run(report());
    book["2026-03-02"] = [];
    const { tally, proof } = await app().run(report(), { scope: { kind: "slice", slice: "2026-03-02" } });
    expect(tally).toMatchObject({ read: "0", deleted: "1" });
    expect(proof.slices).toMatchObject([{ slice: "2026-03-02", verdict: "proved" }]);
    expect((await stands()).some((row) => row.startsWith("2026-03-02"))).toBe(false);
  });

  test("pairs that cancel each other within a day, and days that are swapped, are found", async () => {
    await app().run(report());
    await pair.atWarehouse(
      "UPDATE landing.taking SET amount = CASE till WHEN 'a' THEN 5.50 ELSE 4.40 END WHERE period = '2026-03-03'",
    );
    expect((await app().prove(report())).proof).toMatchObject({ verdict: "disagrees" });
    await app().run(report());
    await pair.atWarehouse(
      "UPDATE landing.taking SET period = CASE period WHEN '2026-03-02' THEN date '2026-03-03' ELSE '2026-03-02' END WHERE period > '2026-03-01'",
    );
    const { proof } = await app().prove(report());
    expect(proof.slices.map(({ verdict }) => verdict)).toEqual(["proved", "disagrees", "disagrees"]);
  });

  test("rows before the days that are asked for stay, and are no part of the proof", async () => {
    await app().run(report());
    const later = report({ parameters: { from: "2026-03-02", to: "2026-03-04", split: "day" } });
    book["2026-03-01"] = [];
    const { proof } = await app().run(later);
    expect(proof.verdict).toBe("proved");
    expect(await stands()).toHaveLength(5);
    expect((await app().prove(later)).proof.verdict).toBe("proved");
  });

  test("with `again` only the last days are asked for anew, and all of them once the report is another", async () => {
    const load = report({ period: { again: "P1D" } });
    await app().run(load);
    book["2026-03-01"] = [];
    book["2026-03-02"] = [["a", "3.35"]];
    const { tally, proof } = await app().run(load);
    expect([tally.read, proof.slices.map(({ slice }) => slice)]).toEqual(["3", ["2026-03-02", "2026-03-03"]]);
    expect(await stands()).toHaveLength(5);
    const wider = report({
      period: { again: "P1D" },
      parameters: { from: "2026-02-27", to: "2026-03-04", split: "day" },
    });
    expect((await app().run(wider)).proof.slices).toHaveLength(5);
    expect(await stands()).toHaveLength(3);
  });

  test("one that goes on from what is loaded says that it needs a beginning, and then has one", async () => {
    await expect(app().run(report(ongoing))).rejects.toThrow(/Nothing says from when/);
    await app().run(report(ongoing), { scope: march(1, 3) });
    expect(await stands()).toHaveLength(3);
    const { proof } = await app().run(report(ongoing));
    const days = proof.slices.map(({ slice }) => slice);
    const today = new Date().toISOString().slice(0, 10);
    expect([days[0], days.at(-1)]).toEqual(["2026-03-02", today]);
    expect(await stands()).toHaveLength(5);
    expect((await app().prove(report(ongoing))).proof).toMatchObject({ verdict: "proved", how: "read again" });
  });

  test("months are whole: one that is begun in the middle is asked for from its first day", async () => {
    const load = report({ parameters: { from: "2026-02-20", to: "2026-03-04", split: "month" } });
    const { proof, findings } = await app().run(load);
    expect(findings.asked?.requests.slice(-2).map(({ address }) => new URL(address).search)).toEqual([
      "?from=2026-02-01&to=2026-03-01",
      "?from=2026-03-01&to=2026-03-04",
    ]);
    expect(proof.slices.map(({ slice }) => slice)).toEqual(["2026-02-01", "2026-03-01"]);
    const again = report({ parameters: { from: "2026-02-25", to: "2026-03-05", split: "month" } });
    await app().run(again);
    expect(await stands()).toHaveLength(5);
  });

  test("the ends go by the application's names, and its last day may count", async () => {
    answers("begin", "end", (last) => new Date(Date.parse(last) + 86_400_000).toISOString().slice(0, 10));
    const load = report({
      parameters: { begin: ":from", end: ":to", split: "day" },
      period: { ends: "included" },
      types: ongoing.types,
    });
    await app().run(load, { scope: march(1, 4) });
    expect(await stands()).toHaveLength(5);
  });

  test("a row that is rejected leaves the list when its own day is read again, and no other does", async () => {
    const load: Load = { ...report(), rules: { "something was taken": "amount > 0" } };
    book["2026-03-01"] = [["a", "-1.00"]];
    book["2026-03-02"] = [["a", "-2.00"]];
    const first = await app().run(load);
    expect([first.tally.rejected, first.proof.verdict]).toEqual(["2", "proved"]);
    book["2026-03-02"] = [["a", "2.00"]];
    const { tally, proof } = await app().run(load, { scope: march(2, 3) });
    expect([tally.new, tally.rejected, proof.verdict]).toEqual(["1", "0", "proved"]);
    expect([first.proof.without, proof.without]).toEqual(["2", undefined]);
    expect(await pair.atWarehouse("SELECT file FROM undercoat.rejected WHERE left_run IS NULL")).toEqual([
      { file: "2026-03-01" },
    ]);
  });

  test("one that is cut in the middle changes nothing, and is gone on from", async () => {
    const whole = report({ parameters: { from: "2026-03-01", to: "2026-03-04", split: "day" } });
    let down = true;
    const serve = () =>
      web.answer((_, response, url) => {
        const day = url.searchParams.get("from") ?? "";
        if (down && day === "2026-03-02") return response.writeHead(400).end("no");
        json(response, `{"rows":[{"till":"a","amount":${Number(day.slice(-2))}}]}`);
      });
    serve();
    const typed = { ...whole, from: { ...whole.from, types: { till: "text", amount: "numeric" } } };
    await expect(app().run(typed)).rejects.toThrow(/400/);
    expect(await pair.atWarehouse("SELECT to_regclass('landing.taking') AS is")).toEqual([{ is: null }]);
    down = false;
    serve();
    const lines: string[] = [];
    const { proof } = await app().run(typed, { report: { ...quiet, line: (text) => lines.push(text) } });
    expect(lines.join("\n")).toMatch(/1 page had been read before/);
    expect(web.take().filter((asked) => asked.includes("from=2026-03-01"))).toEqual([]);
    expect([proof.verdict, (await stands()).length]).toEqual(["proved", 3]);
  });

  test.each([
    [{ parameters: { from: "1990-01-01", to: "2026-03-04", split: "day" } }, {}, /more than 5000 parts/],
    [{}, { mode: "append" as const, key: ["period"] }, /mode is replace or upsert/],
    [{}, { mode: "upsert" as const, key: ["till"] }, /the key names period too/],
    [{ period: { column: "till" } }, {}, /have a member till of their own/],
  ])("is refused where %o and %o don't fit", async (from, into, words) => {
    await expect(app().run(report(from, into))).rejects.toThrow(words);
  });
});

describe("the Till reports", () => {
  const account = (at: number, path = "/takings"): { credentials: CredentialsOf<"http">; load: Load } => {
    const { name = "", key = "" } = till.accounts[at] ?? {};
    return {
      credentials: {
        name: `till-${name}`,
        settings: {
          kind: "http",
          url: till.url,
          describe: "/openapi.json",
          auth: { key: { header: "X-Api-Key" } },
        },
        password: key,
      },
      load: {
        from: {
          connection: `till-${name}`,
          path,
          records: "rows",
          parameters: {
            from: "today-P10D",
            to: "today+P1D",
            split: "day",
            dimensions: "till,product",
            measures: "sales,amount",
          },
          period: { column: "day", again: "P3D", ends: "included" },
          origin: "account",
        },
        into: {
          table: "landing.sale",
          part: `account = 'till-${name}'`,
          mode: "upsert",
          key: ["account", "day", "till", "product"],
          deleted: "remove",
        },
        proof: { figures: ["rows", "sum(amount)"] },
      },
    };
  };

  test("feed one table from two accounts, each proved by itself", async () => {
    const [north, south] = [account(0), account(1)];
    const one = await pair.between(north.credentials).run(north.load);
    const two = await pair.between(south.credentials).run(south.load);
    expect([one.proof.verdict, two.proof.verdict, one.proof.slices.length]).toEqual(["proved", "proved", 11]);
    const counted = async () =>
      pair.atWarehouse("SELECT account, count(*)::text AS rows FROM landing.sale GROUP BY 1 ORDER BY 1");
    expect(await counted()).toEqual([
      { account: "till-north", rows: one.tally.new },
      { account: "till-south", rows: two.tally.new },
    ]);
    till.passHour();
    const again = await pair.between(north.credentials).run(north.load);
    expect(again.proof).toMatchObject({ verdict: "proved", how: "received" });
    expect(again.proof.slices).toHaveLength(4);
    expect(again.findings.asked?.left).toMatchObject({ told: { left: expect.any(Number) }, minute: null, hour: null });
    expect(Number(again.tally.changed)).toBeGreaterThan(0);
    expect(Number(again.tally.deleted)).toBe(1);
    expect((await counted())[1]?.rows).toBe(two.tally.new);
    expect((await pair.between(north.credentials).prove(north.load)).proof.verdict).toBe("proved");
  });

  test("say what they can be asked by", async () => {
    const { credentials } = account(0);
    const source = sourceFor(credentials);
    const [only] = await source.datasets();
    expect(only?.name).toBe("/takings");
    const { auth: _, ...unsigned } = credentials.settings;
    const stranger = sourceFor({ name: "stranger", settings: unsigned, password: "" });
    expect(await stranger.signIn?.()).toEqual({ title: "Till reports", ways: [{ way: "key", header: "X-Api-Key" }] });
    const bare = { connection: credentials.name, path: "/takings" };
    const found = await source.completed?.(bare);
    expect(found).toMatchObject({
      records: "rows",
      parameters: { from: "today-P30D", to: "today", split: "day" },
      period: { ends: "included" },
    });
    const proposal = await source.propose?.(bare, new AbortController().signal);
    expect(proposal?.tried.at(-1)?.words).toMatch(/^to is the last day that counts: from .* there are \d+ records$/);
    const glance = await source.glance?.(found ?? bare);
    expect(glance?.choices?.[0]).toEqual({ parameter: "dimensions", values: ["till", "product"] });
    const dataset = await source.dataset({ schema: ".", table: "/takings" });
    expect(suggestLoad(found ?? bare, { schema: "a", table: "b" }, dataset)).toMatchObject({
      load: { into: { mode: "replace" }, proof: { by: { column: "period", slice: "day" } } },
      why: "each day of the report takes the place of its own rows",
    });
  });
});
