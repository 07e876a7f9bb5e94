import { conversion, printedAlike } from "@undercoat/core/sql/convert";
import { literal, typedLiteral } from "@undercoat/core/sql/literal";
import { canonicalType } from "@undercoat/core/sql/type";
import { Session } from "@undercoat/engine/postgres/session";
import fc from "fast-check";
import { afterAll, beforeAll, describe, expect, test } from "vitest";
import { credentials } from "./pair.ts";

let session: Session;
beforeAll(async () => {
  session = await Session.open(credentials("postgres"), { application: "test" });
  // Says what a piece of SQL gives for a value, or that it fails.
  await session.query(`CREATE FUNCTION pg_temp.says(sql text) RETURNS text LANGUAGE plpgsql AS $says$
    DECLARE answer text; BEGIN EXECUTE 'SELECT (' || sql || ')::text' INTO answer; RETURN coalesce(answer, 'null'); EXCEPTION WHEN data_exception OR program_limit_exceeded OR feature_not_supported THEN RETURN 'fails'; END $says$`);
});
afterAll(() => session.close());

/** What each piece of SQL gives: its text, `null` or `fails`. */
async function says(pieces: string[]): Promise<string[]> {
  const rows = await session.query(
    `SELECT pg_temp.says(piece) AS said FROM unnest(ARRAY[${pieces.map(literal).join(", ")}]::text[]) WITH ORDINALITY u(piece, n) ORDER BY n`,
  );
  return rows.map((row) => row.said ?? "");
}

const digits = fc.stringMatching(/^[-+]?[0-9]{0,20}([.,][0-9]{0,6})?$/);
const dates = fc.stringMatching(
  /^[0-9]{1,4}[-/.][0-3]?[0-9][-/.][0-3]?[0-9]([ T][0-2][0-9]:[0-6][0-9](:[0-6][0-9](\.[0-9]{1,8})?)?(Z|[-+][0-9]{2}(:?[0-9]{2})?)?)?$/,
);
const calendar = fc
  .tuple(fc.integer({ min: 1, max: 2200 }), fc.integer({ min: 0, max: 13 }), fc.integer({ min: 0, max: 32 }))
  .map(
    ([year, month, day]) =>
      `${String(year).padStart(4, "0")}-${String(month).padStart(2, "0")}-${String(day).padStart(2, "0")}`,
  );
const words = fc.constantFrom(
  "",
  " ",
  "n/a",
  "NaN",
  "infinity",
  "-Infinity",
  "now",
  "today",
  "true",
  "T",
  "no",
  "1e3",
  "0x1F",
  "1_000",
  " 12 ",
  "12.",
  ".5",
  "00000000-0000-0000-0000-000000000000",
  "{1,2}",
  "é😀",
  "2024-02-29",
  "2023-02-29",
  "1900-02-29",
);
const texts = fc.oneof(
  digits,
  dates,
  calendar,
  words,
  fc.string({ maxLength: 12 }).filter((text) => !text.includes("\0")),
);
const types = [
  "smallint",
  "integer",
  "bigint",
  "numeric",
  "numeric(6,2)",
  "numeric(4,0)",
  "double precision",
  "real",
  "date",
  "timestamp",
  "timestamptz",
  "timestamp(3)",
  "time",
  "boolean",
  "uuid",
  "varchar(3)",
  "interval",
  "integer[]",
].map(canonicalType);

describe("a text on its way to a type", () => {
  test.each(types)(
    "is certain to be %s only where the cast keeps it, and fits only where nothing of it is lost",
    { timeout: 60_000 },
    async (type) => {
      await fc.assert(
        fc.asyncProperty(fc.array(texts, { minLength: 40, maxLength: 60 }), async (values) => {
          const checks = values.map((value) => conversion(typedLiteral(value, "text"), "text", type));
          const certain = await says(checks.map((check) => check.certain));
          const fits = await says(checks.map((check) => check.fits));
          const cast = await says(checks.map((check) => check.cast));
          for (const [at, value] of values.entries()) {
            const told = `${JSON.stringify(value)} as ${type}: certain ${certain[at]}, fits ${fits[at]}, cast ${cast[at]}`;
            // What is certain fits, and what fits can be cast.
            if (certain[at] === "true") expect(fits[at], told).toBe("true");
            if (fits[at] === "true") expect(cast[at], told).not.toBe("fails");
          }
        }),
        { numRuns: 4 },
      );
    },
  );
});

