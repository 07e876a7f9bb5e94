import type { Given } from "../parameter/resolve.ts";

/** What stands in the place of a personal value, for those who may not see it. */
export const hiddenValue = "(hidden)";

/** Which rejected rows are meant of one pipeline, to be loaded again. */
export interface RejectedChoice {
  pipeline: string;
  /** the run that turned them away, whose values they are loaded again with */
  run: number;
  loads: string[];
  /** their numbers in the pipeline's warehouse */
  ids: string[];
}

/** A row that a load turned away. */
export interface RejectedRow {
  id: string;
  run: number;
  pipeline: string;
  load: string;
  target: string;
  code: string;
  column: string | null;
  reason: string;
  message: string;
  key: (string | null)[] | null;
  /** what it held, by the staged column's name; null where only its identity was kept */
  original: Record<string, string | null> | null;
  at: string;
  /** whether its source was told of it: `sent`, `refused`, `unsure`, `lacking`, or `claimed` while it is; null where it was not */
  told: { state: string; at: string; why: string | null } | null;
  /** true once a later run has read it again */
  gone: boolean;
}

export interface RejectedCount {
  pipeline: string;
  load: string;
  target: string;
  reason: string;
  rows: string;
  /** the latest run that turned such a row away */
  run: number;
}

export interface RejectedList {
  rows: RejectedRow[];
  counts: RejectedCount[];
}

/** Rejected rows of one pipeline that are loaded again by one run: those that were turned away with the same values. */
export function againTogether<T extends { pipeline: string; loads: string[]; ids: string[] | null; given: Given }>(
  choices: readonly T[],
): { pipeline: string; loads: string[]; ids: string[] | null; given: Given }[] {
  const together = new Map<string, { pipeline: string; loads: string[]; ids: string[] | null; given: Given }>();
  for (const { pipeline, loads, ids, given } of choices) {
    const name = JSON.stringify([pipeline, given]);
    const before = together.get(name);
    together.set(name, {
      pipeline,
      given,
      loads: [...new Set([...(before?.loads ?? []), ...loads])],
      ids: ids === null || before?.ids === null ? null : [...(before?.ids ?? []), ...ids],
    });
  }
  return [...together.values()];
}
