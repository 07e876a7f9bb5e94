import type { Load } from "@undercoat/core/pipeline/pipeline";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import { planFor } from "@undercoat/engine/load/planning";
import type { Answers, Snapshot, Source } from "@undercoat/engine/source/source";
import { describe, expect, test } from "vitest";

/** What a kind of source brings to its contract test: a source with the dataset `public.sample`, and a way to change it. */
export interface Specimen {
  source: () => Source;
  /** makes `public.sample` with columns id (whole number, the key), name (text) and at (a time): three rows, one name null */
  furnish: () => Promise<void>;
  /** adds one row with id 4 */
  add: () => Promise<void>;
}

const load: Load = {
  from: { connection: "source", table: "public.sample" },
  watermark: { column: "at" },
  into: { table: "landing.sample", mode: "upsert", key: ["id"] },
  proof: { by: { column: "at", slice: "day" }, figures: ["rows", "sum(id)", "count(name)"] },
};

function answersOf({ answers }: Snapshot): Answers {
  if (!answers) throw new Error("It answers nothing");
  return answers;
}

/** The contract that every kind of source keeps. */
export function sourceContract(kind: string, specimen: Specimen): void {
  const within = async <T>(work: (snapshot: Snapshot, plan: LoadPlan) => Promise<T>): Promise<T> => {
    const snapshot = await specimen.source().snapshot("undercoat test");
    try {
      const { plan } = await planFor(
        { pipelineName: "test", pipeline: { title: "Test", warehouse: "w", loads: { load } }, load: "load" },
        { source: snapshot, warehouse: null },
      );
      return await work(snapshot, plan);
    } finally {
      await snapshot.close();
    }
  };

  describe(`${kind} keeps the contract of a source`, () => {
    test("its check passes step by step", async () => {
      const steps: string[] = [];
      expect(await specimen.source().check(false, (step) => steps.push(`${step.step} ${step.outcome}`))).toBe(true);
      expect(steps.at(0)).toBe("address passed");
      expect(steps).toContain("read passed");
      expect(steps.at(-1)).toBe("write skipped");
    });

    test("it lists and describes its datasets", async () => {
      await specimen.furnish();
      const listed = await specimen.source().datasets();
      expect(listed.map((entry) => entry.name)).toContain("sample");
      const dataset = await specimen.source().dataset({ schema: "public", table: "sample" });
      expect(dataset.columns.map((column) => [column.name, column.notNull])).toEqual([
        ["id", true],
        ["name", false],
        ["at", true],
      ]);
      expect(await specimen.source().firstRows({ schema: "public", table: "sample" }, 2)).toHaveLength(2);
      expect(
        (await specimen.source().timeColumns({ schema: "public", table: "sample" })).map((entry) => entry.column),
      ).toContain("at");
    });

    test("rows, watermark and figures belong to one moment", async () => {
      await specimen.furnish();
      await within(async (snapshot, plan) => {
        await specimen.add();
        const rows = await snapshot.rows(plan, { kind: "all" }, null, false);
        let head = Buffer.alloc(0);
        for await (const chunk of rows) if (head.length < 11) head = Buffer.concat([head, chunk]);
        expect(head.subarray(0, 11).toString("latin1")).toBe("PGCOPY\n\xff\r\n\0");
        expect(await rows.counted).toBe(3);
        expect((await answersOf(snapshot).highWater(plan, { kind: "all" }))?.slice(0, 10)).toBe("2026-11-03");
        expect((await answersOf(snapshot).side(plan, null).figures("all", false)).total.values).toEqual([
          "3",
          "6",
          "2",
        ]);
      });
      await within(async (snapshot, plan) =>
        expect((await answersOf(snapshot).side(plan, null).figures("all", false)).total.values[0]).toBe("4"),
      );
    });

    test("it reads windows, and figures of chosen slices", async () => {
      await specimen.furnish();
      await within(async (snapshot, plan) => {
        const count = async (window: Parameters<Snapshot["rows"]>[1]) => {
          const rows = await snapshot.rows(plan, window, null, false);
          for await (const _ of rows);
          return rows.counted;
        };
        expect(await count({ kind: "since", value: "2026-11-02 00:00:00+00" })).toBe(2);
        expect(await count({ kind: "slice", slice: "2026-11-01" })).toBe(1);
        expect(await count({ kind: "keys", keys: [["1"], ["3"], ["9"]] })).toBe(2);
        const figures = await answersOf(snapshot).side(plan, null).figures(["2026-11-02", "2030-01-01"], false);
        expect([...figures.slices]).toEqual([["2026-11-02", { values: ["1", "2", "0"], cells: null }]]);
      });
    });

    test("equal rows have equal hashes and different ones have not", async () => {
      await specimen.furnish();
      await within(async (snapshot, plan) => {
        const rows = await answersOf(snapshot)
          .side(plan, null)
          .rowsByKey([["1"], ["2"], ["3"]]);
        const names = [...rows.values()].map((row) => row.hashes[1]);
        expect(new Set(names).size).toBe(3);
        const whole = await answersOf(snapshot)
          .side(plan, null)
          .hashes({ slices: "all" }, { kind: "hash", count: 1 }, [0n]);
        expect(new Set(whole.map((row) => row.hash)).size).toBe(3);
        expect(whole.map((row) => row.key[0]).sort()).toEqual(["1", "2", "3"]);
      });
    });

    test("it refuses what is not there in words", async () => {
      const snapshot = await specimen.source().snapshot("undercoat test");
      await expect(snapshot.describe({ connection: "source", table: "public.nowhere" })).rejects.toThrow(
        /no table public\.nowhere/,
      );
      await snapshot.close();
    });
  });
}