describe("a number on its way to a narrower one", () => {
  const numbers = fc.oneof(
    fc.bigInt({ min: -(2n ** 70n), max: 2n ** 70n }).map(String),
    digits.filter((text) => /^[-+]?\d+(\.\d+)?$/.test(text)),
    fc.constantFrom("NaN", "0.005", "-0.00", "99999.995", "32767.5", "9223372036854775808"),
  );
  test.each(["smallint", "integer", "bigint", "numeric(6,2)", "numeric(20,4)", "real", "double precision"])(
    "fits %s exactly where it comes back the same",
    { timeout: 60_000 },
    async (type) => {
      await fc.assert(
        fc.asyncProperty(fc.array(numbers, { minLength: 40, maxLength: 60 }), async (values) => {
          const given = values.map((value) => typedLiteral(value, "numeric"));
          const fits = await says(given.map((value) => conversion(value, "numeric", type).fits));
          const same = await says(given.map((value) => `(${value})::${type}::numeric = ${value}`));
          for (const [at, value] of values.entries())
            expect(fits[at] === "true", `${value} as ${type}: fits ${fits[at]}, the same ${same[at]}`).toBe(
              same[at] === "true",
            );
        }),
        { numRuns: 4 },
      );
    },
  );
});

test.each([
  ["12.50", "numeric(4,2)", "true"],
  ["12.505", "numeric(4,2)", "false"],
  ["123.4", "numeric(4,2)", "fails"],
  ["1.0", "integer", "false"],
  ["2026-11-20", "date", "true"],
  ["2026-11-20 10:00", "date", "false"],
  ["2026-02-29", "date", "fails"],
  ["2024-02-29", "date", "true"],
  ["today", "date", "false"],
  ["2026-11-20 10:00:00.1234567", "timestamp", "false"],
  ["23:59:59.9999999", "time", "false"],
  ["2026-11-20 23:59:60", "timestamp", "false"],
  ["2026-11-20 24:00", "timestamp", "false"],
  ["3/11/26", "date", "false"],
  ["2026-11-3", "date", "true"],
  ["today", "timestamptz", "false"],
  ["yesterday 04:05", "timestamptz", "false"],
  ["2026-11-20 10:00+02", "time", "false"],
  ["10:00+02", "timetz", "true"],
  ["16777217", "real", "false"],
  ["0.1", "real", "true"],
  ["0.1", "double precision", "true"],
  ["1e2", "numeric", "true"],
  ['{"a":1,"a":2}', "jsonb", "false"],
  ['[{"b":{"a":1,"a":2}}]', "jsonb", "false"],
  ['{"a":{"a":1},"b":[{"a":1},{"a":2}]}', "jsonb", "true"],
  ["101", "bit(3)", "true"],
  ["1011", "bit(3)", "false"],
  ["{1, 2}", "integer[]", "true"],
  ["{1.5}", "integer[]", "fails"],
  ["{abc,d}", "varchar(2)[]", "false"],
  ["2026-11-20 10:00:00.1234", "timestamp(3)", "false"],
  ["2026-11-20 10:00+02", "timestamp", "false"],
  ["2026-11-20 10:00+02", "timestamptz", "true"],
  ["abcd", "varchar(3)", "false"],
  ["abc", "varchar(3)", "true"],
  ["", "integer", "false"],
  ["ab ", "char(5)", "false"],
])("%j as %s: %s", async (value, type, answer) => {
  expect((await says([conversion(typedLiteral(value, "text"), "text", canonicalType(type)).fits]))[0]).toBe(answer);
});

