import type { Load, Pipeline } from "./pipeline.ts";

/** A part of a pipeline that differs between two versions. */
export interface Change {
  /** `load booking`, `schedule` … */
  part: string;
  kind: "added" | "removed" | "changed";
  /** of a load that changed, what about it did: `condition`, `column fare` */
  about?: string[];
}

const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);

function kindOf(before: unknown, after: unknown): Change["kind"] | null {
  if (same(before, after)) return null;
  if (before === undefined) return "added";
  return after === undefined ? "removed" : "changed";
}

/** The members that differ between two records. */
function membersBetween(before: object = {}, after: object = {}): string[] {
  return [...new Set([...Object.keys(after), ...Object.keys(before)])].filter(
    (name) =>
      !same(Object.getOwnPropertyDescriptor(before, name)?.value, Object.getOwnPropertyDescriptor(after, name)?.value),
  );
}

const words: Record<string, string> = {
  "from connection": "source connection",
  "from table": "source table",
  "from tables": "source tables",
  "from query": "query",
  "from where": "condition",
  "into table": "target",
  "into key": "key",
  "into mode": "mode",
  "into part": "part",
  "into deleted": "deletions",
  "into deletions": "deletions",
  "into history": "history",
  "proof by": "slices",
  "proof figures": "figures",
  "proof within": "versions looked up",
};

/** What about a load differs, in words. */
function aboutLoad(before: Load, after: Load): string[] {
  const told = membersBetween(before, after).flatMap((part) => {
    const [was, is] = [before[part as keyof Load] ?? {}, after[part as keyof Load] ?? {}];
    const members = membersBetween(was as object, is as object);
    if (part === "columns" && before.columns && after.columns) return members.map((name) => `column ${name}`);
    if (part === "rules") return members.map((name) => `rule ${name}`);
    if (["from", "into", "proof"].includes(part))
      return members.map((name) => words[`${part} ${name}`] ?? `${part} ${name}`);
    return [part];
  });
  return [...new Set(told)];
}

/** What differs between two versions of a pipeline, part by part, in the order of the later one. */
export function changesBetween(before: Pipeline, after: Pipeline): Change[] {
  const { loads: earlier, ...rest } = before;
  const { loads: later, ...others } = after;
  const told = (part: string, a: unknown, b: unknown): Change[] => {
    const kind = kindOf(a, b);
    return kind ? [{ part, kind }] : [];
  };
  const load = (name: string): Change[] => {
    const [a, b] = [earlier, later].map((loads) => (Object.hasOwn(loads, name) ? loads[name] : undefined));
    return told(`load ${name}`, a, b).map((change) => (a && b ? { ...change, about: aboutLoad(a, b) } : change));
  };
  const parts = [...new Set([...Object.keys(others), ...Object.keys(rest)])] as (keyof typeof rest)[];
  const names = [...new Set([...Object.keys(later), ...Object.keys(earlier)])];
  return [...parts.flatMap((part) => told(part, rest[part], others[part])), ...names.flatMap(load)];
}

/** `load booking changed (condition, key), schedule added` */
export function changeWords(changes: readonly Change[]): string {
  return changes
    .map(
      ({ part, kind, about = [] }) =>
        `${part} ${kind}${about.length ? ` (${about.slice(0, 6).join(", ")}${about.length > 6 ? " …" : ""})` : ""}`,
    )
    .join(", ");
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
