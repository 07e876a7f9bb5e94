import { columnDates } from "@undercoat/core/file/csv";
import { dateOrder, isoDate } from "@undercoat/core/file/dates";
import fc from "fast-check";
import { describe, expect, test } from "vitest";

test.each([
  ["24.12.2026", "dmy", "2026-12-24"],
  ["1/2/2026", "dmy", "2026-02-01"],
  ["1/2/2026", "mdy", "2026-01-02"],
  ["29.02.2024", "dmy", "2024-02-29"],
  ["29.02.2026", "dmy", null],
  ["13/13/2026", "mdy", null],
  ["24.12/2026", "dmy", null],
  ["2026-12-24", "dmy", null],
  ["24.12.26", "dmy", null],
  ["24.12.2026 7:05", "dmy", "2026-12-24 07:05"],
  ["24.12.2026 23:59:58", "dmy", "2026-12-24 23:59:58"],
  ["24.12.2026 24:00", "dmy", null],
  [" 24.12.2026", "dmy", null],
] as const)("%s by %s is %s", (text, order, iso) => expect(isoDate(text, order)).toBe(iso));

test("every day of the calendar is told as it is written", () => {
  fc.assert(
    fc.property(fc.date({ min: new Date("1000-01-01"), max: new Date("9999-12-31"), noInvalidDate: true }), (date) => {
      const iso = date.toISOString().slice(0, 10);
      const [year, month, day] = iso.split("-");
      expect(isoDate(`${day}.${month}.${year}`, "dmy")).toBe(iso);
      expect(isoDate(`${Number(month)}/${Number(day)}/${year}`, "mdy")).toBe(iso);
    }),
  );
});

test("which number is the day is told by all values, or not at all", () => {
  expect(dateOrder(["01/02/2026", "13/02/2026"])).toBe("dmy");
  expect(dateOrder(["01/02/2026", "02/13/2026"])).toBe("mdy");
  expect(dateOrder(["01/02/2026", "02/03/2026"])).toBeNull();
  expect(dateOrder(["01.02.2026", "02.03.2026"])).toBe("dmy");
  expect(dateOrder(["13/02/2026", "02/13/2026"])).toBeNull();
  expect(dateOrder(["01/02/2026", "soon"])).toBeNull();
  expect(dateOrder([])).toBeNull();
  expect(dateOrder(["01/02/2026"], "mdy")).toBe("mdy");
  expect(dateOrder(["13/02/2026"], "mdy")).toBeNull();
});

describe("columns of dates", () => {
  const dialect = { delimiter: ";", quote: '"', header: true, skip: 1 };
  const text = (rows: string[][]) => ["a title", "a;b;c", ...rows.map((row) => row.join(";"))].join("\r\n");

  test("are told by all rows that are looked at, whatever the first ones look like", () => {
    const rows = Array.from({ length: 300 }, (_, at) => [`0${1 + (at % 9)}/02/2026`, "7", at < 60 ? "" : "1.2.2026"]);
    expect(columnDates(text(rows), dialect, 3)).toEqual([null, null, "dmy"]);
    rows[250] = ["25/02/2026", "7", "1.2.2026"];
    expect(columnDates(text(rows), dialect, 3)).toEqual(["dmy", null, "dmy"]);
    rows[251] = ["02/25/2026", "7", "never"];
    expect(columnDates(text(rows), dialect, 3)).toEqual([null, null, null]);
  });

  test("are the same as where every row is looked at", () => {
    const cell = fc.constantFrom("", "1.2.2026", "25.2.2026", "2/25/2026", "2026-02-01", "x");
    fc.assert(
      fc.property(fc.array(fc.tuple(cell, cell), { maxLength: 90 }), (rows) => {
        const written = ["a;b", ...rows.map((row) => row.join(";"))].join("\n");
        const told = columnDates(written, { ...dialect, skip: 0 }, 2);
        expect(told).toEqual([0, 1].map((at) => dateOrder(rows.flatMap((row) => row[at] || []))));
      }),
    );
  });
});
