import type { TimeUnit } from "../pipeline/pipeline.ts";
import type { Scope } from "../run/run.ts";
import { PlanError } from "./error.ts";
import { takesChanges } from "./files.ts";
import type { LoadPlan, PlannedColumn } from "./plan.ts";

/** Which of the request's rows are read this time. */
export type Window =
  | { kind: "all" }
  | { kind: "since"; value: string }
  /** what changed since a position, what is gone too, as the source tells it by itself */
  | { kind: "delta"; since: string }
  /** the parts of a source, such as files, that are not as they were at a position */
  | { kind: "changed"; since: string }
  /** bounds written without a zone are local to `zone` */
  | {
      kind: "interval";
      column: string;
      on: "source" | "warehouse";
      type: string;
      zone: string;
      from: string;
      to: string;
    }
  | { kind: "slice"; slice: string | null }
  | { kind: "keys"; keys: string[][] }
  | { kind: "identities"; identities: string[] };

/** The fewest hours of a slice, less one where clocks change. */
const hoursOf: Record<TimeUnit, number> = { hour: 1, day: 23, week: 167, month: 671, year: 8759 };

/** True where a window fills slices: files that are read whole where each is one, or an interval as long as a slice at least, so that comparing the slices costs no more than comparing its rows. */
export function fillsSlices(plan: LoadPlan, window: Window): boolean {
  const { slicing } = plan.prove;
  if (slicing?.unit === "origin") return window.kind === "changed";
  if (!slicing || window.kind !== "interval" || window.column !== slicing.column) return false;
  // How long it is, roughly; bounds that no clock knows count as short.
  const hours = (Date.parse(window.to) - Date.parse(window.from)) / 3_600_000;
  return hours >= hoursOf[slicing.unit];
}

/**
 * The columns of a load's key, where changes that a source tells by itself can be taken by them; else null.
 * @param own the members that identify a record at the source
 */
export function trackedKey({ read, write }: LoadPlan, own: readonly string[]): PlannedColumn[] | null {
  if (read.watermark || write.mode === "replace" || write.key.length === 0) return null;
  const key = write.key.flatMap((name) => read.columns.find((column) => column.name === name) ?? []);
  const members = new Set(own);
  const same = key.length === members.size && key.every(({ source }) => source !== null && members.has(source));
  return same ? key : null;
}

/** A plan whose watermark passes no moment: a reading that is of no one moment has missed what changed behind it. */
export function notPast(plan: LoadPlan, moment: string | null): LoadPlan {
  const { watermark } = plan.read;
  if (moment === null || !watermark) return plan;
  return { ...plan, read: { ...plan.read, watermark: { ...watermark, notAfter: moment } } };
}

/** A plan whose rows have all been found to fit: where the watermark's column is loaded, each of its texts states one. */
export function fitting(plan: LoadPlan): LoadPlan {
  const { watermark, columns } = plan.read;
  const loaded = columns.some((column) => column.source === watermark?.column && column.type === watermark?.type);
  return watermark && loaded ? { ...plan, read: { ...plan.read, watermark: { ...watermark, fits: true } } } : plan;
}

/**
 * The window a scope asks for.
 * @param stored the watermark kept from the last load, or null where there is none that counts
 * @throws PlanError when the load can't be cut that way.
 */
export function windowFor(plan: LoadPlan, scope: Scope, stored: string | null): Window {
  // Which of a report's periods are read is said by the plan.
  if (plan.read.periods && scope.kind !== "keys" && scope.kind !== "gone") return { kind: "all" };
  switch (scope.kind) {
    case "due":
      if (stored === null || plan.write.mode === "replace") return { kind: "all" };
      if (plan.read.files !== null) return takesChanges(plan) ? { kind: "changed", since: stored } : { kind: "all" };
      return plan.read.watermark ? { kind: "since", value: stored } : { kind: "delta", since: stored };
    case "whole":
      return { kind: "all" };
    case "gone":
      return { kind: "keys", keys: [] };
    case "rejected":
      throw new PlanError("Which rows were rejected is known to the warehouse");
    case "keys":
      return { kind: "keys", keys: scope.keys };
    case "slices":
      throw new PlanError("Several slices are proved together, but loaded one by one");
    case "slice":
      if (!plan.prove.slicing) throw new PlanError("The proof of this load has no slices");
      return scope;
    case "interval": {
      const { slicing } = plan.prove;
      if (slicing && slicing.unit !== "origin")
        return { ...scope, column: slicing.column, on: "warehouse", type: slicing.type, zone: slicing.zone };
      const watermark = plan.read.watermark;
      if (!watermark)
        throw new PlanError("The load has neither slices nor a watermark, so it has no interval to load again");
      return { ...scope, column: watermark.column, on: "source", type: watermark.type, zone: "UTC" };
    }
  }
}
