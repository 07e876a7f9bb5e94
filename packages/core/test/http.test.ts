import { JsonFault, listOf, membersOf } from "@undercoat/core/file/json";
import { Body } from "@undercoat/core/http/body";
import { guessAnswer, guessFields } from "@undercoat/core/http/guess";
import { linksOf } from "@undercoat/core/http/link";
import { askedOf, readMetadata } from "@undercoat/core/http/odata";
import { readOpenApi } from "@undercoat/core/http/openapi";
import { firstPage, nextPage } from "@undercoat/core/http/page";
import { sinceValue } from "@undercoat/core/http/since";
import { allowance, growingWait, retryAfter } from "@undercoat/core/http/wait";
import type { PageForm } from "@undercoat/core/pipeline/pipeline";
import fc from "fast-check";
import { describe, expect, test } from "vitest";

describe("links of a header", () => {
  test.each<[string, Record<string, string>]>([
    ['<https://a.example/?page=2>; rel="next"', { next: "https://a.example/?page=2" }],
    ["</b>; rel=next, </a>; rel=prev", { next: "/b", prev: "/a" }],
    ['</a,b>; title="x, y"; rel="Next last"', { next: "/a,b", last: "/a,b" }],
    ['</1>; rel="next", </2>; rel="next"', { next: "/1" }],
    ["</a>", {}],
    ["nonsense", {}],
    ["", {}],
  ])("%s", (header, links) => expect(Object.fromEntries(linksOf(header))).toEqual(links));

  test("any target and relation that is written is read back", () =>
    fc.assert(
      fc.property(fc.webUrl(), fc.stringMatching(/^[a-z]{1,8}$/), (url, rel) => {
        expect(linksOf(`<${url}>; rel="${rel}"`).get(rel)).toBe(url);
      }),
    ));
});

describe("how long to wait", () => {
  const now = Date.parse("2026-11-27T10:00:00Z");
  test.each([
    ["7", 7000],
    ["0", 0],
    ["Fri, 27 Nov 2026 10:00:05 GMT", 5000],
    ["Fri, 27 Nov 2026 09:00:00 GMT", 0],
    ["soon", null],
    [undefined, null],
  ])("Retry-After %s", (header, wait) => expect(retryAfter(header, now)).toBe(wait));

  test.each([
    [
      { "ratelimit-remaining": "0", "ratelimit-reset": "30" },
      { left: 0, resets: 30_000 },
    ],
    [
      { "x-ratelimit-remaining": "5", "x-ratelimit-reset": String(now / 1000 + 60) },
      { left: 5, resets: 60_000 },
    ],
    [{ "ratelimit-remaining": "12" }, { left: 12, resets: null }],
    [{}, null],
  ])("%o", (headers, told) => expect(allowance(headers, now)).toEqual(told));

  test("waits grow, and never past half a minute and a quarter of it", () => {
    fc.assert(
      fc.property(fc.nat(60), fc.double({ min: 0, max: 1, noNaN: true }), (tries, spread) => {
        expect(growingWait(tries, spread)).toBeLessThanOrEqual(37_500);
        expect(growingWait(tries + 1, 0)).toBeGreaterThanOrEqual(growingWait(tries, 0));
      }),
    );
  });
});

