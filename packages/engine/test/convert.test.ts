import { conversion } from "@undercoat/core/sql/convert";
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
  const rows = await session.query(`SELECT pg_temp.says(piece) AS said FROM unnest(ARRAY[${pieces.map(literal).join(", ")}]::text[]) WITH ORDINALITY u(piece, n) ORDER BY n`);
  return rows.map((row) => row.said ?? "");
}

const digits = fc.stringMatching(/^[-+]?[0-9]{0,20}([.,][0-9]{0,6})?$/);
const dates = fc.stringMatching(/^[0-9]{1,4}[-/.][0-3]?[0-9][-/.][0-3]?[0-9]([ T][0-2][0-9]:[0-6][0-9](:[0-6][0-9](\.[0-9]{1,8})?)?(Z|[-+][0-9]{2}(:?[0-9]{2})?)?)?$/);
const calendar = fc.tuple(fc.integer({ min: 1, max: 2200 }), fc.integer({ min: 0, max: 13 }), fc.integer({ min: 0, max: 32 })).map(([year, month, day]) => `${String(year).padStart(4, "0")}-${String(month).padStart(2, "0")}-${String(day).padStart(2, "0")}`);
const words = fc.constantFrom("", " ", "n/a", "NaN", "infinity", "-Infinity", "now", "today", "true", "T", "no", "1e3", "0x1F", "1_000", " 12 ", "12.", ".5", "00000000-0000-0000-0000-000000000000", "{1,2}", "é😀", "2024-02-29", "2023-02-29", "1900-02-29");
const texts = fc.oneof(digits, dates, calendar, words, fc.string({ maxLength: 12 }).filter((text) => !text.includes("\0")));
const types = ["smallint", "integer", "bigint", "numeric", "numeric(6,2)", "numeric(4,0)", "double precision", "real", "date", "timestamp", "timestamptz", "timestamp(3)", "time", "boolean", "uuid", "varchar(3)", "interval", "integer[]"].map(canonicalType);

describe("a text on its way to a type", () => {
  test.each(types)("is certain to be %s only where the cast keeps it, and fits only where nothing of it is lost", { timeout: 60_000 }, async (type) => {
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
  });
});

describe("a number on its way to a narrower one", () => {
  const numbers = fc.oneof(fc.bigInt({ min: -(2n ** 70n), max: 2n ** 70n }).map(String), digits.filter((text) => /^[-+]?\d+(\.\d+)?$/.test(text)), fc.constantFrom("NaN", "0.005", "-0.00", "99999.995", "32767.5", "9223372036854775808"));
  test.each(["smallint", "integer", "bigint", "numeric(6,2)", "numeric(20,4)", "real", "double precision"])("fits %s exactly where it comes back the same", { timeout: 60_000 }, async (type) => {
    await fc.assert(
      fc.asyncProperty(fc.array(numbers, { minLength: 40, maxLength: 60 }), async (values) => {
        const given = values.map((value) => typedLiteral(value, "numeric"));
        const fits = await says(given.map((value) => conversion(value, "numeric", type).fits));
        const same = await says(given.map((value) => `(${value})::${type}::numeric = ${value}`));
        for (const [at, value] of values.entries()) expect(fits[at] === "true", `${value} as ${type}: fits ${fits[at]}, the same ${same[at]}`).toBe(same[at] === "true");
      }),
      { numRuns: 4 },
    );
  });
});

test.each([
  ["12.50", "numeric(4,2)", "true"],
  ["12.505", "numeric(4,2)", "false"],
  ["123.4", "numeric(4,2)", "fails"],
  ["1.0", "integer", "fails"],
  ["2026-11-20", "date", "true"],
  ["2026-11-20 10:00", "date", "false"],
  ["2026-02-29", "date", "fails"],
  ["2024-02-29", "date", "true"],
  ["today", "date", "false"],
  ["2026-11-20 10:00:00.1234567", "timestamp", "true"],
  ["2026-11-20 10:00:00.1234", "timestamp(3)", "false"],
  ["2026-11-20 10:00+02", "timestamp", "false"],
  ["2026-11-20 10:00+02", "timestamptz", "true"],
  ["abcd", "varchar(3)", "false"],
  ["abc", "varchar(3)", "true"],
  ["", "integer", "fails"],
])("%j as %s: %s", async (value, type, answer) => {
  expect((await says([conversion(typedLiteral(value, "text"), "text", canonicalType(type)).fits]))[0]).toBe(answer);
});
