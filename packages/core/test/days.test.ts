import type { SliceUnit } from "@undercoat/core/pipeline/pipeline";
import { earliestFor, meets } from "@undercoat/core/proof/days";
import fc from "fast-check";
import { expect, test } from "vitest";

test.each<[SliceUnit, string, string, boolean]>([
  ["hour", "2026-11-24 05:00:00", "2026-11-24", true],
  ["hour", "2026-11-23 23:00:00", "2026-11-24", false],
  ["day", "2026-11-24", "2026-11-24", true],
  ["week", "2026-11-23", "2026-11-29", true],
  ["week", "2026-11-23", "2026-11-30", false],
  ["week", "2026-11-23", "2026-11-22", false],
  ["week", "2025-12-29", "2026-01-04", true],
  ["month", "2026-02-01", "2026-02-28", true],
  ["month", "2026-02-01", "2026-03-01", false],
  ["year", "2024-01-01", "2024-12-31", true],
  ["year", "2024-01-01", "2025-01-01", false],
])("a slice by the %s from %s meets %s: %s", (unit, start, day, met) => expect(meets(unit, start, day)).toBe(met));

test("every slice that meets a day is among those asked for", () => {
  fc.assert(
    fc.property(
      fc.date({ min: new Date("1990-01-01"), max: new Date("2060-01-01"), noInvalidDate: true }),
      fc.nat(400),
      fc.constantFrom<SliceUnit[]>("day", "week", "month", "year"),
      (at, back, unit) => {
        const day = at.toISOString().slice(0, 10);
        const start = new Date(at.getTime() - back * 86_400_000).toISOString().slice(0, 10);
        return !meets(unit, start, day) || start >= earliestFor(day);
      },
    ),
  );
});
