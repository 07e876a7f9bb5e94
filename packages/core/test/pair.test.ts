import { admit } from "@undercoat/core/expression/parse";
import { abbreviates, nameWords, scorePair, suggestPairs } from "@undercoat/core/shape/pair";
import {
  columnSql,
  dateFormats,
  dateIn,
  defaulted,
  hashed,
  joined,
  mapped,
  numberIn,
  part,
  tidied,
} from "@undercoat/core/shape/ready";
import { keeps } from "@undercoat/core/sql/convert";
import { canonicalType, shortType } from "@undercoat/core/sql/type";
import fc from "fast-check";
import { describe, expect, test } from "vitest";

const of = (...names: string[]) => names.map((name) => ({ name, type: "text" }));

describe("pairing", () => {
  test("does not mind case and style", () => {
    for (const name of ["FareCents", "fare_cents", "FARE CENTS", "fare-cents", "fareCents"])
      expect(nameWords(name)).toEqual(["fare", "cents"]);
    expect(nameWords("HTTPStatus2xx")).toEqual(["http", "status2xx"]);
    expect(abbreviates("qty", "quantity")).toBe(true);
    expect(abbreviates("tqy", "quantity")).toBe(false);
  });

  test("suggests each column once, the likeliest first, and says why", () => {
    const pairs = suggestPairs(
      of("BookingID", "cust_nm", "FARE CENTS", "amt", "note"),
      of("id", "customer_name", "fare_cents", "amount", "remark"),
    );
    expect(pairs.map(({ source, target }) => `${source} ${target}`)).toEqual([
      "FARE CENTS fare_cents",
      "cust_nm customer_name",
      "amt amount",
      "BookingID id",
    ]);
    expect(pairs.map(({ why }) => why)).toEqual([
      "the same name in another style",
      "one name abbreviates the other",
      "one name abbreviates the other",
      "the same but for “booking” in front",
    ]);
  });

  test("weighs whether the values fit", () => {
    const target = { name: "fare", type: "numeric(12,2)" };
    expect(scorePair({ name: "fare", type: "numeric(10,2)" }, target).score).toBeGreaterThan(
      scorePair({ name: "fare", type: "text" }, target).score,
    );
    expect(scorePair({ name: "fare", type: "text" }, target).why).toBe(
      "the same name; text is checked row by row against numeric(12,2)",
    );
    expect(scorePair({ name: "fare", type: "boolean" }, { name: "fare", type: "date" }).score).toBeLessThan(1);
  });

  test("never pairs a column twice, and a name with itself first of all", () => {
    const name = fc.stringMatching(/^[a-z]{1,6}(_[a-z]{1,6}){0,2}$/);
    fc.assert(
      fc.property(fc.uniqueArray(name, { maxLength: 12 }), fc.uniqueArray(name, { maxLength: 12 }), (left, right) => {
        const pairs = suggestPairs(of(...left), of(...right));
        expect(new Set(pairs.map((pair) => pair.source)).size).toBe(pairs.length);
        expect(new Set(pairs.map((pair) => pair.target)).size).toBe(pairs.length);
        for (const same of left.filter((one) => right.includes(one)))
          expect(pairs).toContainEqual(expect.objectContaining({ source: same, target: same }));
      }),
    );
  });
});

describe("ready-made shapes", () => {
  const [name, fare] = [
    { name: "first name", type: "text" },
    { name: "fare", type: "numeric(12,2)" },
  ];
  const shapes = [
    joined([name, fare], ", ", null),
    joined([name, fare], "'", "none"),
    part(name, "/", 2),
    defaulted(name, "it's"),
    defaulted(fare, "0"),
    tidied(name, { spaces: true, letters: "Each Word" }),
    tidied(fare, { spaces: false, letters: "as they are" }),
    mapped(
      name,
      [
        ["a", "b"],
        ["c'", "d"],
      ],
      "keep",
    ),
    mapped(name, [["a", "b"]], { text: "other" }),
    mapped(name, [["a", "b"]], "null"),
    ...Object.keys(dateFormats).map((format) => dateIn(name, format as keyof typeof dateFormats)),
    numberIn(name, ",", "."),
    numberIn(name, ".", ""),
    hashed(name, "salt"),
  ];
  test.each(shapes.map(({ as, type }) => [as, type]))("write expressions that are admitted: %s", async (as, type) => {
    const { reads } = await admit(as, "column");
    expect(reads.every((read) => ["first name", "fare"].includes(read))).toBe(true);
    if (type) expect(canonicalType(type)).toBeTruthy();
  });

  test("quote a name only where it must be", () => {
    expect(["fare", "Fare", "order", "a b", "größe"].map(columnSql)).toEqual([
      "fare",
      '"Fare"',
      '"order"',
      '"a b"',
      '"größe"',
    ]);
  });
});

describe("types as a person writes them", () => {
  test.each([
    ["int", "integer"],
    ["NUMERIC(12, 2)", "numeric(12,2)"],
    ["decimal(5)", "numeric(5,0)"],
    ["varchar(20)", "character varying(20)"],
    ["character varying ( 20 )", "character varying(20)"],
    ["timestamptz", "timestamp with time zone"],
    ["timestamptz(3)", "timestamp(3) with time zone"],
    ["timestamp(0) without time zone", "timestamp(0) without time zone"],
    ["double precision", "double precision"],
    ["char", "character(1)"],
    ["text[]", "text[]"],
    ["bit varying(4)", "bit varying(4)"],
  ])("%s is %s", (written, canonical) => {
    expect(canonicalType(written)).toBe(canonical);
    // What is shown can be written again.
    expect(canonicalType(shortType(canonical))).toBe(canonical);
  });

  test.each([
    "nope",
    "numeric(2,3)",
    "text(5)",
    "int; drop table x",
    "varchar(0)",
    "timestamp(9)",
    "",
    "regclass",
    "numeric(1001)",
    "date(3)",
    "varchar(1,2)",
  ])("%s is refused", (written) => {
    expect(() => canonicalType(written)).toThrow(RangeError);
  });

  test("keep values only where none can be lost", () => {
    expect([
      keeps("bigint", "integer"),
      keeps("integer", "bigint"),
      keeps("text", "character varying(5)"),
      keeps("character varying(5)", "text"),
      keeps("numeric(14,2)", "numeric(12,2)"),
      keeps("numeric(12,2)", "numeric(12,4)"),
      keeps("numeric", "bigint"),
      keeps("real", "double precision"),
      keeps("double precision", "real"),
    ]).toEqual([true, false, true, false, true, false, true, false, true]);
  });
});
