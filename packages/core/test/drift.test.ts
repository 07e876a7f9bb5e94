import type { Dataset } from "@undercoat/core/dataset/dataset";
import { matchesPattern } from "@undercoat/core/pipeline/names";
import { dependencies, findRing } from "@undercoat/core/pipeline/order";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import { driftWords } from "@undercoat/core/run/drift";
import { reasonWords } from "@undercoat/core/run/run";
import { durationSeconds, suggestLookBack } from "@undercoat/core/schedule/duration";
import { type KnownColumn, settleDrift } from "@undercoat/core/shape/drift";
import fc from "fast-check";
import { describe, expect, test } from "vitest";

const dataset = (columns: [string, string][]): Dataset => ({
  columns: columns.map(([name, type]) => ({
    name,
    declared: type,
    type: { resolved: type, kind: "b", builtIn: true },
    warehouseType: type,
    notNull: false,
    generated: false,
    hasDefault: false,
    comment: null,
  })),
  indexes: [],
});
const known = (columns: [string, string][]): KnownColumn[] => columns.map(([name, type]) => ({ name, type }));
const load = (change: Partial<Load> = {}): Load => ({
  from: { connection: "a", table: "public.t" },
  watermark: { column: "at" },
  into: { table: "x.t", mode: "upsert", key: ["id"] },
  ...change,
});
const before: [string, string][] = [
  ["id", "integer"],
  ["name", "text"],
  ["at", "date"],
];
const told = async (now: [string, string][], change: Partial<Load> = {}, last = known(before)) => {
  const drifted = await settleDrift(load(change), dataset(now), last);
  return {
    words: drifted.notes.map(driftWords),
    columns: drifted.dataset.columns.map((column) => (column.missing ? `${column.name} missing` : column.name)),
    stop: drifted.stop?.message ?? null,
    drifted,
  };
};

describe("drift", () => {
  test("nothing has drifted before the first run, nor where nothing changed", async () => {
    expect((await told(before, {}, [])).words).toHaveLength(3);
    expect((await settleDrift(load(), dataset(before), null)).notes).toEqual([]);
    expect((await told(before)).words).toEqual([]);
  });

  test("a new column is taken unless the policy says otherwise", async () => {
    const now: [string, string][] = [
      ["id", "integer"],
      ["deck", "text"],
      ["name", "text"],
      ["at", "date"],
    ];
    expect(await told(now)).toMatchObject({
      words: ["the source has a new column deck (text): it is taken"],
      columns: ["id", "name", "at", "deck"],
      stop: null,
    });
    expect((await told(now, { drift: { added: "stop" } })).stop).toBe(
      "The source's columns have changed: the source has a new column deck (text)",
    );
    const ignored = await told(now, { drift: { added: "ignore" } });
    expect(ignored.columns).toEqual(["id", "name", "at"]);
    // What was ignored once is not told again, and is taken when the policy changes.
    expect((await told(now, { drift: { added: "ignore" } }, ignored.drifted.known)).words).toEqual([]);
    expect((await told(now, {}, ignored.drifted.known)).words).toEqual([
      "the source has a new column deck (text): it is taken",
    ]);
  });

  test("a load that names its columns minds only those it reads", async () => {
    const named = { columns: { id: "id", label: "upper(name)" }, watermark: undefined };
    expect(
      await told(
        [
          ["id", "integer"],
          ["name", "text"],
          ["deck", "text"],
        ],
        named,
      ),
    ).toMatchObject({
      words: [
        "the source has a new column deck (text): the load does not read it",
        "the source no longer has at: the load does not read it",
      ],
      stop: null,
    });
    expect(
      (
        await told(
          [
            ["id", "integer"],
            ["at", "date"],
          ],
          named,
        )
      ).stop,
    ).toBe("The source's columns have changed: the source no longer has name");
  });

  test("a wider type widens, another stops or is settled by policy; key and watermark are never filled with null", async () => {
    expect(
      await told([
        ["id", "bigint"],
        ["name", "text"],
        ["at", "date"],
      ]),
    ).toMatchObject({ words: ["id was widened from integer to bigint: the target is widened"], stop: null });
    const other: [string, string][] = [
      ["id", "integer"],
      ["name", "character varying(5)"],
      ["at", "date"],
    ];
    expect((await told(other)).stop).toMatch(/name was narrowed from text to varchar\(5\)/);
    expect((await told(other, { drift: { changed: "null" } })).columns).toEqual(["id", "name missing", "at"]);
    expect((await told(other, { drift: { changed: "take" } })).drifted.held.get("name")).toBe("text");
    expect(
      (
        await told(
          [
            ["id", "integer"],
            ["name", "text"],
          ],
          { drift: { gone: "null" } },
        )
      ).stop,
    ).toMatch(/no longer has at/);
    expect(
      (
        await told(
          [
            ["id", "integer"],
            ["at", "date"],
          ],
          { drift: { gone: "null" } },
        )
      ).columns,
    ).toEqual(["id", "name missing", "at"]);
  });

  test("what is settled once is known, so that the next run is told nothing new", async () => {
    const names = fc.uniqueArray(fc.constantFrom("id", "at", "a", "b", "c", "d"), { minLength: 2 });
    const types = fc.constantFrom("integer", "bigint", "text", "character varying(9)", "numeric(8,2)");
    const columns = fc
      .tuple(names, fc.array(types, { minLength: 6, maxLength: 6 }))
      .map(([list, kinds]) => list.map((name, at): [string, string] => [name, kinds[at] ?? "text"]));
    await fc.assert(
      fc.asyncProperty(columns, columns, fc.constantFrom("take", "ignore"), async (last, now, added) => {
        const policy = {
          drift: { added, changed: "take", gone: "null" } as const,
          watermark: undefined,
          into: { table: "x.t", mode: "replace" } as const,
        };
        const first = await told(now, policy, known(last));
        const second = await told(now, policy, first.drifted.known);
        expect(first.stop).toBeNull();
        // A column filled with null is told of at every run, as it is still missing.
        expect(second.drifted.notes.every((note) => note.done === "null")).toBe(true);
      }),
    );
  });
});

