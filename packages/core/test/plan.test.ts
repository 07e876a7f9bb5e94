import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { Load, Pipeline } from "@undercoat/core/pipeline/pipeline";
import { suggestLoad } from "@undercoat/core/pipeline/suggest";
import { planLoad } from "@undercoat/core/plan/planner";
import { windowFor } from "@undercoat/core/plan/window";
import { analyse } from "@undercoat/core/shape/analyse";
import { modeOf } from "@undercoat/core/sql/mode/mode";
import { figures } from "@undercoat/core/sql/proof";
import { copyOut, highWater } from "@undercoat/core/sql/read";
import { sourceRelation, targetRelation } from "@undercoat/core/sql/relation";
import { holds, warehouseType } from "@undercoat/core/sql/type";
import { describe, expect, test } from "vitest";

function column(name: string, type: string, notNull = true, declared = type, kind = "b"): Dataset["columns"][number] {
  const resolved = { resolved: declared, kind, builtIn: kind === "b" };
  return {
    name,
    declared,
    type: resolved,
    warehouseType: type,
    notNull,
    generated: false,
    hasDefault: false,
    comment: null,
  };
}

const dataset: Dataset = {
  columns: [
    column("booking_id", "bigint"),
    column("status", "text", true, "booking_status", "e"),
    column("fare", "numeric(12,2)"),
    column("sail_date", "date"),
    column("updated_at", "timestamp with time zone", false),
  ],
  indexes: [{ name: "booking_pkey", columns: ["booking_id"], unique: true, primary: true }],
};

const load: Load = {
  from: { connection: "bookings", table: "public.booking", where: "fare > 0 -- paying" },
  watermark: { column: "updated_at", lookBack: "PT10M" },
  columns: { booking_id: "booking_id", state: "status", fare: "fare", sail_date: "sail_date" },
  into: { table: "harbour.booking", mode: "upsert", key: ["booking_id"] },
  proof: { by: { column: "sail_date", slice: "day" }, figures: ["rows", "sum(fare)"] },
};
const pipeline = (change: Partial<Load> = {}): Pipeline => ({
  title: "Harbour day",
  warehouse: "warehouse",
  loads: { booking: { ...load, ...change } },
});
const planned = async (change: Partial<Load> = {}) => {
  const analysis = await analyse({ ...load, ...change }, dataset);
  return planLoad("harbour-day", pipeline(change), "booking", { dataset, analysis, types: {}, target: null });
};

describe("a plan's statements", () => {
  test("read the rows past the watermark, and those without one", async () => {
    const plan = await planned();
    const window = windowFor(plan, { kind: "due" }, "2026-11-23 06:00:00+00");
    expect(copyOut(plan, window)).toBe(
      `COPY (SELECT s."booking_id", s."status"::text AS "state", s."fare", s."sail_date" FROM "public"."booking" s WHERE (fare > 0 -- paying\n) AND (s."updated_at" >= '2026-11-23 06:00:00+00'::timestamp with time zone - 'PT10M'::interval OR s."updated_at" IS NULL)) TO STDOUT (FORMAT binary)`,
    );
    expect(highWater(plan, { kind: "all" })).toBe(
      `SELECT least(max(s."updated_at"), now())::text AS value FROM "public"."booking" s WHERE (fare > 0 -- paying\n) AND isfinite(s."updated_at") HAVING count(s."updated_at") > 0`,
    );
  });

  test("ask both sides for the same figures", async () => {
    const source = figures(sourceRelation(await planned(), null), "all", false);
    const warehouse = figures(targetRelation(await planned(), null), "all", false);
    const shape = (sql: string) => sql.replace(/FROM \(.*\) r( OFFSET '0'\) r)?/s, "FROM rows");
    expect(shape(source)).toBe(shape(warehouse));
    expect(shape(source)).toBe(
      `SELECT GROUPING("sail_date") AS total, ("sail_date")::text AS slice, count(*)::text AS f0, sum("fare")::text AS f1 FROM rows GROUP BY GROUPING SETS (("sail_date"), ())`,
    );
  });

  test("touch only the rows that change", async () => {
    const stage = { schema: "undercoat", table: "stage_1_booking" };
    const plan = await planned();
    const [update] = modeOf(plan).steps(plan, stage, []);
    expect(update?.sql).toContain(
      `(t."state" COLLATE "C" IS DISTINCT FROM s."state" COLLATE "C" OR t."fare" IS DISTINCT FROM s."fare" OR t."sail_date" IS DISTINCT FROM s."sail_date")`,
    );
    expect(modeOf(plan).known(plan, stage)).toBe(
      `SELECT count(*)::text AS known FROM "undercoat"."stage_1_booking" s WHERE EXISTS (SELECT 1 FROM "harbour"."booking" t WHERE t."booking_id" = s."booking_id")`,
    );
  });

  test("change their fingerprint with what is read, and not with how it is proved", async () => {
    expect((await planned({ proof: { figures: ["rows"] } })).fingerprint).toBe((await planned()).fingerprint);
    expect((await planned({ from: { ...load.from, where: "fare > 1" } })).fingerprint).not.toBe(
      (await planned()).fingerprint,
    );
  });

  test("read everything where no watermark counts", async () => {
    expect(windowFor(await planned(), { kind: "due" }, null)).toEqual({ kind: "all" });
    expect(
      windowFor(await planned({ into: { table: "harbour.booking", mode: "replace" } }), { kind: "due" }, "2026-01-01")
        .kind,
    ).toBe("all");
  });
});

