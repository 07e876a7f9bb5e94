import { afterAll, beforeAll, describe, expect, test } from "vitest";
import { environment, makeHouse, projectFile, type TestHouse, trips } from "./house.ts";

/** Wrong input is answered with what is wrong, and never with a failure of the product itself. */
let house: TestHouse;
beforeAll(async () => {
  house = await makeHouse("input");
  await house.sql(house.names.source, trips);
  await house.ask("POST", "/project", { text: projectFile(house), environment: environment() });
});
afterAll(() => house.close());

const load = {
  from: { connection: "trips", table: "public.trip" },
  into: { table: "landing.other", mode: "replace" },
};
const preview = (name: string, expression?: string) => ({
  pipeline: "trips",
  load: name,
  definition: {
    title: "Trips",
    warehouse: "store",
    loads: { other: expression === undefined ? load : { ...load, columns: { x: { as: expression } } } },
  },
});
/** Nine lists of nine references each to the one before. */
const bomb = ["undercoat: 1", "a: &a [x, x, x, x, x, x, x, x, x]"]
  .concat(
    "bcdefghij".split("").map((name, at) => `${name}: &${name} [${Array(9).fill(`*${"abcdefghi"[at]}`).join(", ")}]`),
  )
  .join("\n");

test.each<[string, string, unknown, number, RegExp]>([
  ["GET", "/standing/ledger?zone=Mars/Olympus", undefined, 422, /^Mars\/Olympus is not a time zone/],
  ["GET", "/runs?before=99999999999999999999", undefined, 422, /^before is a whole number/],
  ["GET", "/runs?before=1e3", undefined, 422, /^before is a whole number/],
  ["GET", "/runs/1/lines?after=1e400", undefined, 404, /no run 1/],
  ["GET", "/rejected?offset=99999999999999999999", undefined, 422, /^offset is a whole number/],
  ["GET", "/rejected?offset=-1", undefined, 422, /^offset is a whole number/],
  ["GET", "/connections/nowhere/rows?schema=a&table=b", undefined, 404, /no connection nowhere/],
  [
    "GET",
    "/connections/trips/rows?schema=public&table=trip&limit=Infinity",
    undefined,
    422,
    /^limit is a whole number/,
  ],
  ["GET", "/pipelines/constructor", undefined, 404, /no pipeline constructor/],
  ["POST", "/pipelines/trips/run", { loads: ["constructor"] }, 404, /no load constructor/],
  ["POST", "/pipelines/trips/run", { loads: ["__proto__"] }, 422, /may hold letters/],
  [
    "POST",
    "/pipelines/trips/run",
    { scope: { kind: "interval", from: "-infinity", to: "infinity" } },
    422,
    /does not match|from is a date/,
  ],
  ["POST", "/pipelines/suggest", { connection: "nowhere", tables: ["a.b"], schema: "x" }, 404, /no connection nowhere/],
  ["POST", "/pipelines/preview", preview("constructor"), 422, /no load constructor/],
  ["POST", "/pipelines/preview", preview("other", `fare${" + 1".repeat(2400)}`), 422, /nested too deeply/],
  ["POST", "/pipelines/preview", preview("other", "1".repeat(30_000)), 422, /20000 characters/],
  ["POST", "/pipelines/times", { cron: "99 99 * * *" }, 422, /^cron: Invalid value for minute: 99$/],
  ["POST", "/pipelines/times", { every: "PT15M", zone: "Nowhere/Land" }, 422, /not a time zone/],
  ["POST", "/project", { text: bomb, environment: {} }, 422, /The file is wrong/],
])("wrong input is answered in a sentence (%#): %s %s", async (method, path, body, status, words) => {
  const answer = await house.ask(method, path, body);
  expect([answer.status, answer.body.title]).toEqual([status, expect.stringMatching(words)]);
});

test("a file of aliases that multiply is told as that", async () => {
  const { body } = await house.ask("POST", "/project", { text: bomb, environment: {} });
  expect(body.problems[0].message).toBe("The file repeats its parts too often by aliases");
});

const table = { connection: "trips", table: "public.trip" };
test.each<[string, object, "where" | "query", string | null, RegExp]>([
  ["a word that is no column", { ...table, where: " fare > fair" }, "where", "fair", /column "fair" does not exist/],
  ["a mistake of form", { ...table, where: "fare >" }, "where", null, /syntax error|ends/],
  ["no condition", { ...table, where: "fare + 1" }, "where", null, /says true or false/],
  ["a query of the table", { ...table, where: "id IN (SELECT 1)" }, "where", "IN", /subquer/],
  ["a column of the query", { connection: "trips", query: "\n SELECT id, nope FROM trip;" }, "query", "nope", /"nope"/],
  ["a call", { connection: "trips", query: "SELECT pg_sleep(1)" }, "query", null, /calls pg_sleep\(\)/],
])("SQL is checked while it is typed, with its place: %s", async (_, from, part, word, says) => {
  const asked = { from, warehouse: "store", table: "landing.trip" };
  const { status, body } = await house.ask("POST", "/pipelines/columns", asked);
  const text = (from as Record<string, string>)[part] ?? "";
  expect(status).toBe(422);
  expect(body.problems).toEqual([
    expect.objectContaining({ path: ["from", part], message: expect.stringMatching(says) }),
  ]);
  if (word !== null) expect(body.problems[0].position).toBe(text.indexOf(word));
});

describe("two creations of one name", () => {
  test("make one pipeline; of six saves over one version one wins", async () => {
    const definition = { title: "Twice", warehouse: "store", loads: { other: load } };
    const made = await Promise.all([1, 2, 3].map(() => house.ask("POST", "/pipelines", { name: "twice", definition })));
    expect(made.map(({ status }) => status).toSorted()).toEqual([201, 409, 409]);
    const { updatedAt } = (await house.ask("GET", "/pipelines/twice")).body;
    const saves = await Promise.all(
      [1, 2, 3, 4, 5, 6].map((number) =>
        house.ask("PUT", "/pipelines/twice", { updatedAt, definition: { ...definition, title: `Save ${number}` } }),
      ),
    );
    expect(saves.map(({ status }) => status).toSorted()).toEqual([200, 409, 409, 409, 409, 409]);
    const won = saves.find(({ status }) => status === 200)?.body;
    expect((await house.ask("GET", "/pipelines/twice")).body).toMatchObject({
      definition: { title: won.definition.title },
      savedBy: "The editor",
    });
  });
});

test("health asks the database", async () => {
  expect((await house.as(null)("GET", "/health")).status).toBe(200);
  const broken = await makeHouse("input_away");
  await broken.house.store.close();
  expect((await broken.as(null)("GET", "/health")).body).toMatchObject({
    status: 503,
    title: "The product's database does not answer",
  });
});
