import { differences, type HashedRow } from "@undercoat/core/proof/difference";
import { figureWords, formatFigure, parseFigure } from "@undercoat/core/proof/figure";
import { overallVerdict, pairSides } from "@undercoat/core/proof/verdict";
import { addTallies, balances, emptyTally } from "@undercoat/core/run/run";
import fc from "fast-check";
import { describe, expect, test } from "vitest";

const rows = fc.array(
  fc.record({
    key: fc.constantFrom("1", "2", "3", null).map((value) => [value]),
    hash: fc.constantFrom("a", "b", "c"),
  }),
  { maxLength: 12 },
);
const counted = (list: HashedRow[]) =>
  list
    .map((row) => JSON.stringify(row))
    .sort()
    .join();

describe("differences between two sets of rows", () => {
  test("there are none exactly where both hold the same rows equally often", () => {
    fc.assert(
      fc.property(rows, rows, (left, right) => {
        expect(differences(left, right).length === 0).toBe(counted(left) === counted(right));
      }),
    );
  });

  test("swapping the sides swaps missing and extra", () => {
    fc.assert(
      fc.property(rows, rows, (left, right) => {
        const count = (list: { kind: string }[], kind: string) => list.filter((entry) => entry.kind === kind).length;
        const [there, back] = [differences(left, right), differences(right, left)];
        expect([count(there, "missing"), count(there, "extra"), count(there, "different")]).toEqual([
          count(back, "extra"),
          count(back, "missing"),
          count(back, "different"),
        ]);
      }),
    );
  });

  test("a null in a key is not the text null", () => {
    expect(
      differences([{ key: [null], hash: "x" }], [{ key: ["null"], hash: "x" }]).map((entry) => entry.kind),
    ).toEqual(["missing", "extra"]);
  });
});

describe("verdicts", () => {
  test("a slice that only one side has is compared, not passed over", () => {
    const slices = pairSides(
      ["rows", "sum(fare)"],
      new Map([["2026-11-20", { values: ["3", "10.50"], cells: null }]]),
      new Map([[null, { values: ["1", "2.00"], cells: null }]]),
    );
    expect(slices).toEqual([
      {
        slice: "2026-11-20",
        figures: [
          { figure: "rows", source: "3", warehouse: "0" },
          { figure: "sum(fare)", source: "10.50", warehouse: null },
        ],
        verdict: "disagrees",
        depth: "figures",
      },
      {
        slice: null,
        figures: [
          { figure: "rows", source: "0", warehouse: "1" },
          { figure: "sum(fare)", source: null, warehouse: "2.00" },
        ],
        verdict: "disagrees",
        depth: "figures",
      },
    ]);
    expect(overallVerdict(slices)).toBe("disagrees");
    expect(overallVerdict([])).toBe("unproved");
  });
});

describe("figures", () => {
  test("read back as they are written, strange columns too", () => {
    fc.assert(
      fc.property(
        fc.string({ minLength: 1, maxLength: 20 }),
        fc.constantFrom("sum" as const, "min" as const, "max" as const, "count" as const),
        (column, measure) => {
          expect(parseFigure(formatFigure(measure, column))).toMatchObject({ measure, column });
        },
      ),
    );
  });
  test.each(["avg(x)", "sum()", "rows()", "sum(a", "drop table"])("refuses %j", (bad) =>
    expect(() => parseFigure(bad)).toThrow(RangeError),
  );
  test("speak plainly", () => {
    expect(["rows", "sum(fare)", "max(updated_at)", "max(fare)"].map((figure) => figureWords(figure))).toEqual([
      "rows",
      "sum of fare",
      "latest updated_at",
      "highest fare",
    ]);
  });
});

describe("tallies", () => {
  test("balance exactly, beyond what floats can count", () => {
    const tally = { ...emptyTally, read: "9007199254740993", new: "9007199254740992", changed: "1" };
    expect(balances(tally)).toBe(true);
    expect(balances({ ...tally, read: "9007199254740992" })).toBe(false);
    expect(addTallies([tally, tally]).read).toBe("18014398509481986");
  });
});
