import type { Load } from "@undercoat/core/pipeline/pipeline";
import { sourceFor } from "@undercoat/engine/source/registry";
import { type Crew, openCrew } from "@undercoat/standins/crew";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { sourceContract } from "./contract.ts";
import { officeOf } from "./office.ts";
import { makePair, type Pair } from "./pair.ts";
import { json, makeWeb, type Web } from "./web.ts";

let pair: Pair;
let crew: Crew;
let web: Web;
beforeAll(async () => {
  pair = await makePair("odata");
  crew = await openCrew();
  web = await makeWeb();
});
afterAll(async () => {
  await Promise.all([pair.close(), crew.close(), web.close()]);
});
beforeEach(() => pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE"));

const office = () => officeOf(crew);
const shifts: Load = {
  from: { connection: "crew", table: "Shifts" },
  watermark: { column: "UpdatedAt" },
  into: { table: "landing.shift", mode: "upsert", key: ["PersonId", "Number"] },
  proof: { figures: ["rows", "sum(Hours)"] },
};
const edmx = (type: string, sets: string) =>
  `<edmx:Edmx xmlns:edmx="e"><edmx:DataServices><Schema Namespace="N">${type}<EntityContainer Name="C">${sets}</EntityContainer></Schema></edmx:DataServices></edmx:Edmx>`;

sourceContract("A service of OData", {
  pair: () => pair,
  credentials: () => ({ name: "service", settings: { kind: "odata", url: web.url }, password: "" }),
  from: { table: "Samples" },
  item: { schema: ".", table: "Samples" },
  absent: { table: "Nowhere" },
  firstStep: "address",
  furnish: async (rows) => {
    const record = ([id, name, fare, at]: (typeof rows)[number]) =>
      `{"@odata.etag":"x${id}","id":${id},"name":${JSON.stringify(name)},"fare":${fare},"at":"${at.replace(" ", "T").replace("+00", "Z")}"}`;
    const properties = `<Property Name="id" Type="Edm.Int32" Nullable="false"/><Property Name="name" Type="Edm.String"/><Property Name="fare" Type="Edm.Decimal" Precision="18" Scale="2"/><Property Name="at" Type="Edm.DateTimeOffset" Precision="6"/>`;
    web.answer((_, response, url) => {
      if (url.pathname === "/$metadata")
        return response
          .writeHead(200)
          .end(
            edmx(
              `<EntityType Name="S"><Key><PropertyRef Name="id"/></Key>${properties}</EntityType>`,
              '<EntitySet Name="Samples" EntityType="N.S"/>',
            ),
          );
      if (url.pathname !== "/Samples") return response.writeHead(404).end();
      const from = Number(url.searchParams.get("p") ?? 0);
      const next = from + 25 < rows.length ? `,"@odata.nextLink":"Samples?p=${from + 25}"` : "";
      return json(
        response,
        `{"@odata.context":"c","value":[${rows
          .slice(from, from + 25)
          .map(record)
          .join(",")}]${next}}`,
      );
    });
  },
});

describe("the Crew office", () => {
  test("names its sets with the keys and types of its metadata, those of base types too", async () => {
    const source = sourceFor(office());
    expect((await source.datasets()).map(({ name }) => name)).toEqual(["People", "People/Shifts", "Shifts"]);
    const { columns, proposal } = await source.dataset({ schema: ".", table: "Shifts" });
    expect(Object.fromEntries(columns.map(({ name, fits = "text" }) => [name, fits]))).toEqual({
      UpdatedAt: "timestamp with time zone",
      PersonId: "integer",
      Number: "bigint",
      Vessel: "text",
      BeginsAt: "timestamp with time zone",
      Hours: "numeric(6,3)",
      Open: "boolean",
    });
    expect(proposal).toMatchObject({ key: ["PersonId", "Number"], changes: "UpdatedAt" });
    const people = await source.dataset({ schema: ".", table: "People" });
    expect(people.columns.find(({ name }) => name === "Phone")?.fits).toBe("jsonb");
    expect(people.columns.find(({ name }) => name === "Rank")?.fits ?? "text").toBe("text");
  });

  test("is read page by page with exact numbers, and then what changed alone", async () => {
    const first = await pair.between(office()).run(shifts);
    expect(first.tally).toMatchObject({ read: "2400", new: "2400", rejected: "0" });
    expect(first.proof).toMatchObject({ verdict: "proved", depth: "cells" });
    expect(first.findings.asked?.counts).toEqual({ least: "2400", most: "2400", read: "2400" });
    expect(
      await pair.atWarehouse(
        `SELECT max("Number")::text AS number, sum("Hours")::text AS hours FROM landing.shift WHERE "PersonId" = 1`,
      ),
    ).toEqual([{ number: "9007199254740039", hours: "317.500" }]);
    const { added, changed } = crew.passHour();
    const next = await pair.between(office()).run(shifts);
    expect(next.tally).toMatchObject({ new: String(added), changed: String(changed), rejected: "0" });
    expect(Number(next.tally.read)).toBeLessThan(20);
    expect(next.findings.asked?.requests.at(-1)?.address).toContain("$filter=UpdatedAt ge 20");
    // What was struck off is found by a proof, and taken away where that is asked for.
    expect((await pair.between(office()).prove(shifts, true)).proof.verdict).toBe("disagrees");
    const removing: Load = { ...shifts, into: { ...shifts.into, deleted: "remove" } };
    expect((await pair.between(office()).run(removing)).tally.deleted).toBe("1");
    const { proof } = await pair.between(office()).prove(removing, true);
    expect(proof).toMatchObject({ verdict: "proved", how: "read again" });
  });
});

test("columns that a load reads are asked for, and no others", async () => {
  const few: Load = {
    ...shifts,
    columns: { person: "PersonId", number: "Number", long: { as: '"Hours"::numeric > 8', type: "boolean" } },
    into: { table: "landing.shift", mode: "upsert", key: ["person", "number"] },
    proof: { figures: ["rows"] },
  };
  const { findings, proof, tally } = await pair.between(office()).run(few);
  expect([proof.verdict, tally.rejected]).toEqual(["proved", "0"]);
  // What the watermark is taken from is read too.
  expect(findings.asked?.requests.at(-1)?.address).toContain("$select=UpdatedAt,PersonId,Number,Hours&");
});

test("what entities lead to is a set of its own, with the key of whom it belongs to", async () => {
  const within: Load = {
    from: { connection: "crew", table: "People/Shifts" },
    into: { table: "landing.shift", mode: "upsert", key: ["PersonId", "Number"] },
    proof: { figures: ["rows", "sum(Hours)"] },
  };
  const first = await pair.between(office()).run(within);
  const [{ rows } = {}] = await pair.atWarehouse("SELECT count(*)::text AS rows FROM landing.shift");
  expect([first.tally.rejected, first.proof.verdict, rows]).toEqual(["0", "proved", first.tally.new]);
  expect(first.findings.asked?.requests.at(-1)?.address).toContain("$expand=Shifts($select=");
  expect(
    await pair.atWarehouse(
      `SELECT "Hours"::text AS hours FROM landing.shift WHERE "Number" = 9007199254740039 AND "PersonId" = 1`,
    ),
  ).toEqual([{ hours: "11.875" }]);
});

test("of a list that is given in part alone, the load ends with the fact", async () => {
  const properties = `<Property Name="id" Type="Edm.Int32" Nullable="false"/>`;
  web.answer((_, response, url) => {
    if (url.pathname === "/$metadata")
      return response
        .writeHead(200)
        .end(
          edmx(
            `<EntityType Name="S"><Key><PropertyRef Name="id"/></Key>${properties}<NavigationProperty Name="Lines" Type="Collection(N.L)"/></EntityType><EntityType Name="L"><Key><PropertyRef Name="no"/></Key><Property Name="no" Type="Edm.Int32" Nullable="false"/></EntityType>`,
            '<EntitySet Name="Sales" EntityType="N.S"/>',
          ),
        );
    return json(response, '{"value":[{"id":1,"Lines":[{"no":1}],"Lines@odata.nextLink":"Sales(1)/Lines?p=2"}]}');
  });
  const service = { name: "sales", settings: { kind: "odata" as const, url: web.url }, password: "" };
  const lines: Load = {
    from: { connection: "sales", table: "Sales/Lines" },
    into: { table: "landing.line", mode: "upsert", key: ["id", "no"] },
  };
  await expect(pair.between(service).run(lines)).rejects.toThrow("Of Lines only a part is given at once");
});

test("trouble that comes and goes is waited out", async () => {
  crew.trouble({ fails: 3, cuts: 4 });
  const { tally, proof } = await pair.between(office()).run(shifts);
  crew.trouble({});
  expect([tally.new === tally.read, proof.verdict]).toEqual([true, "proved"]);
});

test.each([
  ["no XML", "<edmx:Edmx", /no XML/],
  ["another document", "<html></html>", /does not begin with Edmx/],
])("metadata that is %s is refused in words", async (_, body, words) => {
  web.answer((_request, response) => response.writeHead(200).end(body));
  const source = sourceFor({ name: `odd ${words}`, settings: { kind: "odata", url: web.url }, password: "" });
  await expect(source.datasets()).rejects.toThrow(words);
});