/** Values of each type that casts like to run together. */
const specimens: Record<string, string[]> = {
  boolean: ["true", "false"],
  smallint: ["0", "1", "-1", "255", "256", "32767"],
  integer: ["0", "1", "-1", "65536", "16777216", "16777217", "2147483647"],
  bigint: ["0", "1", "4294967296", "9007199254740992", "9007199254740993", "-9223372036854775808"],
  numeric: ["0", "1", "1.5", "0.1", "1e30", "NaN", "Infinity", "-0.0000001", "16777217"],
  real: ["0", "-0", "1", "0.1", "16777216", "NaN", "-Infinity"],
  "double precision": ["0", "-0", "1", "0.1", "0.30000000000000004", "1e300", "NaN"],
  "character varying(8)": ["", "a", "A", "abc", "abcdefgh"],
  text: ["", " ", "true", "1", "2026-11-20"],
  uuid: [
    "00000000-0000-0000-0000-000000000000",
    "00000000-0000-0000-0000-000000000001",
    "0f0f0f0f-0000-0000-0000-000000000000",
  ],
  "bit(8)": ["10100000", "10101111", "00000000", "00000001"],
  "bit varying(8)": ["", "1", "10", "100", "10100000"],
  bytea: ["", "\\x00", "\\x01", "\\x0001"],
  date: ["2026-11-20", "2026-11-21", "infinity", "-infinity", "0044-03-15 BC"],
  "time without time zone": ["00:00", "24:00", "23:59:59.999999", "12:00", "12:00:00.4"],
  "time with time zone": ["12:00+00", "14:00+02", "12:00-05", "24:00+00"],
  "timestamp without time zone": ["2026-11-20 00:00", "2026-11-20 10:00", "2026-11-20 10:00:00.123456", "infinity"],
  "timestamp with time zone": [
    "2026-11-20 00:00+00",
    "2026-11-20 10:00+02",
    "2026-11-20 10:00:00.123456+00",
    "-infinity",
  ],
  interval: ["1 mon", "30 days", "24:00", "1 day", "25:00", "-1 mon +1 day", "00:00:00.5"],
  inet: ["10.0.0.1", "10.0.0.1/8", "10.0.0.0/8", "::1"],
  cidr: ["10.0.0.0/8", "10.0.0.0/16", "::/0"],
  macaddr: ["08:00:2b:01:02:03", "08:00:2b:01:02:04"],
  json: ['{"a":1,"a":2}', '{"a":2}', '{"a": 2}', "[1.0]", "[1.00]", "null"],
  jsonb: ['{"a":2}', "[1.0]", "[1.00]", "null", "true", "1"],
  int4range: ["[1,5)", "[1,6)", "empty", "(,)"],
  numrange: ["[1.0,2)", "[1.00,2)", "empty"],
  "integer[]": ["{}", "{1}", "{1,2}", "{{1},{2}}", "[0:1]={1,2}", "{NULL}"],
  "numeric[]": ["{1.5}", "{2}", "{1.0}", "{NaN}"],
  "text[]": ["{}", "{abc,d}", "{ab,d}", "{NULL}", '{"NULL"}'],
  "timestamp with time zone[]": ["{2026-11-20 00:00+00}", "{2026-11-20 10:00+00}"],
};
const narrower = [
  "character varying(2)",
  "character varying(3)[]",
  "character(4)",
  "bit(4)",
  "bit varying(3)",
  "time(0) without time zone",
  "timestamp(0) without time zone",
  "numeric(3,1)",
  "date[]",
  "numeric(3,0)[]",
  "interval(0)",
];

describe("two values that differ never become one", () => {
  test.each(Object.keys(specimens))("of type %s, in any type that takes both", async (given) => {
    const values = (specimens[given] ?? []).map((value) => typedLiteral(value, given));
    for (const type of [...Object.keys(specimens), ...narrower].filter((other) => other !== given)) {
      const checks = values.map((value) => conversion(`(${value})`, given, type));
      // A cast that the server does not have is refused when the load is planned.
      const known = await session.query(`SELECT ${checks[0]?.fits} AS x`).then(
        () => true,
        (error) => !["42846", "42883"].includes((error as { code?: string }).code ?? ""),
      );
      if (!known) continue;
      const fits = await says(checks.map((check) => check.fits));
      const taken = await says(checks.map((check) => `${check.cast}`));
      const printed = await says(values.map((value) => `${value}`));
      const seen = new Map<string, string>();
      for (const [at] of values.entries()) {
        if (fits[at] !== "true") continue;
        expect(taken[at], `${printed[at]} (${given}) as ${type} can be cast`).not.toBe("fails");
        const other = seen.get(taken[at] ?? "");
        // Numbers of another scale are the number that was asked for.
        const number = /numeric/.test(given) && /numeric|int|real|double/.test(type);
        // Texts spell one value in many ways, and so does json.
        if (!number && given !== "text" && given !== "json")
          expect(other, `${printed[at]} and ${other} (${given}) both become ${taken[at]} (${type})`).toBeUndefined();
        seen.set(taken[at] ?? "", printed[at] ?? "");
      }
    }
  });

  test.each([
    ["uuid", "character varying(8)", "0f0f0f0f-0000-0000-0000-000000000000"],
    ["boolean", "character varying(2)", "true"],
    ["bit(8)", "bit(4)", "10100000"],
    ["numeric[]", "integer[]", "{1.5}"],
    ["text[]", "character varying(2)[]", "{abc}"],
    ["timestamp with time zone[]", "date[]", "{2026-11-20 10:00+00}"],
    ["interval", "time without time zone", "25:00"],
    ["time with time zone", "time without time zone", "14:00+02"],
    ["time without time zone", "time(0) without time zone", "12:00:00.4"],
    ["inet", "cidr", "10.0.0.1/8"],
    ["jsonb", "character varying(3)", "[1.00]"],
    ["int4range", "character varying(3)", "[1,5)"],
    ["json", "jsonb", '{"a":1,"a":2}'],
  ])("%s → %s does not take %s", async (given, type, value) => {
    expect((await says([conversion(`(${typedLiteral(value, given)})`, given, type).fits]))[0]).not.toBe("true");
  });
});

