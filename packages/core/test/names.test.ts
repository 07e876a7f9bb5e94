import { freeName, slugOf } from "@undercoat/core/pipeline/names";
import { expect, test } from "vitest";

test("each table gets a name of its own, also where one is called as another would be", () => {
  const names = new Set<string>();
  for (const table of ["booking", "booking_2", "booking", "Booking", "x".repeat(80), "x".repeat(80)])
    names.add(freeName(slugOf(table), names));
  expect([...names]).toEqual(["booking", "booking-2", "booking-3", "booking-4", "x".repeat(63), `${"x".repeat(58)}-2`]);
  expect(freeName("fare", new Set(["fare"]), "_")).toBe("fare_2");
});
