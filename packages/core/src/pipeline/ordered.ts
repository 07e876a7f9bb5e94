import type { Pipeline } from "./pipeline.ts";

/** The order in which a project file writes the members of what it knows; names of loads, columns, rules and sets keep theirs. */
const orders: Record<string, readonly string[]> = {
  pipeline: [
    "title",
    "owner",
    "labels",
    "note",
    "warehouse",
    "zone",
    "parameters",
    "values",
    "loads",
    "joins",
    "schedule",
    "schedules",
  ],
  parameter: ["type", "default", "oneOf", "note"],
  load: ["from", "watermark", "columns", "rules", "rejects", "report", "drift", "into", "proof"],
  from: [
    "connection",
    "table",
    "query",
    "tables",
    "path",
    "records",
    "each",
    "keep",
    "page",
    "since",
    "gone",
    "count",
    "bulk",
    "parameters",
    "period",
    "origin",
    "where",
    "rows",
  ],
  watermark: ["column", "lookBack"],
  column: ["as", "type"],
  rule: ["check", "null", "breach", "from", "of"],
  rejects: ["limit", "breach", "duplicates", "keep"],
  report: ["connection", "method", "path", "body", "sql", "limit"],
  drift: ["added", "changed", "gone"],
  into: ["table", "part", "mode", "key", "deleted", "deletions", "history", "versions"],
  deletions: ["most", "every", "column"],
  history: [
    "columns",
    "overwrite",
    "breach",
    "added",
    "since",
    "first",
    "from",
    "to",
    "end",
    "current",
    "change",
    "surrogate",
    "compare",
  ],
  current: ["column", "yes", "no"],
  surrogate: ["column", "start", "step"],
  compare: ["ignore", "locale"],
  proof: ["by", "within", "figures", "cells"],
  by: ["column", "slice", "zone"],
  within: ["dimension", "key", "at"],
  joins: ["connection", "schema", "tables", "into"],
  schedule: [
    "every",
    "cron",
    "after",
    "on",
    "zone",
    "do",
    "values",
    "set",
    "from",
    "until",
    "times",
    "apart",
    "overlap",
    "catchUp",
    "paused",
  ],
};

/** Members whose names are their author's, and what each of them is. */
const named: Record<string, string> = {
  parameters: "parameter",
  loads: "load",
  columns: "column",
  rules: "rule",
};

function inOrder(value: unknown, kind: string): unknown {
  if (Array.isArray(value)) return kind === "schedules" ? value.map((one) => inOrder(one, "schedule")) : value;
  if (value === null || typeof value !== "object") return value;
  const members = Object.entries(value);
  const of = named[kind];
  if (of) return Object.fromEntries(members.map(([name, member]) => [name, inOrder(member, of)]));
  const order = orders[kind];
  if (!order) return value;
  const place = (name: string) => (order.includes(name) ? order.indexOf(name) : order.length);
  return Object.fromEntries(
    members.toSorted(([a], [b]) => place(a) - place(b)).map(([name, member]) => [name, inOrder(member, name)]),
  );
}

/** A pipeline whose members stand in the order of the project file, so that what says the same is written the same. */
export const orderedPipeline = (pipeline: Pipeline): Pipeline => inOrder(pipeline, "pipeline") as Pipeline;
