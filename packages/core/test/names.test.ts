import { freeName, slugOf } from "@undercoat/core/pipeline/names";
import { readDuration } from "@undercoat/core/schedule/duration";
import { expect, test } from "vitest";

test("each table gets a name of its own, also where one is called as another would be", () => {
  const names = new Set<string>();
  for (const table of ["booking", "booking_2", "booking", "Booking", "x".repeat(80), "x".repeat(80)])
    names.add(freeName(slugOf(table), names));
  expect([...names]).toEqual(["booking", "booking-2", "booking-3", "booking-4", "x".repeat(63), `${"x".repeat(58)}-2`]);
  expect(freeName("fare", new Set(["fare"]), "_")).toBe("fare_2");
});

test.each([
  ["10 minutes", "PT10M"],
  ["PT10M", "PT10M"],
  ["pt10m", "PT10M"],
  ["1 h 30 min", "PT1H30M"],
  ["2 days", "P2D"],
  ["1 day and 2 hours", "P1DT2H"],
  ["1 week, 3 days", "P1W3D"],
  ["90s", "PT90S"],
  ["", null],
  ["soon", null],
  ["10", null],
  ["10 minutes or so", null],
  ["-10 minutes", null],
  ["5 hours 5 minutes 5 hours", null],
])("a length of time written %j is %j", (text, iso) => expect(readDuration(text)).toBe(iso));
