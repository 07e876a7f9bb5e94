import type { Schedule, Timing } from "@undercoat/core/pipeline/pipeline";
import { durationSeconds } from "@undercoat/core/schedule/duration";
import { zone as ownZone } from "../parts/format.ts";

/** When something runs, as a form asks it. */
export type Kind = "every" | "daily" | "weekly" | "monthly" | "cron" | "after" | "arrived";

export interface TimingForm {
  kind: Kind;
  minutes: number;
  time: string;
  /** 0 is Sunday, as in a cron line */
  weekdays: string[];
  monthday: number;
  cron: string;
  after: string;
  on: "finished" | "proved";
  zone: string;
}

const two = (text: string | undefined) => (text ?? "").padStart(2, "0");

/** The form that says what a schedule says; a schedule that is yet to be made runs every 15 minutes. */
export function formOf(schedule: Schedule | undefined): TimingForm {
  const base: TimingForm = {
    kind: "every",
    minutes: 15,
    time: "02:00",
    weekdays: ["1"],
    monthday: 1,
    cron: "0 2 * * *",
    after: "",
    on: "finished",
    zone: schedule?.zone ?? ownZone,
  };
  if (!schedule) return base;
  if ("after" in schedule) return { ...base, kind: "after", after: schedule.after, on: schedule.on ?? "finished" };
  if ("every" in schedule && schedule.when)
    return { ...base, kind: "arrived", minutes: Math.max(1, Math.round(durationSeconds(schedule.every) / 60)) };
  if ("every" in schedule) return { ...base, minutes: Math.max(1, Math.round(durationSeconds(schedule.every) / 60)) };
  const [, minute, hour, monthday = "*", weekday = "*"] =
    /^(\d{1,2}) (\d{1,2}) (\d{1,2}|\*) \* (\d(?:,\d)*|\*)$/.exec(schedule.cron.trim()) ?? [];
  const at = { ...base, time: `${two(hour)}:${two(minute)}`, cron: schedule.cron };
  if (minute === undefined || (monthday !== "*" && weekday !== "*"))
    return { ...base, kind: "cron", cron: schedule.cron };
  if (monthday !== "*") return { ...at, kind: "monthly", monthday: Number(monthday) };
  return weekday === "*" ? { ...at, kind: "daily" } : { ...at, kind: "weekly", weekdays: weekday.split(",") };
}

export function timingOf(form: TimingForm): Timing {
  const [hour = 0, minute = 0] = form.time.split(":").map(Number);
  switch (form.kind) {
    case "every":
      return { every: `PT${form.minutes}M` };
    case "arrived":
      return { every: `PT${form.minutes}M`, when: "arrived" };
    case "daily":
      return { cron: `${minute} ${hour} * * *` };
    case "weekly":
      return { cron: `${minute} ${hour} * * ${[...form.weekdays].sort().join(",") || "*"}` };
    case "monthly":
      return { cron: `${minute} ${hour} ${form.monthday} * *` };
    case "cron":
      return { cron: form.cron.trim() };
    case "after":
      return { after: form.after, ...(form.on === "proved" ? { on: "proved" as const } : {}) };
  }
}
