import { durationSeconds, durationWords } from "@undercoat/core/schedule/duration";
import { isZone, nextTimes, scheduleWords } from "@undercoat/core/schedule/schedule";
import fc from "fast-check";
import { describe, expect, test } from "vitest";

const at = (iso: string) => Date.parse(iso);
const times = (schedule: Parameters<typeof nextTimes>[0], after: string, count = 3) =>
  nextTimes(schedule, at(after), count).map((time) => new Date(time).toISOString());

describe("next times", () => {
  test("an interval falls on its multiples and never drifts", () => {
    fc.assert(
      fc.property(fc.integer({ min: 1, max: 600 }), fc.integer({ min: 0, max: 4_000_000_000 }), (minutes, seconds) => {
        const [first, second] = nextTimes({ every: `PT${minutes}M` }, seconds * 1000, 2);
        expect(first).toBeGreaterThan(seconds * 1000);
        expect((first ?? 0) % (minutes * 60_000)).toBe(0);
        expect((second ?? 0) - (first ?? 0)).toBe(minutes * 60_000);
      }),
    );
  });

  test("a daily time keeps its wall clock across both clock changes", () => {
    expect(times({ cron: "30 6 * * *", zone: "Europe/Oslo" }, "2026-03-28T00:00:00Z")).toEqual([
      "2026-03-28T05:30:00.000Z",
      "2026-03-29T04:30:00.000Z",
      "2026-03-30T04:30:00.000Z",
    ]);
    expect(times({ cron: "30 6 * * *", zone: "Europe/Oslo" }, "2026-10-24T00:00:00Z")).toEqual([
      "2026-10-24T04:30:00.000Z",
      "2026-10-25T05:30:00.000Z",
      "2026-10-26T05:30:00.000Z",
    ]);
  });

  test("a time that the clock change skips or repeats runs once that day", () => {
    const spring = times({ cron: "30 2 * * *", zone: "Europe/Oslo" }, "2026-03-28T12:00:00Z", 2);
    expect(spring.map((time) => time.slice(0, 10))).toEqual(["2026-03-29", "2026-03-30"]);
    const autumn = times({ cron: "30 2 * * *", zone: "Europe/Oslo" }, "2026-10-24T12:00:00Z", 2);
    expect(autumn.map((time) => time.slice(0, 10))).toEqual(["2026-10-25", "2026-10-26"]);
  });

  test("a paused schedule has none", () => expect(nextTimes({ every: "PT5M", paused: true }, 0, 5)).toEqual([]));
});

describe("durations", () => {
  test.each([
    ["PT10M", 600],
    ["P1DT2H", 93_600],
    ["P1W", 604_800],
    ["PT90S", 90],
  ])("%s lasts %d s", (iso, seconds) => expect(durationSeconds(iso)).toBe(seconds));
  test.each(["", "P", "PT", "10M", "P1H", "PT-5M", "pt5m"])("refuses %j", (bad) =>
    expect(() => durationSeconds(bad)).toThrow(RangeError),
  );
  test("are spoken", () =>
    expect([durationWords("PT10M"), durationWords("P1DT1H"), durationWords("1000")]).toEqual([
      "10 minutes",
      "1 day 1 hour",
      "1000",
    ]));
});

test("schedules are spoken as part of a sentence", () => {
  expect(scheduleWords({ every: "PT15M" })).toBe("every 15 minutes");
  expect(scheduleWords({ every: "PT1H" })).toBe("every hour");
  expect(scheduleWords({ cron: "0 2 * * *" })).toBe("nightly at 02:00");
  expect(scheduleWords({ cron: "5 14 * * *", paused: true })).toBe("paused (daily at 14:05)");
  expect(scheduleWords(undefined)).toBe("runs when you say so");
});

test("zones are those of the IANA list", () =>
  expect([isZone("Europe/Oslo"), isZone("Europe/Atlantis"), isZone("")]).toEqual([true, false, false]));