describe("an answer", () => {
  test.each<[string, string | undefined, string | null]>([
    ['{"a":{"b":"x"}}', "a.b", "x"],
    ['{"a.b":"own","a":{"b":"inner"}}', "a.b", "own"],
    ['{"@odata.nextLink":"/p2"}', "@odata.nextLink", "/p2"],
    ['{"a":9007199254740993}', "a", "9007199254740993"],
    ['{"a":null}', "a", null],
    ['{"a":"b"}', "a.b", null],
    ['{"b":{"a":1},"a":2}', "a", "2"],
    ["[1]", undefined, "[1]"],
  ])("%s at %s", (text, path, value) => expect(new Body(text).value(path)?.text ?? null).toBe(value));

  test.each([
    ['{"data":[1]', "data", /does not end/],
    ['{"data":{}}x', undefined, /behind its end/],
    ['{"data":7}', "data", /no list at data/],
    ["7", undefined, /neither a list nor an object/],
    ["", undefined, /is empty/],
  ])("%s has no records at %s", (text, path, words) => {
    expect(() => new Body(text, path).records(path)).toThrow(words);
    expect(() => new Body(text, path).records(path)).toThrow(JsonFault);
  });

  test("whatever is written as records is read as the same records, wherever they stand", () => {
    const record = fc.dictionary(fc.string({ maxLength: 8 }), fc.jsonValue({ maxDepth: 2 }), { maxKeys: 5 });
    fc.assert(
      fc.property(fc.array(record), fc.nat(2), fc.boolean(), (records, depth, spaced) => {
        const path = ["data", "of", "all"].slice(0, depth);
        const body = path.reduceRight<unknown>(
          (inner, name) => ({ before: '"]},', [name]: inner, after: [{}] }),
          records,
        );
        const text = JSON.stringify(body, null, spaced ? 2 : 0);
        const found = new Body(text, path.join(".")).records(path.length ? path.join(".") : undefined);
        expect(found.map((one) => JSON.parse(one))).toEqual(JSON.parse(JSON.stringify(records)));
        for (const one of found) {
          const { values, nested } = membersOf(one);
          const plain = JSON.parse(one) as Record<string, unknown>;
          expect([...values.keys()].toSorted()).toEqual(Object.keys(plain).toSorted());
          for (const [name, value] of values) {
            const told = plain[name];
            if (nested.has(name)) expect(JSON.parse(value ?? "")).toEqual(told);
            else expect(value).toBe(told === null ? null : typeof told === "string" ? told : JSON.stringify(told));
          }
        }
      }),
    );
  });

  test.each([
    '{"a":01}',
    '{"a":+1}',
    '{"a":.5}',
    '{"a":nul}',
    '{"a":"\u0001"}',
    '{"a":[1,]}',
    '{"a":1,}',
    '{"a" 1}',
    '{"a":1 "b":2}',
    '{"a":"\\x"}',
    '{"a":"x}',
  ])("%s is no record", (text) => expect(() => membersOf(text)).toThrow(JsonFault));

  test("lists list", () => {
    expect(new Body('{"parts":["/a",null,"b\\u0041"]}').list("parts")).toEqual(["/a", "bA"]);
    expect(new Body('{"parts":7}').list("parts")).toBeNull();
    expect(listOf("[ ]", 0)).toEqual([]);
  });
});

describe("pages", () => {
  const answer = (body: unknown, records: number, link?: string) => ({
    headers: { link },
    body: new Body(JSON.stringify(body)),
    records,
  });

  test("counted pages pass every record, whatever their size, by number and by offset", () => {
    fc.assert(
      fc.property(fc.nat(60), fc.integer({ min: 2, max: 9 }), fc.boolean(), (count, size, byOffset) => {
        const form: PageForm = byOffset
          ? { offset: "from", size, sizeAs: "limit" }
          : { number: "page", size, sizeAs: "limit" };
        const seen: number[] = [];
        let state: ReturnType<typeof nextPage> = firstPage("http://a/r?zone=n", form);
        for (let step = 0; state; step++) {
          expect(step).toBeLessThan(100);
          const url = new URL(state.address);
          expect([url.searchParams.get("zone"), url.searchParams.get("limit")]).toEqual(["n", String(size)]);
          const from = byOffset
            ? Number(url.searchParams.get("from"))
            : (Number(url.searchParams.get("page")) - 1) * size;
          const page = Array.from({ length: Math.max(0, Math.min(size, count - from)) }, (_, at) => from + at);
          if (state.overlaps) expect(page[0]).toBe(seen.at(-1));
          seen.push(...page.slice(state.overlaps ? 1 : 0));
          state = nextPage(state, form, answer([], page.length));
        }
        expect(seen).toEqual(Array.from({ length: count }, (_, at) => at));
      }),
    );
  });

  test.each<[string, PageForm, ReturnType<typeof answer>, string | null]>([
    ["a link", { link: true }, answer([], 1, "<?p=2>; rel=next"), "http://a/r?p=2"],
    ["no link", { link: true }, answer([], 1), null],
    ["an address", { next: "n" }, answer({ n: "/r?p=2" }, 1), "http://a/r?p=2"],
    ["an empty address", { next: "n" }, answer({ n: "" }, 1), null],
    ["a cursor", { cursor: "c", as: "after" }, answer({ c: "a&b" }, 1), "http://a/r?p=1&after=a%26b"],
    ["a cursor that is a number", { cursor: "c", as: "after" }, answer({ c: 7 }, 1), "http://a/r?p=1&after=7"],
    ["no cursor", { cursor: "c", as: "after" }, answer({ c: null }, 1), null],
  ])("%s leads on, or ends", (_, form, told, address) =>
    expect(nextPage(firstPage("http://a/r?p=1", form), form, told)?.address ?? null).toBe(address),
  );

  test("an answer that leads to itself is an error", () =>
    expect(() => nextPage(firstPage("http://a/r", { next: "n" }), { next: "n" }, answer({ n: "/r" }, 1))).toThrow(
      "leads back",
    ));
});

