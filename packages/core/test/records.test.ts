import { columnNames, guessCsv } from "@undercoat/core/file/csv";
import { fitting, noCounts } from "@undercoat/core/file/fits";
import { RecordReader } from "@undercoat/core/file/records";
import fc from "fast-check";
import { describe, expect, test } from "vitest";

function readAll(text: string, width: number, pieces: number[] = [], signs = { delimiter: ";", quote: '"' }) {
  const reader = new RecordReader(signs, width, { lines: 0, head: false });
  const cuts = [...new Set([0, ...pieces.map((at) => at % (text.length + 1)), text.length])].sort((a, b) => a - b);
  return cuts
    .slice(0, -1)
    .flatMap((from, at) => [...reader.read(text.slice(from, cuts[at + 1]), at === cuts.length - 2)]);
}

describe("records", () => {
  test.each([
    [
      "a;b\nc;d\n",
      [
        ["a", "b"],
        ["c", "d"],
      ],
    ],
    [
      "a;b\r\nc;d",
      [
        ["a", "b"],
        ["c", "d"],
      ],
    ],
    [
      "a;b\rc;d\r",
      [
        ["a", "b"],
        ["c", "d"],
      ],
    ],
    [
      '"a;""b""\r\nc";\n"";x',
      [
        ['a;"b"\r\nc', null],
        ["", "x"],
      ],
    ],
    ['5" pipe;b\n', [['5" pipe', "b"]]],
    [
      "a;b\n\n\nc;d\n",
      [
        ["a", "b"],
        ["c", "d"],
      ],
    ],
  ])("of %j", (text, rows) => {
    const found = readAll(text, 2);
    expect(found.map(({ fields }) => fields)).toEqual(rows);
    expect(found.every(({ fault }) => fault === null)).toBe(true);
  });

  test("a line that is no row is told with its number and text, and those after it are read", () => {
    const text = 'a;b\n1;2;\n3\n4;"x"y\n5;"two\nlines"\n6;"open\n7;b\n';
    expect(
      readAll(text, 2).map(({ fields, fault, line, text: own }) => (fault ? [line, fault, own] : [line, ...fields])),
    ).toEqual([
      [1, "a", "b"],
      [2, "has 3 fields where 2 are expected", "1;2;"],
      [3, "has 1 field where 2 are expected", "3"],
      [4, "has text behind a quote that is closed", '4;"x"y'],
      [5, "5", "two\nlines"],
      [7, "has a quote that is not closed", '6;"open'],
      [8, "7", "b"],
    ]);
  });

  test("what was written is read, wherever the text is cut into pieces", () => {
    const field = fc.oneof(
      fc.constant(null),
      fc.string({ unit: fc.constantFrom("a", ";", '"', "\n", "\r", " ", "é") }),
    );
    const quote = (value: string | null) => (value === null ? "" : `"${value.replaceAll('"', '""')}"`);
    fc.assert(
      fc.property(
        fc.array(fc.tuple(field, field, field), { minLength: 1 }),
        fc.constantFrom("\n", "\r\n"),
        fc.array(fc.nat()),
        (rows, end, pieces) => {
          const text = rows.map((row) => row.map(quote).join(";") + end).join("");
          expect(readAll(text, 3, pieces).map(({ fields }) => fields)).toEqual(rows);
        },
      ),
    );
  });

  test("lines are the same wherever the text is cut, whatever it holds", () => {
    const text = fc.string({ unit: fc.constantFrom("a", ";", '"', "\n", "\r"), maxLength: 40 });
    fc.assert(
      fc.property(text, fc.array(fc.nat()), (whole, pieces) => {
        expect(readAll(whole, 2, pieces)).toEqual(readAll(whole, 2));
      }),
    );
  });
});

describe("how a text is written is guessed", () => {
  test.each([
    ["id;name\n1;Kjær, Ada\n2;Bo\n", ";", true],
    ["id,name\n1,2\n", ",", true],
    ["1\t2\n3\t4\n", "\t", false],
    ['id|"a|b"|c\n1|2|3\n', "|", true],
    ["2026-11-01;7,5\n2026-11-02;8,5\n", ";", false],
    ["id;id\n1;2\n", ";", false],
    ["only\n1\n", ",", true],
  ])("%j", (text, delimiter, header) => expect(guessCsv(text)).toMatchObject({ delimiter, header }));

  test("what is said is not guessed", () => {
    expect(guessCsv("a,b;c\n", { delimiter: ",", header: false, skip: 0 })).toMatchObject({
      delimiter: ",",
      header: false,
    });
  });

  test("columns without a name of their own get one", () => {
    const names = (text: string, header: boolean) => columnNames(text, { delimiter: ";", quote: '"', skip: 0, header });
    expect(names("a;;a\n1;2;3\n", true)).toEqual(["a", "column_2", "a_2"]);
    expect(names("1;2;3\n", false)).toEqual(["column_1", "column_2", "column_3"]);
  });
});

test.each([
  [{ all: 2, integer: 2, point: 2, comma: 2 }, "bigint", undefined],
  [{ all: 2, integer: 1, point: 2, comma: 1 }, "numeric", undefined],
  [{ all: 2, integer: 1, point: 1, comma: 2 }, "numeric", ","],
  [{ all: 2, point: 1, comma: 1 }, "text", undefined],
  [{ all: 0 }, "text", undefined],
  [{ all: 1, date: 1 }, "date", undefined],
  [{ all: 1, zoned: 1 }, "timestamp with time zone", undefined],
])("the type that fits %j is %s", (given, fits, decimal) =>
  expect(fitting({ ...noCounts(), ...given })).toEqual({ fits, ...(decimal ? { decimal } : {}) }),
);
