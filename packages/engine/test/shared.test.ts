import { rm } from "node:fs/promises";
import { join } from "node:path";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import fc from "fast-check";
import { expect, test } from "vitest";
import { useFares } from "./folder.ts";
import { quiet } from "./pair.ts";

/** Keys that stand in several files, of which only some are read again. */
const desk = useFares("shared");
const { fares, clean } = desk;

const load: Load = {
  from: { connection: "fares", files: "*.csv", origin: "file" },
  into: { table: "landing.fare", mode: "upsert", key: ["id"], deleted: "remove", deletions: { most: 100 } },
};
type Sheet = Record<string, string>;
const put = (name: string, sheet: Sheet) =>
  desk.put(
    `${name}.csv`,
    `id,name\n${Object.entries(sheet)
      .map((row) => `${row.join(",")}\n`)
      .join("")}`,
  );
const run = async () => {
  const lines: string[] = [];
  const rehearsed = await desk.pair.between(fares).rehearse(load);
  const { tally, proof } = await desk.pair
    .between(fares)
    .run(load, { report: { ...quiet, line: (line) => void lines.push(line) } });
  expect(rehearsed.tally).toEqual(tally);
  expect(proof.verdict).toBe("proved");
  return { tally, whole: lines.includes("a key stands in several files, so all of them are read") };
};
const held = async () =>
  (await desk.pair.atWarehouse("SELECT id, name FROM landing.fare ORDER BY id")).map((row) =>
    Object.values(row).join(""),
  );

test("a key that comes to another file, and leaves it again, is what the file says that still has it", async () => {
  await put("a", { 1: "x", 2: "y" });
  await put("b", { 3: "z" });
  await run();
  await put("b", { 1: "other", 3: "z" });
  expect(await run()).toMatchObject({ whole: true, tally: { read: "4", rejected: "1" } });
  expect((await desk.pair.between(fares).prove(load)).proof.verdict).toBe("proved");
  await put("b", { 3: "z" });
  await run();
  expect(await held()).toEqual(["1x", "2y", "3z"]);
  // What is no matter of two files reads only what changed.
  await put("b", { 4: "w" });
  expect(await run()).toMatchObject({ whole: false, tally: { read: "1", new: "1", deleted: "1" } });
});

test("whatever is written into some files, the warehouse holds what reading all of them gives", async () => {
  const sheet = fc.dictionary(fc.constantFrom("1", "2", "3", "4"), fc.constantFrom("x", "y", "z"), {
    maxKeys: 3,
    noNullPrototype: true,
  });
  const edit = fc.tuple(
    fc.constantFrom("a", "b", "c"),
    fc.oneof({ weight: 5, arbitrary: sheet }, { weight: 1, arbitrary: fc.constant(null) }),
  );
  await fc.assert(
    fc.asyncProperty(fc.array(edit, { minLength: 2, maxLength: 6 }), async (edits) => {
      await clean();
      await put("always", { 9: "x" });
      await run();
      for (const [name, rows] of edits) {
        if (rows) await put(name, rows);
        else await rm(join(desk.folder, `${name}.csv`), { force: true });
        await run();
        const { proof, rows: differing } = await desk.pair.between(fares).prove(load);
        expect([proof.verdict, differing?.missing, differing?.extra, differing?.different]).toEqual([
          "proved",
          0,
          0,
          0,
        ]);
      }
    }),
    { numRuns: 12 },
  );
}, 180_000);