describe("a definition that can't work is refused where it is wrong", () => {
  test.each<[Partial<Load>, RegExp, string]>([
    [{ columns: { a: "nope" } }, /no column nope/, "columns.a"],
    [{ into: { ...load.into, key: ["id"] } }, /key names id/, "into.key"],
    [{ watermark: { column: "status" } }, /is text; a watermark needs/, "watermark.column"],
    [{ watermark: { column: "updated_at", lookBack: "100" } }, /duration such as PT10M/, "watermark.lookBack"],
    [{ watermark: { column: "booking_id", lookBack: "PT1M" } }, /whole number/, "watermark.lookBack"],
    [{ proof: { by: { column: "fare", slice: "day" }, figures: ["rows"] } }, /slices need a date/, "proof.by.column"],
    [{ proof: { by: { column: "sail_date", slice: "hour" }, figures: ["rows"] } }, /no hours/, "proof.by.slice"],
    [{ proof: { figures: ["sum(state)"] } }, /can't be added up/, "proof.figures.0"],
    [{ into: { table: "harbour.booking", mode: "append" } }, /updated_at must be one of them/, "columns"],
  ])("%j", async (change, why, path) => {
    try {
      await planned(change);
      expect.unreachable();
    } catch (error) {
      expect((error as Error).message).toMatch(why);
      expect((error as { path: string[] }).path.join(".")).toBe(path);
    }
  });
});

describe("types", () => {
  test.each([
    [{ resolved: "numeric(12,2)", kind: "b", builtIn: true }, "numeric(12,2)"],
    [{ resolved: "booking_status", kind: "e", builtIn: false }, "text"],
    [{ resolved: "address", kind: "c", builtIn: false }, "text"],
    [{ resolved: "money", kind: "b", builtIn: true }, "numeric"],
    [{ resolved: "tsvector", kind: "b", builtIn: true }, "text"],
    [
      { resolved: "integer[]", kind: "b", builtIn: true, element: { resolved: "integer", kind: "b", builtIn: true } },
      "integer[]",
    ],
    [
      { resolved: "mood[]", kind: "b", builtIn: false, element: { resolved: "mood", kind: "e", builtIn: false } },
      "text[]",
    ],
    [{ resolved: "timestamp(3) with time zone", kind: "b", builtIn: true }, "timestamp(3) with time zone"],
  ])("%j is loaded as %s", (type, expected) => expect(warehouseType(type)).toBe(expected));

  test.each([
    ["numeric(14,2)", "numeric(12,2)", true],
    ["numeric(12,2)", "numeric", false],
    ["numeric(12,2)", "numeric(14,2)", false],
    ["numeric(14,4)", "numeric(12,2)", true],
    ["numeric(13,4)", "numeric(12,2)", false],
    ["numeric", "numeric(12,2)", true],
    ["character varying(5)", "text", false],
    ["character varying(5)", "character varying(20)", true],
    ["timestamp(0) with time zone", "timestamp with time zone", false],
    ["bigint", "integer", false],
    ["text[]", "text", false],
  ])("%s takes %s unchanged: %s", (target, given, expected) => expect(holds(target, given)).toBe(expected));
});

test("a suggestion follows keys, types and names", () => {
  const { load: suggested, why } = suggestLoad(
    { connection: "bookings", table: "public.booking" },
    { schema: "harbour", table: "booking" },
    dataset,
  );
  expect(suggested).toEqual({
    from: { connection: "bookings", table: "public.booking" },
    watermark: { column: "updated_at", lookBack: "PT10M" },
    into: { table: "harbour.booking", mode: "upsert", key: ["booking_id"] },
    proof: { by: { column: "sail_date", slice: "day" }, figures: ["rows", "sum(fare)", "max(updated_at)"] },
  });
  expect(why).toBe("booking_id identifies a row; updated_at tells what changed");
  const told = suggestLoad(
    { connection: "c", table: "Shifts" },
    { schema: "w", table: "t" },
    {
      columns: [column("id", "text"), column("changed_at", "text")],
      indexes: [],
      lines: true,
      proposal: { key: ["id"], changes: "changed_at", asksChanges: true, tracked: true },
    },
  );
  expect(told.load.watermark).toBeUndefined();
  expect(told.why).toBe("id identifies a row; the application itself tells what changed and what was deleted");
  const into = { schema: "w", table: "t" };
  const modeFor = (...columns: Dataset["columns"]) =>
    suggestLoad({ connection: "b", table: "s.t" }, into, { columns, indexes: [] }).load.into.mode;
  expect(modeFor(column("a", "text"))).toBe("replace");
  // Without a key a changed row would be appended once more.
  expect(modeFor(column("a", "text"), column("updated_at", "timestamp with time zone"))).toBe("replace");
  expect(modeFor(column("a", "text"), column("recorded_at", "timestamp with time zone"))).toBe("append");
});
