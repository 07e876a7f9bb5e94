import { cellPlace, cellRange, columnLetters, guessSheet, numberKind, serialText } from "@undercoat/core/file/sheet";
import fc from "fast-check";
import { describe, expect, test } from "vitest";

test("a column's letters and its number are each other's", () => {
  fc.assert(
    fc.property(fc.integer({ min: 1, max: 16_384 }), (column) => {
      expect(cellPlace(`${columnLetters(column)}7`)).toEqual({ column, row: 7 });
    }),
  );
  expect([1, 26, 27, 702, 703].map(columnLetters)).toEqual(["A", "Z", "AA", "ZZ", "AAA"]);
});

test.each(["B3", "H200:B3", "A1:B2:C3", "1:2"])("%s is no block of cells", (text) =>
  expect(() => cellRange(text)).toThrow(RangeError),
);

test.each([
  [14, undefined, "date"],
  [22, undefined, "date"],
  [20, undefined, "time"],
  [46, undefined, "span"],
  [2, undefined, "number"],
  [164, "yyyy\\-mm\\-dd", "date"],
  [164, "[$-414]d. mmmm yyyy;@", "date"],
  [164, "mmm", "date"],
  [164, "hh:mm", "time"],
  [164, "mm:ss.0", "time"],
  [164, "[h]:mm:ss", "span"],
  [164, '0.00 "days"', "number"],
  [164, "[Red]#,##0;[Blue]-#,##0", "number"],
  [164, '#,##0.00 "kr";\\-#,##0.00 "kr"', "number"],
] as const)("format %i, written %s, tells a %s", (id, code, kind) => expect(numberKind(id, code)).toBe(kind));

describe("days that are counted", () => {
  test.each([
    ["1", false, "1900-01-01"],
    ["59", false, "1900-02-28"],
    ["60", false, null],
    ["61", false, "1900-03-01"],
    ["45000", false, "2023-03-15"],
    ["45000.25", false, "2023-03-15 06:00:00"],
    ["45000.000011574074", false, "2023-03-15 00:00:01"],
    ["44999.999999999", false, "2023-03-15"],
    ["0", true, "1904-01-01"],
    ["2958465", false, "9999-12-31"],
    ["2958466", false, null],
    ["-1", false, null],
    ["x", false, null],
  ] as const)("%s since 1904 %s is %s", (value, since1904, text) =>
    expect(serialText(value, "date", since1904)).toBe(text),
  );

  test("times and spans", () => {
    expect(serialText("0.75", "time", false)).toBe("18:00:00");
    expect(serialText("1.75", "time", false)).toBe("1900-01-01 18:00:00");
    expect(serialText("1.5", "span", false)).toBe("36:00:00");
    expect(serialText("-0.5", "span", false)).toBe("-12:00:00");
    expect(serialText("0.000005787", "time", false)).toBe("00:00:00.500");
  });

  test("every day of the calendar that can be counted is that day", () => {
    fc.assert(
      fc.property(fc.integer({ min: 61, max: 2_958_465 }), (serial) => {
        const day = new Date(Date.UTC(1899, 11, 30) + serial * 86_400_000).toISOString().slice(0, 10);
        expect(serialText(String(serial), "date", false)).toBe(day);
        expect(serialText(String(serial - 1462), "date", true)).toBe(serial < 1462 ? null : day);
      }),
    );
  });
});

describe("the form of a sheet", () => {
  const row = (number: number, ...texts: (string | number | null)[]) => ({
    row: number,
    cells: texts.flatMap((text, at) =>
      text === null ? [] : [{ column: at + 2, text: String(text), isText: typeof text === "string" }],
    ),
  });
  const titled = [row(1, "Fares 2026"), row(3, "code", "price"), row(4, "W1", 12), row(5, "W2", null)];

  test("titles above the names are passed over", () =>
    expect(guessSheet(titled, {})).toMatchObject({ head: 3, first: 4, columns: { from: 2, to: 3 } }));
  test("without a row of texts there are no names", () =>
    expect(guessSheet([row(1, "W1", 12), row(2, "W2", 13)], {})).toMatchObject({ head: null, first: 1 }));
  test("what is said is not guessed", () => {
    expect(guessSheet(titled, { header: false })).toMatchObject({ head: null, first: 1 });
    expect(guessSheet(titled, { range: "B4:B5", header: false })).toMatchObject({
      first: 4,
      last: 5,
      columns: { from: 2, to: 2 },
    });
    expect(guessSheet(titled, { range: "C3:C5" })).toMatchObject({ head: 3, columns: { from: 3, to: 3 } });
  });
});
