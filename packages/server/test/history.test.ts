import { afterAll, beforeAll, describe, expect, test } from "vitest";
import { environment, makeHouse, projectFile, type TestHouse } from "./house.ts";

/** Histories over the API: one key through time, the table as of a moment, what changed between two. */
let house: TestHouse;
const run = async () => {
  const { id } = (await house.ask("POST", "/pipelines/trips/run", {})).body;
  await house.execute(id);
  return (await house.ask("GET", `/runs/${id}`)).body;
};
beforeAll(async () => {
  house = await makeHouse("history_api");
  await house.sql(
    house.names.source,
    "CREATE TABLE trip (id int PRIMARY KEY, port text, phone text, at timestamptz NOT NULL); INSERT INTO trip SELECT n, 'KIL', '1', '2026-01-01' FROM generate_series(1, 30) n",
  );
  const project = projectFile(house, (text) =>
    text
      .replace(
        /watermark: .*\n/,
        "columns: { id: id, port: port, phone: \"encode(sha256(convert_to(phone, 'UTF8')), 'hex')\", at: at }\n",
      )
      .replace(
        /into: .*\n/,
        "into: { table: landing.trip, mode: history, key: [id], deleted: close, history: { columns: { phone: overwrite }, change: kind, surrogate: { column: sk } } }\n",
      )
      .replace(/proof: .*\n/, "proof: { figures: [rows] }\n"),
  );
  const applied = await house.ask("POST", "/project", { text: project, environment: environment() });
  expect([applied.status, applied.body.problems]).toEqual([200, undefined]);
});
afterAll(() => house.close());

describe("a history", () => {
  test("is told by run, proof, ledger and warehouse", async () => {
    await run();
    await house.sql(house.names.source, "UPDATE trip SET port = 'SKV' WHERE id <= 3; DELETE FROM trip WHERE id = 30");
    const second = await run();
    expect(second.loads[0]).toMatchObject({
      tally: { changed: "3", deleted: "1", versions: "3", closed: "4" },
      findings: { opened: [{ column: "port", versions: "3" }] },
      verdict: "proved",
    });
    expect((await house.ask("GET", `/proofs/${second.loads[0].proof}`)).body.history).toMatchObject({
      of: "changed",
      broken: [],
    });
    expect((await house.ask("GET", "/standing/ledger?zone=UTC")).body.groups[0].tables[0]).toMatchObject({
      history: true,
      rows: "29",
    });
    const tables = (await house.ask("GET", "/warehouse")).body.tables;
    expect(tables.find((row: { name: string }) => row.name === "trip")).toMatchObject({ history: true });
    expect((await house.ask("GET", "/history")).body).toMatchObject([
      { connection: "store", target: "landing.trip", pipeline: "trips" },
    ]);
  });

  test("of one key is a lifeline, with the runs that made it and the keys beside it", async () => {
    const { body } = await house.ask("GET", `/history/store/landing.trip/lifeline?key=${encodeURIComponent('["2"]')}`);
    expect(body.versions.map((row: Record<string, string>) => row.port)).toEqual(["KIL", "SKV"]);
    expect(body).toMatchObject({ previous: ["1"], next: ["3"], gone: [] });
    expect(Object.values(body.runs)).toHaveLength(2);
    const gone = (await house.ask("GET", `/history/store/landing.trip/lifeline?key=${encodeURIComponent('["30"]')}`))
      .body;
    expect(gone.gone).toHaveLength(1);
    expect(gone.versions).toMatchObject([{ kind: "deleted", is_current: "f" }]);
  });

  test("as of a moment is the table then; between two, what changed, by column and key", async () => {
    const { body: line } = await house.ask(
      "GET",
      `/history/store/landing.trip/lifeline?key=${encodeURIComponent('["1"]')}`,
    );
    const first = line.versions[0].valid_from;
    const then = await house.ask("GET", `/history/store/landing.trip/as-of?at=${encodeURIComponent(first)}`);
    expect(then.body).toMatchObject({ count: "30" });
    expect(new Set(then.body.rows.map((row: Record<string, string>) => row.port))).toEqual(new Set(["KIL"]));
    expect((await house.ask("GET", "/history/store/landing.trip/as-of")).body).toMatchObject({ count: "29" });
    expect((await house.ask("GET", "/history/store/landing.trip/as-of?at=2020-01-01")).body).toMatchObject({
      count: "0",
      rows: [],
    });
    const between = await house.ask(
      "GET",
      `/history/store/landing.trip/between?from=${encodeURIComponent(first)}&to=now`,
    );
    expect(between.body).toMatchObject({ added: "0", gone: "1", changed: "3" });
    expect(between.body.columns).toContainEqual({ column: "port", keys: "3" });
    expect(between.body.keys).toContainEqual({ key: ["30"], how: "gone" });
  });

  test.each<[string, number, RegExp]>([
    ["/history/store/landing.other/as-of", 404, /keeps no history/],
    ["/history/nowhere/landing.trip/as-of", 404, /no connection nowhere/],
    ["/history/store/landing.trip/as-of?at=someday", 422, /someday is not a moment/],
    ["/history/store/landing.trip/between?from=2026-01-01", 422, /to is missing/],
    ["/history/store/landing.trip/lifeline", 422, /key is missing/],
    ["/history/store/landing.trip/lifeline?key=%7B%7D", 422, /a list of texts/],
    [`/history/store/landing.trip/lifeline?key=${encodeURIComponent('["99"]')}`, 404, /no key 99/],
    [`/history/store/landing.trip/lifeline?key=${encodeURIComponent('["1; DROP TABLE x"]')}`, 422, /not a value/],
    [`/history/store/landing.trip/lifeline?key=${encodeURIComponent('["1","2"]')}`, 422, /key/],
    ["/history/store/no%22table/as-of", 422, /not a table's name/],
  ])("asked wrongly is answered in a sentence: %s", async (path, status, says) => {
    const { status: got, body } = await house.ask("GET", path);
    expect([got, body.title]).toEqual([status, expect.stringMatching(says)]);
  });

  test("is seen by those who are signed in only", async () => {
    expect((await house.as(null)("GET", "/history")).status).toBe(401);
  });
});
