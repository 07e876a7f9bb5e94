import type { LoadPlan } from "@undercoat/core/plan/plan";
import { type Window, windowFor } from "@undercoat/core/plan/window";
import type { Scope } from "@undercoat/core/run/run";
import type { Snapshot } from "../source/source.ts";
import type { Planned } from "./planning.ts";

/**
 * The window that a scope asks for, as far as the source can give it: where it is to tell what changed and can't any more, or
 * where keys are to be compared, all is read.
 * @param stored where the last load's reading ended, or null where that does not count
 * @throws PlanError when the load can't be cut that way
 */
export async function settleWindow(
  plan: LoadPlan,
  { compares }: Pick<Planned, "compares">,
  scope: Scope,
  stored: string | null,
  source: Pick<Snapshot, "tracks">,
): Promise<Window> {
  const window = windowFor(plan, scope, stored);
  if (window.kind !== "delta") return window;
  const told = !compares && (await source.tracks?.(plan, window.since));
  return told ? window : { kind: "all" };
}
