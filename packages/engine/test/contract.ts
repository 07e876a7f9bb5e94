import type { From, Load } from "@undercoat/core/pipeline/pipeline";
import type { TableName } from "@undercoat/core/sql/identifier";
import type { Credentials } from "@undercoat/engine/connection/credentials";
import { sourceFor } from "@undercoat/engine/source/registry";
import { describe, expect, test } from "vitest";
import type { Pair } from "./pair.ts";

/** What a kind of source brings to its contract test: a source with one dataset, and ways to change it. */
export interface Specimen {
  pair(): Pair;
  credentials(): Credentials;
  /** how a load names the dataset, and how a list does */
  from: Omit<From, "connection">;
  item: TableName;
  /** a dataset that is not there */
  absent: Omit<From, "connection">;
  /** the first step of a check */
  firstStep: string;
  /** makes the dataset: id (a whole number, the key), name (a text), fare (a number), at (a time), by the rows' texts */
  furnish(rows: SpecimenRow[]): Promise<void>;
}

export type SpecimenRow = [id: number, name: string | null, fare: string | null, at: string];

const rows: SpecimenRow[] = Array.from({ length: 60 }, (_, at) => [
  at + 1,
  at === 7 ? null : at === 8 ? "" : `Kjær '${at}' 😀`,
  at === 9 ? null : `${at}.50`,
  `2026-11-${String(1 + (at % 20)).padStart(2, "0")} 06:00:00.123456+00`,
]);