describe("the order of loads", () => {
  const tables = (...loads: [string, string[], string][]) =>
    new Map(loads.map(([name, reads, writes]) => [name, { reads, writes }]));

  test("follows from what each reads and writes", () => {
    expect(
      dependencies(tables(["c", ["x.a", "x.b", "y.other"], "x.c"], ["a", [], "x.a"], ["b", ["x.a", "x.b"], "x.b"])),
    ).toEqual(
      new Map([
        ["c", ["a", "b"]],
        ["a", []],
        ["b", ["a"]],
      ]),
    );
  });

  test("has no ring where every load reads earlier ones only, and one is found where it is closed", () => {
    fc.assert(
      fc.property(fc.array(fc.array(fc.nat(20), { maxLength: 4 }), { minLength: 1, maxLength: 20 }), (reads) => {
        const waits = new Map(
          reads.map((list, at) => [`l${at}`, list.filter((other) => other < at).map((other) => `l${other}`)]),
        );
        expect(findRing(waits)).toBeNull();
        const last = `l${reads.length - 1}`;
        waits.set("l0", [...(waits.get("l0") ?? []), last]);
        waits.set(last, [...(waits.get(last) ?? []), "l0"]);
        expect(findRing(waits)).toContain("l0");
      }),
    );
  });
});

test.each([
  ["booking_2026", "booking_*", true],
  ["booking", "booking_*", false],
  ["a.b", "a.b", true],
  ["axb", "a.b", false],
  ["any (thing)", "*", true],
  ["north_trip_x", "*_trip_*", true],
])("%s matches %s: %s", (name, pattern, answer) => expect(matchesPattern(name, pattern)).toBe(answer));

describe("a suggested look-back", () => {
  test.each([
    ["00:00:10", "PT1M"],
    ["00:03:12", "PT5M"],
    ["00:06:00", "PT10M"],
    ["01:30:00.5", "PT4H"],
    ["1 day 02:00:00", "P2D"],
    ["3 days", "P5D"],
  ])("covers rows %s late: %s", (most, lookBack) => expect(suggestLookBack(most)).toBe(lookBack));

  test("always covers them", () => {
    fc.assert(
      fc.property(fc.integer({ min: 0, max: 10 }), fc.integer({ min: 0, max: 86_399 }), (days, seconds) => {
        const two = (value: number) => String(Math.floor(value)).padStart(2, "0");
        const most = `${days ? `${days} days ` : ""}${two(seconds / 3600)}:${two((seconds / 60) % 60)}:${two(seconds % 60)}`;
        expect(durationSeconds(suggestLookBack(most))).toBeGreaterThan(days * 86_400 + seconds);
      }),
    );
  });
});

test("reasons are told with their rows", () => {
  const reason = (words: string, rows: string) => ({
    code: "type",
    column: "amount",
    reason: words,
    rows,
    examples: [],
  });
  expect(reasonWords([reason("amount is not a number", "1200"), reason("method is missing", "1")])).toBe(
    "amount is not a number (1,200), method is missing (1)",
  );
});
