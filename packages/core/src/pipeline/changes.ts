import type { Pipeline } from "./pipeline.ts";

/** A part of a pipeline that differs between two versions. */
export interface Change {
  /** `load booking`, `schedule` … */
  part: string;
  kind: "added" | "removed" | "changed";
}

const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);

function kindOf(before: unknown, after: unknown): Change["kind"] | null {
  if (same(before, after)) return null;
  if (before === undefined) return "added";
  return after === undefined ? "removed" : "changed";
}

/** What differs between two versions of a pipeline, part by part, in the order of the later one. */
export function changesBetween(before: Pipeline, after: Pipeline): Change[] {
  const { loads: earlier, ...rest } = before;
  const { loads: later, ...others } = after;
  const told = (part: string, a: unknown, b: unknown): Change[] => {
    const kind = kindOf(a, b);
    return kind ? [{ part, kind }] : [];
  };
  const parts = [...new Set([...Object.keys(others), ...Object.keys(rest)])] as (keyof typeof rest)[];
  const names = [...new Set([...Object.keys(later), ...Object.keys(earlier)])];
  return [
    ...parts.flatMap((part) => told(part, rest[part], others[part])),
    ...names.flatMap((name) =>
      told(
        `load ${name}`,
        Object.hasOwn(earlier, name) ? earlier[name] : undefined,
        Object.hasOwn(later, name) ? later[name] : undefined,
      ),
    ),
  ];
}

/** `load booking changed, schedule added` */
export function changeWords(changes: readonly Change[]): string {
  return changes.map(({ part, kind }) => `${part} ${kind}`).join(", ");
}

/** Parts of an object of which one side changed something take that side's; where both did, `mine` stands. */
function merged<T extends object>(origin: T, mine: T, theirs: T): T {
  const of = (from: T, name: string): unknown => (Object.hasOwn(from, name) ? from[name as keyof T] : undefined);
  const names = [...new Set([...Object.keys(theirs), ...Object.keys(mine)])];
  const entries = names.map((name): [string, unknown] => [
    name,
    same(of(mine, name), of(origin, name)) ? of(theirs, name) : of(mine, name),
  ]);
  return Object.fromEntries(entries.filter(([, value]) => value !== undefined)) as T;
}

/** A draft's changes on top of what somebody else has saved since it began: only a part that both changed stands as in the draft. */
export function rebased(origin: Pipeline, draft: Pipeline, saved: Pipeline): Pipeline {
  const { loads: first, ...rest } = origin;
  const { loads: mine, ...own } = draft;
  const { loads: theirs, ...others } = saved;
  return { ...merged(rest, own, others), loads: merged(first, mine, theirs) };
}
