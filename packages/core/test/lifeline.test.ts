import { changesOf, drawLifeline, millisecondsOf, versionAt } from "@undercoat/core/history/lifeline";
import type { HistoryShape } from "@undercoat/core/history/shape";
import { readingsOf, suggestChanges } from "@undercoat/core/history/suggest";
import { check, loadSchema } from "@undercoat/core/pipeline/schema";
import { describe, expect, test } from "vitest";

const shape: HistoryShape = {
  key: ["code"],
  from: "valid_from",
  to: "valid_to",
  end: null,
  current: { column: "is_current", yes: "true" },
  change: null,
  surrogate: null,
  roles: [
    ["port", "version"],
    ["phone", "overwrite"],
    ["seen_at", "follow"],
  ],
  previous: [],
  overwrite: "all",
  since: null,
};
const version = (port: string | null, from: string, to: string | null) => ({
  code: "A",
  port,
  phone: "1",
  seen_at: from,
  valid_from: from,
  valid_to: to,
});
const now = millisecondsOf("2026-06-01 00:00:00+00");
const versions = [
  version("KIL", "2026-01-01 00:00:00.000001+00", "2026-02-01 00:00:00+00"),
  version("SKV", "2026-02-01 00:00:00+00", "2026-03-01 00:00:00+00"),
  version("SKV", "2026-04-01 00:00:00+00", null),
];

describe("a lifeline", () => {
  test("has an edge where versions meet, where the first begins and where a gap begins and ends", () => {
    const drawn = drawLifeline({ shape, versions, runs: { "2026-02-01 00:00:00+00": 12 }, corrections: [] }, now);
    expect(
      drawn.edges.map(({ text, before, after, changed, run }) => [
        text,
        before?.values.port,
        after?.values.port,
        changed,
        run,
      ]),
    ).toEqual([
      ["2026-01-01 00:00:00.000001+00", undefined, "KIL", [], null],
      ["2026-02-01 00:00:00+00", "KIL", "SKV", ["port"], 12],
      ["2026-03-01 00:00:00+00", "SKV", undefined, [], null],
      ["2026-04-01 00:00:00+00", undefined, "SKV", [], null],
    ]);
    expect(drawn.gaps).toMatchObject([{ fromText: "2026-03-01 00:00:00+00", toText: "2026-04-01 00:00:00+00" }]);
    expect(changesOf(drawn)).toEqual([{ column: "port", times: 1 }]);
  });

  test("tells which version was corrected, and none where there was a gap", () => {
    const corrections = [
      { at: "2026-02-01 00:00:00+00", run: 14 },
      { at: "2026-03-10 00:00:00+00", run: 15 },
      { at: "2026-05-01 00:00:00+00", run: null },
    ];
    const drawn = drawLifeline({ shape, versions, runs: {}, corrections }, now);
    expect(drawn.versions.map(({ corrected }) => corrected.map(({ run }) => run))).toEqual([[], [14], [null]]);
  });

  test("cuts a strand where its column changed or a gap lies, and leaves out what only tells the time", () => {
    const { strands } = drawLifeline({ shape, versions, runs: {}, corrections: [] }, now);
    expect(strands.map(({ column, pieces }) => [column, pieces.map((piece) => [piece.value, piece.toText])])).toEqual([
      [
        "port",
        [
          ["KIL", "2026-02-01 00:00:00+00"],
          ["SKV", "2026-03-01 00:00:00+00"],
          ["SKV", null],
        ],
      ],
      [
        "phone",
        [
          ["1", "2026-03-01 00:00:00+00"],
          ["1", null],
        ],
      ],
    ]);
  });

  test("tells the version of a moment: from its beginning, not to its end, none in a gap", () => {
    const drawn = drawLifeline({ shape, versions, runs: {}, corrections: [] }, now);
    const at = (text: string) => versionAt(drawn, millisecondsOf(text))?.values.port ?? null;
    expect(at("2026-02-01 00:00:00+00")).toBe("SKV");
    expect(at("2026-01-31 23:59:59+00")).toBe("KIL");
    expect(at("2026-03-01 00:00:00+00")).toBeNull();
    expect(at("2025-12-01 00:00:00+00")).toBeNull();
    expect(at("2026-06-01 00:00:00+00")).toBe("SKV");
  });

  test.each<[string | null, string | null]>([
    ["9999-12-31", "9999-12-31 00:00:00+00"],
    ["9999-12-31T00:00Z", "9999-12-31 00:00:00+00"],
    [null, null],
    ["infinity", "infinity"],
  ])("knows a current version by its end %s", (end, held) => {
    const drawn = drawLifeline(
      { shape: { ...shape, end }, versions: [version("KIL", "-infinity", held)], runs: {}, corrections: [] },
      now,
    );
    expect(drawn.versions).toMatchObject([{ current: true, toText: null }]);
    expect(drawn.low).toBeLessThan(drawn.high);
    expect(Number.isFinite(drawn.versions[0]?.from)).toBe(true);
  });
});

