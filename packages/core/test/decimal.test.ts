import { addUp, grouped, subtract } from "@undercoat/core/proof/decimal";
import { verdictOf } from "@undercoat/core/proof/verdict";
import fc from "fast-check";
import { describe, expect, test } from "vitest";

/** Decimal text of any length: digits no float could hold. */
const decimal = fc
  .tuple(fc.bigInt({ min: -(10n ** 40n), max: 10n ** 40n }), fc.integer({ min: 0, max: 12 }))
  .map(([digits, scale]) => {
    const text = (digits < 0n ? -digits : digits).toString().padStart(scale + 1, "0");
    const shown = scale ? `${text.slice(0, -scale)}.${text.slice(-scale)}` : text;
    return { text: digits < 0n ? `-${shown}` : shown, digits, scale };
  });

describe("exact decimals", () => {
  test("subtract as integers do", () => {
    fc.assert(
      fc.property(decimal, decimal, (a, b) => {
        const scale = Math.max(a.scale, b.scale);
        const expected = a.digits * 10n ** BigInt(scale - a.scale) - b.digits * 10n ** BigInt(scale - b.scale);
        expect(BigInt((subtract(a.text, b.text) ?? "").replace(".", ""))).toBe(expected);
      }),
    );
  });

  test("what floats get wrong", () => {
    expect(subtract("0.30000000000000004", "0.3")).toBe("0.00000000000000004");
    expect(subtract("9007199254740993", "9007199254740992")).toBe("1");
    expect(subtract("96204.75", "95792.25")).toBe("412.50");
    expect(subtract("95792.25", "96204.75")).toBe("-412.50");
    expect(subtract("NaN", "1")).toBeNull();
  });

  test.each([
    ["007", "07"],
    ["1.0", "1.00"],
    ["-0", "0"],
    [null, ""],
    ["2026-11-20 22:48:51+00", "2026-11-20 22:48:52+00"],
  ])("%j and %j are not the same figure", (source, warehouse) => {
    expect(verdictOf([{ figure: "min(code)", source, warehouse }])).toBe("disagrees");
    expect(verdictOf([{ figure: "min(code)", source, warehouse: source }])).toBe("proved");
  });

  test("grouping keeps every digit", () => {
    fc.assert(
      fc.property(decimal, ({ text }) => {
        expect(grouped(text).replaceAll(",", "").replace("−", "-")).toBe(text);
      }),
    );
    expect(grouped("1204118.5")).toBe("1,204,118.5");
  });
});

test("a sum of decimals is exact, whatever their scales and order", () => {
  const decimal = fc
    .tuple(fc.bigInt({ min: -(10n ** 30n), max: 10n ** 30n }), fc.integer({ min: 0, max: 20 }))
    .map(([units, scale]) => ({ units, scale }));
  fc.assert(
    fc.property(fc.array(decimal, { maxLength: 12 }), (parts) => {
      const text = ({ units, scale }: { units: bigint; scale: number }) => {
        const digits = (units < 0n ? -units : units).toString().padStart(scale + 1, "0");
        return `${units < 0n ? "-" : ""}${scale ? `${digits.slice(0, -scale)}.${digits.slice(-scale)}` : digits}`;
      };
      const sum = parts.reduce((so, { units, scale }) => so + units * 10n ** BigInt(20 - scale), 0n);
      const told = addUp(parts.map(text));
      const [, sign, whole, rest = ""] = /^(-?)(\d+)(?:\.(\d+))?$/.exec(told) ?? [];
      expect(BigInt(`${sign}${whole}${rest.padEnd(20, "0")}`)).toBe(sum);
      expect(addUp(parts.map(text).reverse())).toBe(told);
    }),
  );
  expect(addUp(["0.1", "0.2"])).toBe("0.3");
  expect(() => addUp(["1e5"])).toThrow(RangeError);
});