describe("a text that prints as its value does", () => {
  const types = [
    "bigint",
    "smallint",
    "numeric",
    "numeric(6,2)",
    "double precision",
    "boolean",
    "date",
    "timestamp without time zone",
    "timestamp with time zone",
    "timestamp(0) with time zone",
    "jsonb",
  ];
  const texts = [
    "7",
    "007",
    "7.0",
    "7.00",
    "7.005",
    "-0",
    "1e3",
    " 7",
    "NaN",
    "infinity",
    "-infinity",
    "Infinity",
    "true",
    "t",
    "yes",
    "today",
    "now",
  ];
  const days = [
    "2026-11-01",
    "20261101",
    "2026-02-30",
    "1-2-3",
    "2026-11-01 06:00:00",
    "2026-11-01 06:00:00+00",
    "2026-11-01T06:00:00Z",
    "2026-11-01 06:00:00.5+00",
    "2026-11-01 06:00:00+02",
    "2026-11-01T06:00:00.000Z",
    "2026-11-01T06:00:00.120000Z",
    "2026-11-01T06:00:00.1234567Z",
    "2026-11-01T06:00:00.5+00:00",
    "2026-11-01 06:00:00.Z",
    "2026-11-01T06:00:00.500",
    "2026-11-01T24:00:00Z",
    "0044-03-15T12:00:00Z",
    "Z",
    "TZ",
    "2026-11-01T06:00Z",
  ];
  const json = [
    '{"a":1,"b":2}',
    '{"a": 1, "b": [1, 2, {"c": "x, y"}]}',
    '{"a":1,"a":2}',
    '{"a":1e9,"a":1e9}',
    '{"a":1000000000,"a":1e9}',
    '{"a":[1,2,3,4,5,6,7,8],"a":1}',
    '{"a":{"b":1,"b":1}}',
    '{"x":",","x":","}',
    '{"b\\":":1,"b\\":":1}',
    '{"long":1.5,"z":"\\u00e9"}',
    "[1,2,3]",
    "7",
    '{"a":"1e5"}',
    "{}",
  ];

  test.each(types)(
    "as %s fits it in every case, so that the quick way lets through nothing that the exact one turns away",
    async (type) => {
      const told = printedAlike("v", "text", type) ?? "false";
      const { fits } = conversion("v", "text", type);
      let alike = 0;
      for (const text of [...texts, ...days, ...json]) {
        const ask = (sql: string) =>
          session.one(`SELECT (${sql})::text AS so FROM (VALUES ($1::text)) t(v)`, [text]).then(
            ({ so }) => so === "true",
            () => false,
          );
        if (!(await ask(told))) continue;
        alike++;
        expect([text, await ask(fits)]).toEqual([text, true]);
      }
      expect(alike).toBeGreaterThan(0);
    },
  );

  test("of JSON it lets through no text of which jsonb would drop a member", async () => {
    const name = fc.constantFrom("a", "b", 'q"', "e1", "c,d", "k:");
    const value = fc.letrec((tie) => ({
      any: fc.oneof(
        { depthSize: "small" },
        fc.constantFrom("1", "1e9", "2.50", "-0.1E-3", '"x"', '"a\\":b, c"', '"\\u0041"', "null"),
        fc.array(tie("any") as fc.Arbitrary<string>, { maxLength: 4 }).map((all) => `[${all.join(",")}]`),
        fc
          .tuple(fc.array(fc.tuple(name, tie("any") as fc.Arbitrary<string>), { maxLength: 4 }), fc.boolean())
          .map(
            ([all, loose]) =>
              `{${all.map(([key, of]) => `${JSON.stringify(key)}${loose ? ": " : ":"}${of}`).join(loose ? ", " : ",")}}`,
          ),
      ),
    })).any as fc.Arbitrary<string>;
    const told = printedAlike("v", "text", "jsonb") ?? "false";
    const { fits } = conversion("v", "text", "jsonb");
    await fc.assert(
      fc.asyncProperty(value, async (text) => {
        const { so, exact } = await session.one(
          `SELECT (${told})::text AS so, (${fits})::text AS exact FROM (VALUES ($1::text)) t(v)`,
          [text],
        );
        expect(so === "true" && exact !== "true" ? text : null).toBeNull();
      }),
      { numRuns: 400 },
    );
  });
});
