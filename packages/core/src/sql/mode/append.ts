import type { WriteMode } from "./mode.ts";
import { insertNew, knownByKey, tryNew } from "./upsert.ts";

/** Rows whose key the target lacks are added; what stands there stays as it is. */
export const append: WriteMode = {
  known: knownByKey,
  ahead: tryNew,
  steps: (plan, rows) => [insertNew(plan, rows)],
  weigh: (plan, rows) => `SELECT k.known, '0' AS changed, '0' AS deleted FROM (${knownByKey(plan, rows)}) k`,
  tally(accepted, known, counted) {
    const unknown = accepted - known;
    return unknown < 0n || (counted.new ?? unknown) !== unknown
      ? null
      : { new: unknown, changed: 0n, same: known, deleted: 0n };
  },
};
