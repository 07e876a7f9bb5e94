import { changesBetween, changeWords, rebased } from "@undercoat/core/pipeline/changes";
import type { Load, Pipeline } from "@undercoat/core/pipeline/pipeline";
import { expect, test } from "vitest";

const load = (table: string): Load => ({
  from: { connection: "c", table: `public.${table}` },
  into: { table: `w.${table}`, mode: "replace" },
});
const origin: Pipeline = { title: "T", warehouse: "w", loads: { a: load("a"), b: load("b") } };

test("what differs is told part by part", () => {
  const { a, ...rest } = origin.loads;
  const after: Pipeline = {
    ...origin,
    title: "New",
    schedule: { every: "PT1H" },
    loads: { ...rest, b: load("other"), constructor: load("c") },
  };
  expect(changeWords(changesBetween(origin, after))).toBe(
    "title changed, schedule added, load b changed (source table, target), load constructor added, load a removed",
  );
  expect(changeWords(changesBetween(after, origin))).toBe(
    "title changed, schedule removed, load a added, load b changed (source table, target), load constructor removed",
  );
  expect(changesBetween(origin, structuredClone(origin))).toEqual([]);
  expect(a).toBeDefined();
});

test("a draft kept over another's save takes what only they changed, and stands where both did", () => {
  const { b: _, ...withoutB } = origin.loads;
  const draft: Pipeline = { ...origin, title: "Mine", loads: { ...origin.loads, a: load("mine"), c: load("c") } };
  const saved: Pipeline = {
    ...origin,
    title: "Theirs",
    schedule: { every: "PT2H" },
    loads: { ...withoutB, a: load("theirs"), d: load("d") },
  };
  expect(rebased(origin, draft, saved)).toEqual({
    title: "Mine",
    warehouse: "w",
    schedule: { every: "PT2H" },
    loads: { a: load("mine"), c: load("c"), d: load("d") },
  });
  // What the draft took out stays out, unless they changed nothing else.
  const without: Pipeline = { ...origin, loads: withoutB };
  expect(rebased(origin, without, { ...origin, title: "Theirs" })).toEqual({ ...without, title: "Theirs" });
});
