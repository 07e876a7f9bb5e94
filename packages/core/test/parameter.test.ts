import { placesWith, withParameter } from "@undercoat/core/parameter/make";
import { readDate, readMoment } from "@undercoat/core/parameter/moment";
import {
  givensOf,
  lineOf,
  parameterProblems,
  placedBefore,
  placesOf,
  ResolveError,
  resolve,
  unusedIn,
} from "@undercoat/core/parameter/resolve";
import { constantsIn, filled, placeBefore, valuesIn } from "@undercoat/core/parameter/scan";
import { settableIn } from "@undercoat/core/parameter/template";
import { type Parameter, readValue, ValueError, valueSql } from "@undercoat/core/parameter/value";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import fc from "fast-check";
import { loadModule, parseSync } from "libpg-query";
import { beforeAll, describe, expect, test } from "vitest";

/** A Friday. */
const now = Date.parse("2026-11-27T10:30:00Z");
const reading = { now, zone: "Europe/Oslo" };
const names = (sql: string) => valuesIn(sql).map((mention) => mention.name);

beforeAll(loadModule);

describe("a value in SQL", () => {
  test.each([
    ["a::date >= :since AND b = ANY(:ports)", ["since", "ports"]],
    [":a::text || cast(:b as text)", ["a", "b"]],
    ["x[1:n] = :n AND x[:m] IS NULL", ["n"]],
    ["x[(:lo):(:hi)]", ["lo", "hi"]],
    ["x[1:(:n)]", ["n"]],
    ["ARRAY[:a, :b] || ARRAY [[:c], [:d]]", ["a", "b", "c", "d"]],
    ["'it''s :x' || E'\\':y' || e'\\\\' || :z", ["z"]],
    ["$q$ :a $$ :b $q$ || $$ :c $$ || :d", ["d"]],
    ['"a:b" = :c AND "say "":d""" = 1', ["c"]],
    ["/* :a /* :b */ :c */ :d -- :e\n AND :f", ["d", "f"]],
    ["U&'\\0041:x' || N':y' || :z", ["z"]],
    ["extract(hour from t) BETWEEN :a AND :b", ["a", "b"]],
    ["12:30", []],
    ["'open :a", []],
    ["/* open :a", []],
    ["$q$ open :a", []],
    ["", []],
  ])("%s", (sql, found) => expect(names(sql)).toEqual(found));

  test("is found among anything else, and nothing else is", () => {
    const quiet = [
      "'a :no'",
      '":no"',
      "$t$:no$t$",
      "/*:no*/",
      "a::no",
      "f(x)",
      "x[1:no]",
      "E'\\':no'",
      "+",
      "-- :no\n",
    ];
    fc.assert(
      fc.property(
        fc.array(fc.oneof(fc.constantFrom(...quiet), fc.stringMatching(/^:[a-m_][a-z0-9_]{0,8}$/))),
        (parts) => {
          const wanted = parts.filter((part) => part.startsWith(":")).map((part) => part.slice(1));
          expect(names(parts.join(" "))).toEqual(wanted);
        },
      ),
    );
  });

  test("can be nothing but a value, whatever it holds", () => {
    const hostile = fc.oneof(
      fc.string({ unit: "binary" }),
      fc.constantFrom("'; DROP TABLE x; --", "\\'; --", "$$", "{a,b}", 'a","b', "\\", "''", "a\u2028b", "😀'"),
    );
    fc.assert(
      fc.property(
        hostile.filter(
          (text) =>
            !text.includes("\0") && !/[\ud800-\udfff]/.test(text.replace(/[\ud800-\udbff][\udc00-\udfff]/g, "")),
        ),
        (text) => {
          const sql = `SELECT 1 WHERE a = ${valueSql(readValue({ type: "text" }, text, reading))}`;
          const tree = parseSync(sql) as any;
          expect(tree.stmts).toHaveLength(1);
          const { rexpr } = tree.stmts[0].stmt.SelectStmt.whereClause.A_Expr;
          expect(rexpr.TypeCast.arg.A_Const.sval.sval ?? "").toBe(text);
        },
      ),
    );
  });

  test.each([
    [{ type: "integer" }, "5", "('5'::integer)"],
    [{ type: "integer" }, 3_000_000_000, "('3000000000'::bigint)"],
    [{ type: "numeric" }, "1.50", "('1.50'::numeric)"],
    [{ type: "boolean" }, true, "('true'::boolean)"],
    [{ type: "date" }, "today-P1Y", "('2025-11-27'::date)"],
    [{ type: "timestamptz" }, "month", "('2026-10-31T23:00:00Z'::timestamptz)"],
    [{ type: "interval" }, "PT90M", "('PT90M'::interval)"],
    [{ type: "text[]" }, ["KIL", 'a"b\\c', "it's"], `(E'{"KIL","a\\\\"b\\\\\\\\c","it''s"}'::text[])`],
    [{ type: "text[]" }, "KIL, SKV", `('{"KIL","SKV"}'::text[])`],
    [{ type: "date[]" }, '["today","month"]', `('{"2026-11-27","2026-11-01"}'::date[])`],
    [{ type: "integer[]" }, [], "('{}'::integer[])"],
  ] as [Parameter, string, string][])("%o of %s", (parameter, given, sql) =>
    expect(valueSql(readValue(parameter, given, reading))).toBe(sql),
  );

  test.each([
    [{ type: "integer" }, "five", /five is not a whole number/],
    [{ type: "integer" }, 2 ** 60, /write it in quotes/],
    [{ type: "integer" }, "9223372036854775808", /not a whole number/],
    [{ type: "numeric" }, "NaN", /not a number/],
    [{ type: "boolean" }, "yes", /neither true nor false/],
    [{ type: "date" }, "2026-02-30", /not a date/],
    [{ type: "date" }, "today-1Y", /not a moment/],
    [{ type: "date" }, "today-PX", /not an ISO 8601 duration/],
    [{ type: "timestamptz" }, "half past", /not a time/],
    [{ type: "interval" }, "2 hours", /not an ISO 8601 duration/],
    [{ type: "text" }, ["a"], /is a list/],
    [{ type: "text" }, "a\0b", /NUL/],
    [{ type: "table" }, "public.a.b", /not a table's name/],
    [{ type: "connection" }, "a b", /not a connection's name/],
    [{ type: "text", oneOf: ["north", "south"] }, "west", /none of north, south/],
    [{ type: "text[]", oneOf: ["KIL"] }, "KIL,SKV", /SKV is none of KIL/],
  ] as [Parameter, string, RegExp][])("%o refuses %s", (parameter, given, says) =>
    expect(() => readValue(parameter, given, reading)).toThrow(says),
  );

  test("a refused value is a ValueError, told as a sentence", () =>
    expect(() => readValue({ type: "date" }, "x", reading)).toThrow(ValueError));
});

describe("a moment told from the present one", () => {
  test.each([
    ["2028-02-29T10:00Z", "today-P1Y", "2027-02-28"],
    ["2028-02-29T10:00Z", "today-P1Y+P1D", "2027-03-01"],
    ["2028-02-29T10:00Z", "today-P4Y", "2024-02-29"],
    ["2026-03-31T10:00Z", "today-P1M", "2026-02-28"],
    ["2026-11-27T10:00Z", "month-P1M", "2026-10-01"],
    ["2026-11-27T10:00Z", "quarter", "2026-10-01"],
    ["2026-11-27T10:00Z", "week", "2026-11-23"],
    ["2026-11-29T23:30Z", "week", "2026-11-30"],
    ["2026-12-31T23:30Z", "year", "2027-01-01"],
    ["2026-11-27T23:30Z", "today", "2026-11-28"],
  ])("on %s the date %s comes to %s in Oslo", (at, text, date) =>
    expect(readDate(text, Date.parse(at), "Europe/Oslo")).toBe(date),
  );

  test.each([
    // The day on which the clock goes forward has 23 hours, the one on which it goes back 25.
    ["2026-03-29T12:00Z", "today", "2026-03-28T23:00:00Z"],
    ["2026-03-29T12:00Z", "today+P1D", "2026-03-29T22:00:00Z"],
    ["2026-03-29T12:00Z", "today+PT24H", "2026-03-29T23:00:00Z"],
    ["2026-10-25T12:00Z", "today+P1D", "2026-10-25T23:00:00Z"],
    ["2026-10-25T12:00Z", "now-P1D", "2026-10-24T11:00:00Z"],
    ["2026-11-27T12:00Z", "2026-03-29T02:30", "2026-03-29T01:30:00Z"],
    ["2026-11-27T12:00Z", "2026-10-25T02:30", "2026-10-25T00:30:00Z"],
    ["2026-11-27T12:00Z", "2026-01-31", "2026-01-30T23:00:00Z"],
    ["2026-11-27T12:00Z", "2026-01-31T06:00+05", "2026-01-31T01:00:00Z"],
    ["2026-11-27T12:00Z", "2026-01-31 06:00:00.123456Z", "2026-01-31T06:00:00.123456Z"],
  ])("on %s the moment %s comes to %s", (at, text, moment) =>
    expect(readMoment(text, Date.parse(at), "Europe/Oslo")).toBe(moment),
  );
});

test("the place of a mistake is told where it was written", () => {
  const sql = "a = :region AND b = :since AND wrong";
  const mentions = valuesIn(sql);
  const give = (name: string) => ({ region: "('a very long region'::text)", since: "('x'::date)" })[name];
  const done = filled(sql, mentions, give);
  for (const part of ["wrong", "AND b", "AND wrong"])
    expect(placeBefore(mentions, give, done.indexOf(part))).toBe(sql.indexOf(part));
  expect(placeBefore(mentions, give, done.indexOf("very"))).toBe(sql.indexOf(":region"));
});

const trips: Pipeline = {
  title: "Trips of {region}",
  warehouse: "warehouse",
  zone: "Europe/Oslo",
  parameters: {
    region: { type: "text", default: "north", oneOf: ["north", "south"] },
    ports: { type: "text[]", default: ["KIL", "SKV"] },
    since: { type: "date", default: "today-P1Y" },
    site: { type: "connection", default: "bookings" },
    source: { type: "dataset", default: "public.trip_north" },
  },
  values: { north: {}, south: { region: "south", source: "public.trip_south" } },
  loads: {
    trip: {
      from: { connection: "{site}", table: "{source}", where: "sailed_on >= :since AND port = ANY(:ports)" },
      columns: { trip_id: "trip_id", region: ":region", sailed_on: "sailed_on" },
      rules: { "fare is plausible": { check: "fare < 10000", from: ":since", of: "sailed_on" } },
      into: { table: "harbour.trip_{region}", mode: "upsert", key: ["trip_id"] },
    },
  },
};
const load = (change: object): Pipeline => ({ ...trips, loads: { trip: { ...trips.loads.trip, ...change } as any } });

describe("a parameter is made from what stands there", () => {
  const plain: Pipeline = {
    title: "Trips",
    warehouse: "store",
    loads: {
      trip: {
        from: {
          connection: "bookings",
          table: "public.trip",
          where: "region = 'north' AND fare > 10.5 AND x = 'it''s'",
        },
        columns: { a: "fare::numeric(12,2) * 2", b: "'2026-01-01'::date - 1" },
        into: { table: "harbour.trip", mode: "upsert", key: ["id"] },
      },
      leg: {
        from: { connection: "bookings", table: "public.leg", where: "region = 'north'" },
        into: { table: "harbour.leg", mode: "replace" },
      },
    },
  };

  test("constants are found: strings and numbers, no types and no parts of them", () => {
    const texts = (sql: string) => constantsIn(sql).map(({ text }) => text);
    expect(texts(plain.loads.trip?.from.where ?? "")).toEqual(["north", "10.5", "it's"]);
    expect(texts("fare::numeric(12,2) * 2")).toEqual(["2"]);
    expect(texts("'P1D'::interval + '5'")).toEqual(["5"]);
    expect(texts("a1 = 1e3 AND \"c2\" = E'x' AND $$y$$ = ''")).toEqual(["1e3", ""]);
  });

  test("in one place, or in all; with its default the pipeline says what it said", () => {
    const connection = { kind: "connection", text: "bookings" } as const;
    expect(placesWith(plain, connection)).toHaveLength(2);
    const all = withParameter(plain, "site", connection);
    expect(Object.values(all.loads).map(({ from }) => from.connection)).toEqual(["{site}", "{site}"]);
    const one = withParameter(plain, "site", connection, ["loads", "leg", "from", "connection"]);
    expect(Object.values(one.loads).map(({ from }) => from.connection)).toEqual(["bookings", "{site}"]);
    const region = withParameter(all, "region", { kind: "constant", text: "'north'" });
    expect(region.loads.leg?.from.where).toBe("region = :region");
    expect(region.parameters).toEqual({
      site: { type: "connection", default: "bookings" },
      region: { type: "text", default: "north" },
    });
    expect(parameterProblems(region, now)).toEqual([]);
    const { definition } = resolve(region, {}, now);
    expect(definition.loads.leg?.from).toEqual({ ...plain.loads.leg?.from, where: "region = ('north'::text)" });
    expect(withParameter(plain, "most", { kind: "constant", text: "10.5" }).parameters?.most).toEqual({
      type: "numeric",
      default: "10.5",
    });
  });
});

describe("a pipeline with parameters", () => {
  test("is resolved for a set: names, SQL, whole values, and how each came", () => {
    const { definition, values } = resolve(trips, { set: "south" }, now);
    expect(definition).toMatchObject({ title: "Trips of south", zone: "Europe/Oslo" });
    expect(definition.parameters).toBeUndefined();
    expect(definition.loads.trip).toMatchObject({
      from: {
        connection: "bookings",
        table: "public.trip_south",
        where: `sailed_on >= ('2025-11-27'::date) AND port = ANY(('{"KIL","SKV"}'::text[]))`,
      },
      columns: { region: "('south'::text)" },
      rules: { "fare is plausible": { from: "2025-11-27" } },
      into: { table: "harbour.trip_south" },
    });
    expect(values.region).toEqual({ text: "south", how: "set" });
    expect(values.since).toEqual({ text: "2025-11-27", how: "default" });
  });

  test("values by hand come before a set's, those before defaults; addresses can be set undeclared", () => {
    const { definition, values } = resolve(
      trips,
      { set: "south", values: { since: "2026-01-01" }, settings: { "trip.from.table": "public.trip_2025" } },
      now,
    );
    expect(definition.loads.trip?.from).toMatchObject({ table: "public.trip_2025" });
    expect(values).toMatchObject({
      since: { text: "2026-01-01", how: "by hand" },
      "trip.from.table": { text: "public.trip_2025", how: "by hand" },
    });
    expect(settableIn(trips).map(({ address, kind }) => [address, kind])).toEqual([
      ["warehouse", "connection"],
      ["trip.from.connection", "connection"],
      ["trip.from.table", "dataset"],
      ["trip.into.table", "table"],
    ]);
  });

  test.each([
    [{ set: "west" }, "no values named west"],
    [{ values: { regoin: "north" } }, "no parameter regoin"],
    [{ values: { region: "west" } }, "none of north, south"],
    [{ settings: { "trip.from.query": "select 1" } }, "nothing that can be set"],
    [{ settings: { "trip.into.table": "harbour" } }, "not a table's name"],
    [{ values: { source: 'public."x" y' } }, "not a table's name"],
  ])("refuses %o", (given, says) => {
    expect(() => resolve(trips, given, now)).toThrow(ResolveError);
    expect(() => resolve(trips, given, now)).toThrow(says);
  });

  test("a value in a name stays in the name", () => {
    const open = { ...trips, parameters: { ...trips.parameters, region: { type: "text" as const, default: "north" } } };
    for (const region of [`a"; drop table x`, "a.b"])
      expect(() => resolve(open, { values: { region } }, now), region).toThrow(ResolveError);
    const { definition } = resolve(open, { values: { region: "North {since} :ports" } }, now);
    // What a value holds is no template.
    expect(definition.loads.trip?.into.table).toBe("harbour.trip_North {since} :ports");
    expect(definition.loads.trip?.columns?.region).toBe("('North {since} :ports'::text)");
  });

  test("without a default needs a value, and says so once", () => {
    const { parameters, values: _, ...rest } = trips;
    const open: Pipeline = { ...rest, parameters: { ...parameters, region: { type: "text" } } };
    expect(() => resolve(open, {}, now)).toThrow("region has no value");
    expect(givensOf({ ...open, values: { north: { region: "north" } } })).toEqual([{ set: "north" }]);
  });

  test(":from and :to stay for the read to fill, and stand nowhere else", () => {
    const reads = load({ from: { connection: "{site}", query: "select * from trip where at >= :from and at < :to" } });
    expect(parameterProblems(reads, now)).toEqual([]);
    expect(resolve(reads, {}, now).definition.loads.trip?.from.query).toContain(":from and at < :to");
    const shaped = load({ columns: { trip_id: "trip_id", region: ":region", asked: ":from" } });
    expect(parameterProblems(shaped, now)).toMatchObject([
      { path: ["loads", "trip", "columns", "asked"], position: 0 },
    ]);
  });

  test.each([
    [
      "undeclared",
      load({ rules: { r: "fare < :most" } }),
      ["loads", "trip", "rules", "r"],
      "There is no parameter most",
    ],
    [
      "undeclared in a name",
      load({ into: { table: "harbour.{regoin}", mode: "upsert", key: ["trip_id"] } }),
      ["loads", "trip", "into", "table"],
      "no parameter regoin",
    ],
    ["a name in SQL", load({ columns: { a: ":site" } }), ["loads", "trip", "columns", "a"], "write {site}"],
    [
      "a list in a name",
      load({ into: { table: "harbour.{ports}", mode: "upsert", key: ["trip_id"] } }),
      ["loads", "trip", "into", "table"],
      "one value",
    ],
    [
      "a wrong default",
      { ...trips, parameters: { ...trips.parameters, since: { type: "date", default: "soon" } } },
      ["parameters", "since", "default"],
      "soon is not a date",
    ],
    [
      "a wrong value of a set",
      { ...trips, values: { south: { region: "west" } } },
      ["values", "south", "region"],
      "none of",
    ],
    [
      "a value for nothing",
      { ...trips, values: { south: { port: "KIL" } } },
      ["values", "south", "port"],
      "no parameter port",
    ],
    [
      "a reserved name",
      { ...trips, parameters: { ...trips.parameters, from: { type: "date" } } },
      ["parameters", "from"],
      "always stands",
    ],
  ] as [string, Pipeline, string[], string][])("%s is told where it stands", (_, pipeline, path, says) => {
    const problems = parameterProblems(pipeline, now);
    expect(problems.map((problem) => problem.path)).toContainEqual(path);
    expect(problems.map((problem) => problem.message).join()).toContain(says);
  });

  test("a parameter that nothing mentions is known", () => {
    expect(unusedIn(trips)).toEqual([]);
    expect(unusedIn({ ...trips, parameters: { ...trips.parameters, spare: { type: "text" } } })).toEqual(["spare"]);
  });

  test("a mistake in resolved SQL is told where it stands in the pipeline", () => {
    const { where = "" } = resolve(trips, {}, now).definition.loads.trip?.from ?? {};
    const problem = { path: ["loads", "trip", "from", "where"], message: "x", position: where.indexOf("AND") };
    expect(placedBefore(trips, {}, now, problem).position).toBe(trips.loads.trip?.from.where?.indexOf("AND"));
  });

  test("each set has its line in the ledger, values by hand that of the place they write", () => {
    const places = placesOf(trips, now);
    expect(places.map(({ table, set }) => [table, set])).toEqual([
      ["harbour.trip_north", null],
      ["harbour.trip_north", "north"],
      ["harbour.trip_south", "south"],
    ]);
    const line = (given: object, set: string | null = null) =>
      lineOf(places, "trip", resolve(trips, given, now).definition, set);
    expect(line({}, "north")).toBe("north");
    // The defaults are what north says.
    expect(line({})).toBe("north");
    expect(line({ values: { region: "south" } })).toBe("south");
    expect(line({ settings: { "trip.into.table": "harbour.other" } })).toBe("harbour.other");
  });

  test("one without parameters is what it was", () => {
    const plain: Pipeline = {
      title: "A {b}",
      warehouse: "w",
      loads: {
        l: {
          from: { connection: "c", table: 'public."a{b}"' },
          columns: { "a:b": "a:b" },
          into: { table: "s.t", mode: "replace" },
        },
      },
    };
    expect(resolve(plain, {}, now).definition).toEqual(plain);
    expect(parameterProblems(plain, now)).toEqual([]);
  });
});