test.each([
  ["2026-11-27 10:00:00.5+00", "timestamp with time zone", null, {}, "2026-11-27T10:00:00.5Z"],
  ["2026-11-27 10:00:00+05:30", "timestamp with time zone", "PT10M", {}, "2026-11-27T04:20:00Z"],
  ["2026-03-29 00:30:00+00", "timestamp with time zone", "P1D", {}, "2026-03-28T00:30:00Z"],
  ["2026-11-27 10:00:00", "timestamp without time zone", "PT1H", {}, "2026-11-27T09:00:00"],
  ["2026-11-27", "date", null, {}, "2026-11-27"],
  ["2026-11-27", "date", null, { excludes: true as const }, "2026-11-26"],
  ["2026-11-27 10:00:00+00", "timestamp with time zone", null, { excludes: true as const }, "2026-11-27T09:59:59Z"],
  ["2026-11-27 10:00:00.9+00", "timestamp with time zone", null, { as: "seconds" as const }, "1795773600"],
  ["2026-11-27 10:00:00.9+00", "timestamp with time zone", null, { as: "milliseconds" as const }, "1795773600900"],
  ["9007199254740993", "bigint", "10", {}, "9007199254740983"],
  ["7", "bigint", null, { excludes: true as const }, "6"],
])("a watermark %s (%s) less %s asks for %o", (value, type, lookBack, form, asked) =>
  expect(sinceValue(form, { value, type, lookBack })).toBe(asked),
);

describe("an answer of an unknown application", () => {
  const many = Array.from({ length: 5 }, (_, at) => ({ id: at, updated_at: "2026-11-27T10:00:00Z", name: "x" }));
  test.each<[string, string, object | unknown[], string | null, PageForm]>([
    [
      "a list, an address with an offset",
      "http://a/r?offset=0&limit=5",
      many,
      null,
      { offset: "offset", size: 5, sizeAs: "limit" },
    ],
    ["a cursor", "http://a/r", { items: many, next_cursor: "abc" }, "items", { cursor: "next_cursor", as: "cursor" }],
    [
      "an address",
      "http://a/r",
      { result: { rows: many }, links: { next: "/r?p=2" } },
      "result.rows",
      { next: "links.next" },
    ],
    ["a page's number", "http://a/r", { page: 1, pages: 9, rows: many }, "rows", { number: "page", size: 5 }],
    [
      "the longer of two lists",
      "http://a/r",
      { warnings: [{ a: 1 }], rows: many, page: 1 },
      "rows",
      { number: "page", size: 5 },
    ],
  ])("%s", (_, address, body, records, page) => {
    const guess = guessAnswer(address, {}, JSON.stringify(body));
    expect([guess.records, guess.pages[0]]).toEqual([records, page]);
  });

  test("which member identifies a record, and which tells of its changes", () => {
    const told = (rows: object[]) => guessFields(rows.map((row) => JSON.stringify(row)));
    expect(told(many)).toEqual({ key: "id", changes: "updated_at" });
    // What stands twice identifies nothing, and what is missing once neither.
    expect(
      told([
        { id: 1, ref_id: 1 },
        { id: 1, ref_id: 2 },
      ]),
    ).toEqual({ key: "ref_id", changes: null });
    expect(told([{ id: 1 }, { id: null }])).toEqual({ key: null, changes: null });
    expect(told([])).toEqual({ key: null, changes: null });
  });

  test("no JSON is no answer", () => expect(() => guessAnswer("http://a/", {}, "<p>")).toThrow(JsonFault));
});

