import type { From, Load } from "@undercoat/core/pipeline/pipeline";
import { Cancelled } from "@undercoat/engine/failure";
import { sourceFor } from "@undercoat/engine/source/registry";
import { describe, expect, test } from "vitest";
import { useFares } from "./folder.ts";

/** Reading all of a dataset for its types, and proofs of each file by itself. */
const desk = useFares("scan");
const { fares } = desk;
const many = 25_000;

const scan = (from: Omit<From, "connection">, tell = (_: { rows: number; bytes: number; of: number }) => {}) =>
  sourceFor(fares).scan?.({ connection: "fares", ...from }, tell, new AbortController().signal);
const run = (load: Load) => desk.pair.between(fares).run(load);

/** A CSV whose later rows break what its first 20,000 say. */
const late = (last: string) =>
  `id;amount;day\n${Array.from({ length: many }, (_, at) => `${at};${at % 90};2026-01-02`).join("\n")}\n${last}\n`;

describe("a scan", () => {
  test("finds the types that every row fits, and says how far it is", async () => {
    await desk.put("a.csv", late("99999999999999999999;7,25;soon\n1;2"));
    const seen: number[] = [];
    const found = await scan({ files: "a.csv" }, ({ rows, bytes, of }) => {
      seen.push(rows);
      expect(bytes).toBeLessThanOrEqual(of);
    });
    expect(found).toEqual({
      rows: many + 1,
      faults: 1,
      types: { id: "numeric", amount: "numeric", day: "text" },
      decimal: ",",
    });
    expect(seen.length).toBeGreaterThan(0);
    expect(seen).toEqual(seen.toSorted((a, b) => a - b));
  });

  test("is what the load goes by: what a sample would reject is loaded", async () => {
    await desk.put("a.csv", late("99999999999999999999;7,25;soon"));
    const load: Load = {
      from: { connection: "fares", files: "a.csv" },
      into: { table: "landing.fare", mode: "replace" },
    };
    expect((await run(load)).tally).toMatchObject({ rejected: "1" });
    await desk.clean();
    await desk.put("a.csv", late("99999999999999999999;7,25;soon"));
    const found = await scan({ files: "a.csv" });
    const { tally, proof } = await run({
      ...load,
      from: { ...load.from, types: found?.types ?? {}, csv: { decimal: "," } },
    });
    expect([tally.rejected, proof.verdict]).toEqual(["0", "proved"]);
    const rows = await desk.pair.atWarehouse("SELECT id::text, amount::text, day FROM landing.fare WHERE day = 'soon'");
    expect(rows).toEqual([{ id: "99999999999999999999", amount: "7.25", day: "soon" }]);
  });

  test("leaves a text with decimal commas what it is, for a shape that makes numbers of it", async () => {
    await desk.put("a.csv", "id;price\n1;7,50\n2;8,25\n3;n/a\n");
    const found = await scan({ files: "a.csv" });
    expect(found).toMatchObject({ types: { id: "bigint", price: "text" }, decimal: "," });
    const from = { connection: "fares", files: "a.csv", types: found?.types ?? {}, csv: { decimal: "," as const } };
    const columns = { id: "id", price: { as: "price", type: "numeric(8,2)" } };
    const { tally } = await run({ from, columns, into: { table: "landing.fare", mode: "replace" } });
    expect(tally).toMatchObject({ new: "2", rejected: "1" });
  });

  test("finds members of JSON that no early record has", async () => {
    const records = Array.from({ length: many }, (_, id) => `{"id":${id}}`).join("\n");
    await desk.put("a.ndjson", `${records}\n{"id":7,"late":1.5}\n`);
    const from = { connection: "fares", files: "a.ndjson" };
    const into = { table: "landing.fare", mode: "replace" as const };
    const found = await scan(from);
    expect(found?.types).toEqual({ id: "bigint", late: "numeric" });
    expect((await run({ from, into })).tally.rejected).toBe("1");
    expect((await run({ from: { ...from, types: found?.types ?? {} }, into })).tally.rejected).toBe("0");
  });

  test("goes over all files of a pattern, and ends when nobody waits for it any more", async () => {
    await desk.put("a.csv", "id,x\n1,2\n");
    await desk.put("b.csv", "id,y\nn,2026-01-01\n");
    expect(await scan({ files: "*.csv" })).toEqual({
      rows: 2,
      faults: 0,
      types: { id: "text", x: "bigint", y: "date" },
    });
    const gone = AbortSignal.abort();
    await expect(sourceFor(fares).scan?.({ connection: "fares", files: "*.csv" }, () => {}, gone)).rejects.toThrow(
      Cancelled,
    );
  });
});

describe("a proof by file", () => {
  const load: Load = {
    from: { connection: "fares", files: "*.csv", origin: "file" },
    into: { table: "landing.fare", mode: "upsert", key: ["id"] },
    proof: { by: { column: "file", slice: "origin" }, figures: ["rows", "sum(price)"] },
  };
  const slices = async () =>
    (await run(load)).proof.slices?.map(({ slice, figures }) => [
      slice,
      ...figures.map(({ source, warehouse }) => `${source} ${warehouse}`),
    ]);

  test("tells each file's own figures, of those alone that were read", async () => {
    await desk.put("a.csv", "id,price\n1,1.5\n2,2\n");
    await desk.put('it"s \\ odd.csv', "id,price\n3,4\n");
    expect(await slices()).toEqual([
      ["a.csv", "2 2", "3.5 3.5"],
      ['it"s \\ odd.csv', "1 1", "4 4"],
    ]);
    await desk.put('it"s \\ odd.csv', "id,price\n3,4\n5,6\n");
    expect(await slices()).toEqual([['it"s \\ odd.csv', "2 2", "10 10"]]);
  });

  test("finds which file's rows were changed in the warehouse, where two changes keep the sum", async () => {
    await desk.put("a.csv", "id,price\n1,1\n2,2\n");
    await desk.put("b.csv", "id,price\n3,4\n");
    await run(load);
    await desk.pair.atWarehouse(
      "UPDATE landing.fare SET price = price + CASE id WHEN 1 THEN 1 ELSE -1 END WHERE id < 3",
    );
    const { proof } = await desk.pair.between(fares).prove(load, true);
    expect(proof.slices?.map(({ slice, verdict }) => [slice, verdict])).toEqual([
      ["a.csv", "disagrees"],
      ["b.csv", "proved"],
    ]);
  });

  test("needs the column that says where a row came from", async () => {
    await desk.put("a.csv", "id,price\n1,1\n");
    await expect(run({ ...load, proof: { by: { column: "id", slice: "origin" }, figures: ["rows"] } })).rejects.toThrow(
      "id does not say where a row came from",
    );
  });
});