test("what a change should do is suggested by name and type, with its reason", () => {
  const columns = [
    { name: "home_port", type: "text" },
    { name: "captain_phone", type: "text" },
    { name: "launched_on", type: "date" },
    { name: "updated_at", type: "timestamp with time zone" },
    { name: "note", type: "text" },
    { name: "extras", type: "jsonb" },
  ];
  const suggested = suggestChanges(columns);
  expect(Object.entries(suggested).map(([name, { change }]) => [name, change])).toEqual([
    ["home_port", "version"],
    ["captain_phone", "overwrite"],
    ["launched_on", "keep"],
    ["updated_at", "overwrite"],
    ["note", "overwrite"],
    ["extras", "overwrite"],
  ]);
  for (const { name } of columns) expect(suggested[name]?.why).toContain(name);
});

test("a column that differs in nearly every changed row is not suggested to open a version", () => {
  const columns = ["home_port", "position"].map((name) => ({ name, type: "text" }));
  const row = (at: number, position: string, port = "KIL") => ({
    values: { code: String(at), home_port: port, position },
    held: { code: String(at), home_port: "KIL", position: "before" },
    rejected: null,
  });
  const moved = Array.from({ length: 12 }, (_, at) => row(at, `at ${at}`, at === 3 ? "VES" : "KIL"));
  const suggested = suggestChanges(columns, readingsOf(moved, ["code"]));
  expect(suggested.position).toMatchObject({ change: "overwrite", why: expect.stringContaining("12 of 12 rows") });
  expect(suggested.home_port?.change).toBe("version");
  // Rows that say what they said, or too few that don't, say nothing of how often.
  const still = Array.from({ length: 12 }, (_, at) => row(at, "before"));
  for (const rows of [still, moved.slice(0, 5), [...still, ...moved.slice(0, 5)]])
    expect(suggestChanges(columns, readingsOf(rows, ["code"])).position?.change).toBe("version");
  // A log's rows of one key are readings of it.
  const log = Array.from({ length: 9 }, (_, at) => ({ ...row(0, `at ${at}`), held: null }));
  expect(suggestChanges(columns, readingsOf(log, ["code"])).position?.change).toBe("overwrite");
});

describe("the form of a history", () => {
  const problems = (into: object) =>
    check(loadSchema, {
      from: { connection: "a", table: "a.b" },
      into: { table: "c.d", mode: "history", key: ["id"], ...into },
    }).problems.map(({ message }) => message);
  test("as the project file has it is taken", () => {
    const history = {
      columns: {
        home_port: "version",
        captain_phone: "overwrite",
        launched_on: "keep",
        name: { previous: "former_name" },
      },
      overwrite: "all",
      breach: "reject",
      since: "updated_at",
      first: "-infinity",
      from: "valid_from",
      to: "valid_to",
      end: null,
      current: { column: "is_current", yes: "Y", no: "N" },
      change: "change_kind",
      surrogate: { column: "vessel_sk", start: 1000, step: 1 },
      compare: { ignore: ["case", "space"], locale: "nb-NO" },
    };
    expect(problems({ history, deleted: "close" })).toEqual([]);
  });
  test.each<[object, RegExp]>([
    [{ key: undefined }, /needed: a history must know which columns/],
    [{ deleted: "remove" }, /would change the past/],
    [{ mode: "upsert", deleted: "close" }, /close ends a version/],
    [{ mode: "upsert", history: {} }, /which is mode: history/],
    [{ history: { columns: { a: "forget" } } }, /keep, overwrite, version/],
    [{ history: { current: { column: "c", yes: 1, no: "N" } } }, /two values of one kind/],
    [{ history: { current: { column: "c", yes: "Y", no: "Y" } } }, /two values of one kind/],
    [{ history: { first: "yesterday" } }, /a time such as/],
    [{ history: { end: "-infinity" } }, /invalid value|contains an invalid/],
    [{ history: { compare: { ignore: ["case"], locale: "x'; DROP" } } }, /a locale such as/],
    [{ history: { surrogate: { column: "sk", step: 0 } } }, /greater than or equal to 1/],
  ])("%j is refused", (into, says) => {
    expect(problems(into).join("; ")).toMatch(says);
  });
});
