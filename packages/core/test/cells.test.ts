import { cellsDue } from "@undercoat/core/schedule/cells";
import { describe, expect, test } from "vitest";

const night = Date.parse("2026-11-24T02:30:00Z");
const noon = Date.parse("2026-11-24T12:00:00Z");
const hours = (count: number) => count * 3_600_000;

describe("a table is compared cell by cell on its own", () => {
  test.each<[string, string | undefined, number | null, number, boolean]>([
    ["daily at night, where nothing is said", undefined, night - hours(24), night, true],
    ["not before a day has passed", undefined, night - hours(23), night, false],
    ["not by day, when only a day has passed", undefined, noon - hours(25), noon, false],
    ["by day, when a night was missed", undefined, noon - hours(48), noon, true],
    ["never, where it says so", "never", null, night, false],
    ["weekly, where it says so", "P7D", night - hours(6 * 24), night, false],
    ["at the first night after its first load", undefined, null, night, true],
  ])("%s", (_, cells, cellsAt, now, due) => {
    expect(cellsDue(cells, { cellsAt, provedAt: now - hours(1) }, "UTC", now)).toBe(due);
  });

  test("at the quiet hour of the pipeline's zone", () => {
    const compared = { cellsAt: night - hours(30), provedAt: night };
    expect([cellsDue(undefined, compared, "UTC", night), cellsDue(undefined, compared, "Asia/Tokyo", night)]).toEqual([
      true,
      false,
    ]);
  });
});