describe("an OpenAPI document", () => {
  const document = (paths: object, more: object = {}) =>
    readOpenApi(JSON.stringify({ openapi: "3.1.0", info: { title: "T" }, paths, ...more }));
  const get = (schema: object, parameters: object[] = [], headers = {}) => ({
    get: { parameters, responses: { 200: { headers, content: { "application/json": { schema } } } } },
  });
  const query = (...names: string[]) =>
    names.map((name) => ({ name, in: "query", schema: { type: "integer", maximum: 500 } }));
  const item = {
    allOf: [
      { $ref: "#/components/schemas/Base" },
      {
        type: "object",
        required: ["fare"],
        properties: { fare: { type: "number" }, tags: { type: "array", items: {} } },
      },
    ],
  };
  const components = {
    schemas: {
      Base: {
        type: "object",
        required: ["id"],
        properties: { id: { type: "integer" }, changed_at: { type: ["string", "null"], format: "date-time" } },
      },
      Loop: { $ref: "#/components/schemas/Loop" },
    },
    securitySchemes: { a: { type: "apiKey", in: "header", name: "X-Key" }, b: { type: "http", scheme: "bearer" } },
  };

  test("tells of fields and types, also those taken from others, of pages and of what changed", () => {
    const { resources, signIn } = document(
      {
        "/r": get(
          { type: "object", properties: { rows: { type: "array", items: item }, next: { type: "string" } } },
          query("cursor", "limit", "changed_since"),
        ),
      },
      { components },
    );
    expect(resources[0]).toMatchObject({
      path: "/r",
      records: "rows",
      key: "id",
      changes: "changed_at",
      page: { cursor: "next", as: "cursor", size: 500, sizeAs: "limit" },
      since: { parameter: "changed_since" },
    });
    expect(resources[0]?.fields.map(({ name, type, required }) => [name, type, required])).toEqual([
      ["id", "bigint", true],
      ["changed_at", "timestamp with time zone", false],
      ["fare", "numeric", true],
      ["tags", "jsonb", false],
    ]);
    expect(signIn).toEqual([{ way: "key", header: "X-Key" }, { way: "bearer" }]);
  });

  test.each<[string, object, PageForm | null]>([
    ["a link header", get({ type: "array", items: item }, [], { Link: {} }), { link: true }],
    [
      "an offset",
      get({ type: "array", items: item }, query("offset", "per_page")),
      { offset: "offset", size: 500, sizeAs: "per_page" },
    ],
    ["nothing", get({ type: "array", items: item }), null],
  ])("pages by %s", (_, path, page) =>
    expect(document({ "/r": path }, { components }).resources[0]?.page).toEqual(page),
  );

  test("what reads no list, needs more than its path, or leads round in a circle is left out", () => {
    const list = { type: "array", items: item };
    expect(
      document(
        {
          "/one": get({ type: "object", properties: { id: {} } }),
          "/r/{id}": get(list),
          "/loop": get({ type: "array", items: { $ref: "#/components/schemas/Loop" } }),
          "/post": { post: {} },
        },
        { components },
      ).resources,
    ).toEqual([]);
  });

  test("that is made to be endless is refused", () => {
    const schemas = Object.fromEntries(
      Array.from({ length: 12 }, (_, at) => [
        `S${at}`,
        { allOf: Array.from({ length: 9 }, () => ({ $ref: `#/components/schemas/S${at + 1}` })) },
      ]),
    );
    const list = { type: "array", items: { $ref: "#/components/schemas/S0" } };
    expect(() => document({ "/r": get(list) }, { components: { schemas } })).toThrow("refers to itself too often");
  });

  test("is read as YAML too, and what is none is refused in words", () => {
    expect(readOpenApi("openapi: 3.0.0\ninfo: { title: Y }\npaths: {}").title).toBe("Y");
    expect(() => readOpenApi("swagger: '2.0'")).toThrow("no OpenAPI 3 document");
    expect(() => readOpenApi("{")).toThrow("neither JSON nor YAML");
  });
});

test("which sets' changes a service tells stands in its metadata, at the set, beside it or for all", () => {
  const tracked = (within: string, beside = "", own = "") =>
    readMetadata(
      `<e:Edmx xmlns:e="x"><e:DataServices><Schema Namespace="N"><EntityType Name="T"><Key><PropertyRef Name="A"/></Key><Property Name="A" Type="Edm.Int64"/></EntityType><EntityContainer Name="C"><EntitySet Name="One" EntityType="N.T">${within}</EntitySet><EntitySet Name="Two" EntityType="N.T"/>${own}</EntityContainer>${beside}</Schema></e:DataServices></e:Edmx>`,
    ).map((set) => set.tracked ?? false);
  const term = (says: string, name = "Org.OData.Capabilities.V1") =>
    `<Annotation Term="${name}.ChangeTracking"><Record>${says}</Record></Annotation>`;
  expect(tracked("")).toEqual([false, false]);
  expect(tracked(term(""))).toEqual([true, false]);
  expect(tracked(term('<PropertyValue Property="Supported" Bool="false"/>'))).toEqual([false, false]);
  expect(tracked(term('<PropertyValue Property="FilterableProperties" Bool="false"/>'))).toEqual([true, false]);
  expect(tracked("", `<Annotations Target="N.C/Two">${term("", "Capabilities")}</Annotations>`)).toEqual([false, true]);
  expect(tracked(term('<PropertyValue Property="Supported"><Bool>false</Bool></PropertyValue>'), "", term(""))).toEqual(
    [false, true],
  );
});

test("an entity set is asked for its own columns, in the order of its whole key", () => {
  const [set] = readMetadata(
    '<e:Edmx xmlns:e="x"><e:DataServices><Schema Namespace="N"><EntityType Name="T"><Key><PropertyRef Name="A"/><PropertyRef Name="B"/></Key><Property Name="A" Type="Edm.Int64"/><Property Name="B" Type="Edm.String"/><Property Name="C" Type="Edm.Decimal" Precision="5" Scale="variable"/></EntityType><EntityContainer Name="C"><EntitySet Name="Things" EntityType="N.T"/></EntityContainer></Schema></e:DataServices></e:Edmx>',
  );
  expect(set && askedOf(set)).toEqual({ $count: "true", $select: "A,B,C", $orderby: "A,B" });
  expect(set?.fields.map(({ type }) => type)).toEqual(["bigint", "text", "numeric"]);
});
