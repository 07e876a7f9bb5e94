import { readOpenApi } from "@undercoat/core/http/openapi";
import {
  againFrom,
  cutPeriods,
  declaredDays,
  forPeriod,
  periodStart,
  periodsOf,
  periodsProblem,
  wholePeriods,
} from "@undercoat/core/http/periods";
import { resolve } from "@undercoat/core/parameter/resolve";
import type { From, Pipeline } from "@undercoat/core/pipeline/pipeline";
import type { IntervalUnit } from "@undercoat/core/schedule/intervals";
import fc from "fast-check";
import { describe, expect, test } from "vitest";

const report = (parameters: Record<string, string>, period?: From["period"]): From => ({
  connection: "desk",
  path: "/takings",
  parameters,
  ...(period ? { period } : {}),
});
const found = (from: From) => {
  const periods = periodsOf(from);
  if (!periods) throw new Error("no report");
  return periods;
};

const day = fc.integer({ min: 0, max: 40_000 }).map((days) => new Date(days * 86_400_000).toISOString().slice(0, 10));
const unit = fc.constantFrom<IntervalUnit>("day", "week", "month");

test("whole periods hold the days, are whole for good, and are cut without gap or overlap", () => {
  fc.assert(
    fc.property(day, fc.integer({ min: 1, max: 400 }), unit, (from, length, by) => {
      const to = new Date(Date.parse(from) + length * 86_400_000).toISOString().slice(0, 10);
      const whole = wholePeriods({ from, to }, by);
      expect(whole.from <= from && whole.to >= to).toBe(true);
      expect(wholePeriods(whole, by)).toEqual(whole);
      const parts = cutPeriods(whole, by);
      expect([parts[0]?.from, parts.at(-1)?.to]).toEqual([whole.from, whole.to]);
      for (const [at, part] of parts.entries()) {
        expect(part.from).toBe(at === 0 ? whole.from : parts[at - 1]?.to);
        // Each is the period of each of its days, so that a row is never of two.
        expect(periodStart(part.from, by)).toBe(part.from);
        expect(periodStart(new Date(Date.parse(part.to) - 1).toISOString().slice(0, 10), by)).toBe(part.from);
      }
    }),
  );
});

test("days are reckoned in the pipeline's zone; up to now holds the day that it is", () => {
  const periods = found(report({ from: "today-P2D", to: ":to", split: "day" }));
  const late = Date.parse("2026-11-27T23:30:00Z");
  expect(declaredDays(periods, late, "UTC")).toEqual({ from: "2026-11-25", to: "2026-11-28" });
  expect(declaredDays(periods, late, "Europe/Oslo")).toEqual({ from: "2026-11-26", to: "2026-11-29" });
  // The night in which the clock is put back has 25 hours, and is one day.
  expect(declaredDays(periods, Date.parse("2026-10-25T23:30:00Z"), "Europe/Oslo")).toEqual({
    from: "2026-10-24",
    to: "2026-10-27",
  });
});

test("what is asked for a period stands under the application's names, without the word that splits", () => {
  const period = { from: "2026-02-01", to: "2026-03-01" };
  expect(forPeriod(report({ from: "today", to: "today", split: "month", tills: "all" }), period).parameters).toEqual({
    from: "2026-02-01",
    to: "2026-03-01",
    tills: "all",
  });
  const named = report({ begin: ":from", end: ":to", split: "month" }, { ends: "included" });
  expect(forPeriod(named, period).parameters).toEqual({ begin: "2026-02-01", end: "2026-02-28" });
  const said = report({ start: "today-P1Y", stop: "today", split: "day" }, { from: "start", to: "stop" });
  expect(forPeriod(said, period).parameters).toEqual({ start: "2026-02-01", stop: "2026-03-01" });
  expect(againFrom("2026-11-27", { again: "P3D", unit: "day" })).toBe("2026-11-24");
  expect(againFrom("2026-11-01", { again: "P1D", unit: "month" })).toBe("2026-10-01");
});

test.each<[From, RegExp | null]>([
  [report({ from: "today-P1Y", to: "today", split: "day" }), null],
  [report({ from: ":from", to: ":to", split: "week" }), null],
  [report({ from: ":since", to: "today", split: "day" }), null],
  [report({ zone: "north" }), null],
  [report({ from: "today", to: "today", split: "hour" }), /by day, week or month, not by hour/],
  [report({ from: "yesterday", to: "today", split: "day" }), /yesterday is not a date/],
  [report({ to: "today", split: "day" }), /says from when/],
  [report({ from: "2026-02-30", to: "today", split: "day" }), /2026-02-30 is not a date/],
  [report({ from: "2026-03-02", to: "2026-03-02", split: "day" }), /Nothing lies between/],
  [report({ zone: "north" }, { again: "P1D" }), /needs a report that is split/],
])("%j is refused: %s", (from, words) => {
  const told = periodsProblem(from);
  if (words) expect(told).toMatch(words);
  else expect(told).toBeNull();
});

describe("parameters of a pipeline", () => {
  const pipeline = (from: From, parameters: Pipeline["parameters"] = {}): Pipeline => ({
    title: "Takings",
    warehouse: "warehouse",
    parameters,
    loads: { taking: { from, into: { table: "landing.taking", mode: "replace" } } },
  });

  test("stand in a path and in what is asked for; the ends of the interval stay for the read", () => {
    const { definition } = resolve(
      pipeline(report({ from: ":since", to: ":to", split: "day" }), {
        since: { type: "date", default: "today-P1D" },
      }),
      {},
      Date.parse("2026-11-27T12:00:00Z"),
    );
    expect(definition.loads.taking?.from.parameters).toEqual({ from: "2026-11-26", to: ":to", split: "day" });
    const placed = resolve(
      pipeline(
        { connection: "till-{region}", path: "/{region}/takings" },
        { region: { type: "text", default: "north" } },
      ),
      {},
      0,
    );
    expect(placed.definition.loads.taking?.from).toEqual({ connection: "till-north", path: "/north/takings" });
  });
});

test("an OpenAPI document tells of a report by its two days, and what may be ticked", () => {
  const date = (name: string) => ({ name, in: "query", schema: { type: "string", format: "date" } });
  const list = { type: "array", items: { type: "object", properties: { till: { type: "string" } } } };
  const described = (parameters: object[]) =>
    readOpenApi(
      JSON.stringify({
        openapi: "3.0.0",
        paths: {
          "/t": { get: { parameters, responses: { 200: { content: { "application/json": { schema: list } } } } } },
        },
      }),
    ).resources[0];
  const measures = {
    name: "measures",
    in: "query",
    explode: false,
    schema: { type: "array", items: { enum: ["a", "b"] } },
  };
  expect(described([date("start_date"), date("end_date"), measures])).toMatchObject({
    days: { from: "start_date", to: "end_date" },
    choices: [{ parameter: "measures", values: ["a", "b"] }],
  });
  expect(described([date("until")])?.days).toBeUndefined();
  expect(described([{ ...measures, explode: true }])?.choices).toBeUndefined();
});
