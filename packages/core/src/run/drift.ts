import { shortType } from "../sql/type.ts";

/** One way in which a source's columns are no longer those of the last load, and what came of it. */
export interface DriftNote {
  column: string;
  kind: "added" | "widened" | "narrowed" | "changed" | "gone";
  /** the type before; null for a new column */
  from: string | null;
  /** the type now; null for one that is gone */
  to: string | null;
  done: "taken" | "ignored" | "left out" | "widened" | "null" | "stopped";
}

/** `the source has a new column note (text): it is taken` */
export function driftWords({ column, kind, from, to, done }: DriftNote): string {
  const types = from && to ? ` from ${shortType(from)} to ${shortType(to)}` : "";
  const outcomes: Record<DriftNote["done"], string> = {
    taken: "it is taken",
    ignored: "it is ignored",
    "left out": "the load does not read it",
    widened: "the target is widened",
    null: "null is filled in",
    stopped: "the load stops",
  };
  const facts: Record<DriftNote["kind"], string> = {
    added: `the source has a new column ${column}${to ? ` (${shortType(to)})` : ""}`,
    widened: `${column} was widened${types}`,
    narrowed: `${column} was narrowed${types}`,
    changed: `${column} changed${types}`,
    gone: `the source no longer has ${column}`,
  };
  return `${facts[kind]}: ${outcomes[done]}`;
}
