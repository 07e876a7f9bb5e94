import { formatTableName, identifier, NameError, parseTableName } from "@undercoat/core/sql/identifier";
import { literal, typedLiteral } from "@undercoat/core/sql/literal";
import fc from "fast-check";
import { describe, expect, test } from "vitest";

const bytes = (text: string) => new TextEncoder().encode(text).length;
const name = fc
  .string({ minLength: 1, maxLength: 40, unit: "grapheme" })
  .filter((text) => !text.includes("\0") && bytes(text) <= 63);

describe("identifiers", () => {
  test("are quoted, whatever they hold", () => {
    expect(identifier("order")).toBe('"order"');
    expect(identifier('a"b')).toBe('"a""b"');
    expect(identifier("Å; DROP TABLE x")).toBe('"Å; DROP TABLE x"');
  });

  test.each([
    ["", /empty/],
    ["a\0b", /NUL/],
    ["x".repeat(64), /63 bytes/],
    ["å".repeat(32), /63 bytes/],
  ])("refuse %j", (bad, why) => {
    expect(() => identifier(bad)).toThrow(why);
  });

  test("a table's name reads back as it was written", () => {
    fc.assert(
      fc.property(name, name, (schema, table) => {
        // What is written without quotes must not look quoted, nor hold what ends a part.
        expect(parseTableName(formatTableName({ schema, table }))).toEqual({ schema, table });
      }),
    );
  });

  test.each(["booking", "a.b.c", ".x", "x.", 'a."b', ""])("refuses %j as a table's name", (bad) => {
    expect(() => parseTableName(bad)).toThrow(NameError);
  });
});

describe("literals", () => {
  test("hold quotes and backslashes", () => {
    expect(literal("O'Brien")).toBe("'O''Brien'");
    expect(literal("a\\'b")).toBe("E'a\\\\''b'");
    expect(typedLiteral(null, "bigint")).toBe("NULL::bigint");
    expect(() => literal("a\0")).toThrow(RangeError);
  });
});