/** The contract that every kind of source keeps: what is loaded is what it holds, and a proof finds whatever is not. */
export function sourceContract(kind: string, specimen: Specimen): void {
  const load: Load = {
    from: { connection: "source", ...specimen.from },
    columns: {
      id: { as: "id", type: "integer" },
      name: "name",
      fare: { as: "fare", type: "numeric(12,2)" },
      at: { as: "at", type: "timestamptz" },
    },
    into: { table: "landing.sample", mode: "upsert", key: ["id"], deleted: "remove" },
    proof: { by: { column: "at", slice: "day" }, figures: ["rows", "sum(fare)", "count(name)"] },
  };
  const between = () => specimen.pair().between(specimen.credentials());
  const at = (sql: string) => specimen.pair().atWarehouse(sql);
  const held = async () => (await at("SELECT t::text AS row FROM landing.sample t ORDER BY id")).map(({ row }) => row);
  const loaded = async () => {
    await at("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
    await specimen.furnish(rows);
    return between().run(load);
  };

  describe(`${kind} keeps the contract of a source`, () => {
    test("its check passes step by step", async () => {
      await specimen.furnish(rows);
      const steps: string[] = [];
      const source = sourceFor(specimen.credentials());
      expect(await source.check(false, (step) => steps.push(`${step.step} ${step.outcome}`))).toBe(true);
      expect(steps.at(0)).toBe(`${specimen.firstStep} passed`);
      expect(steps).toContain("read passed");
      expect(steps.at(-1)).toBe("write skipped");
    });

    test("it lists and describes what it has", async () => {
      await specimen.furnish(rows);
      const source = sourceFor(specimen.credentials());
      const { schema, table } = specimen.item;
      expect((await source.datasets()).filter((one) => one.schema === schema && one.name === table)).toHaveLength(1);
      expect((await source.dataset(specimen.item)).columns.map(({ name }) => name)).toEqual([
        "id",
        "name",
        "fare",
        "at",
      ]);
      const [first] = await source.firstRows(specimen.item, 2);
      expect(first).toMatchObject({ id: "1", name: "Kjær '0' 😀" });
      expect(await source.firstRows(specimen.item, 2)).toHaveLength(2);
    });

    test("a first load holds every value as it is, and is proved in every cell", async () => {
      const { tally, proof } = await loaded();
      expect(tally).toEqual({ read: "60", new: "60", changed: "0", same: "0", rejected: "0", deleted: "0" });
      expect(proof).toMatchObject({ verdict: "proved", depth: "cells", cells: { rows: "60", of: "all" } });
      expect(
        await at("SELECT name IS NULL AS none, name, fare FROM landing.sample WHERE id IN (8, 9, 10) ORDER BY id"),
      ).toEqual([
        { none: "t", name: null, fare: "7.50" },
        { none: "f", name: "", fare: "8.50" },
        { none: "f", name: "Kjær '9' 😀", fare: null },
      ]);
      expect(await at("SELECT (at AT TIME ZONE 'UTC')::text AS at FROM landing.sample WHERE id = 1")).toEqual([
        { at: "2026-11-01 06:00:00.123456" },
      ]);
    });

    test("what changed is changed, what is new is added, what is gone is removed, and the rest stays", async () => {
      await loaded();
      const next = rows
        .filter(([id]) => id !== 3)
        .map((row): SpecimenRow => (row[0] === 5 ? [5, "moved", row[2], row[3]] : row));
      await specimen.furnish([...next, [61, "new", "0.1", "2026-11-21 06:00:00+00"]]);
      const rehearsed = await between().rehearse(load);
      const { tally, proof } = await between().run(load);
      expect(tally).toEqual({ read: "60", new: "1", changed: "1", same: "58", rejected: "0", deleted: "1" });
      expect(rehearsed.tally).toEqual(tally);
      expect(proof.verdict).toBe("proved");
    });

    test("a part is loaded again by key and by interval", async () => {
      await loaded();
      const before = await held();
      await at("UPDATE landing.sample SET name = 'x' WHERE id IN (1, 2, 21)");
      const keys = await between().run(load, { scope: { kind: "keys", keys: [["2"]] } });
      expect(keys.tally).toMatchObject({ read: "1", changed: "1" });
      const day = await between().run(load, { scope: { kind: "interval", from: "2026-11-01", to: "2026-11-02" } });
      expect(day.tally).toMatchObject({ read: "3", changed: "2" });
      expect(day.proof.verdict).toBe("proved");
      expect(await held()).toEqual(before);
    });

    test("a row that a type or a rule turns away is rejected and left out on both sides of the proof", async () => {
      await loaded();
      await specimen.furnish(rows.map((row) => (row[0] === 4 ? [4, row[1], "99999999999.00", row[3]] : row)));
      const ruled = { ...load, rules: { "not the sixth": "id <> 6" } };
      const { tally, proof } = await between().run(ruled);
      expect(tally).toMatchObject({ read: "60", rejected: "2" });
      expect(proof).toMatchObject({ without: "2" });
      expect((await between().prove(ruled)).proof).toMatchObject({ verdict: "proved", without: "2" });
    });

    test.each([
      ["one cent", "UPDATE landing.sample SET fare = fare + 0.01 WHERE id = 7", { different: 1 }],
      ["a microsecond", "UPDATE landing.sample SET at = at + interval '1 microsecond' WHERE id = 7", { different: 1 }],
      ["an empty text for a null", "UPDATE landing.sample SET name = '' WHERE id = 8", { different: 1 }],
      ["a null for an empty text", "UPDATE landing.sample SET name = NULL WHERE id = 9", { different: 1 }],
      ["a space behind a text", "UPDATE landing.sample SET name = name || ' ' WHERE id = 7", { different: 1 }],
      [
        "a pair that cancels",
        "UPDATE landing.sample SET fare = fare + CASE id WHEN 1 THEN 1 ELSE -1 END WHERE id IN (1, 21)",
        { different: 2 },
      ],
      [
        "a swap",
        "UPDATE landing.sample t SET name = o.name FROM landing.sample o WHERE (t.id, o.id) IN ((11, 12), (12, 11))",
        { different: 2 },
      ],
      ["a row that is gone", "DELETE FROM landing.sample WHERE id = 7", { missing: 1 }],
      ["a row too many", "INSERT INTO landing.sample VALUES (99, 'x', 1, '2026-11-01')", { extra: 1 }],
      ["a key that moved", "UPDATE landing.sample SET id = 98 WHERE id = 7", { missing: 1, extra: 1 }],
    ])("a proof finds %s", async (_, fault, found) => {
      await loaded();
      expect((await between().prove(load)).proof.verdict).toBe("proved");
      await at(fault);
      const { proof, rows: differing } = await between().prove(load);
      expect(proof.verdict).toBe("disagrees");
      expect(differing).toMatchObject({ missing: 0, extra: 0, different: 0, ...found });
    });

    test("what is not there is told in words, and nothing is left behind", async () => {
      await loaded();
      await expect(between().run({ ...load, from: { connection: "source", ...specimen.absent } })).rejects.toThrow(
        /ha(s|ve) no (table|file)|answered 404/,
      );
      expect(await at("SELECT relname FROM pg_class WHERE relname ~ '^(received|stage|shaped)_'")).toEqual([]);
    });
  });
}
