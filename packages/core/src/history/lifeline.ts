import type { HistoryShape, Lifeline } from "./shape.ts";

/** A lifeline as it is drawn and told: its versions on a scale, a strand for each column, edges between them, gaps. */

/** A stretch of time; an end that is not reached is null. Times are in milliseconds, for drawing only. */
interface Stretch {
  from: number;
  to: number;
  /** the exact texts, as the warehouse prints them */
  fromText: string;
  toText: string | null;
}

export interface DrawnVersion extends Stretch {
  values: Record<string, string | null>;
  current: boolean;
  /** the runs that corrected it, where each is known */
  corrected: { at: string; run: number | null }[];
}

export interface Strand {
  column: string;
  role: string;
  /** the value before, where a second column keeps it */
  before: string | null;
  /** stretches over which the column says one thing */
  pieces: (Stretch & { value: string | null; current: boolean })[];
}

/** Where one version meets the next, or where the first begins and a deleted one ends. */
export interface Edge {
  at: number;
  text: string;
  before: DrawnVersion | null;
  after: DrawnVersion | null;
  /** the columns that differ from one to the other */
  changed: string[];
  /** the run that made it, where that is known */
  run: number | null;
}

export interface Drawn {
  versions: DrawnVersion[];
  strands: Strand[];
  edges: Edge[];
  gaps: Stretch[];
  /** the ends of the scale */
  low: number;
  high: number;
}

/** A moment as PostgreSQL prints it in UTC, in milliseconds; infinities are themselves. */
export function millisecondsOf(text: string): number {
  if (text === "infinity") return Number.POSITIVE_INFINITY;
  if (text === "-infinity") return Number.NEGATIVE_INFINITY;
  return Date.parse(
    text
      .replace(" ", "T")
      .replace(/([+-]\d{2})$/, "$1:00")
      .replace(/(\.\d{3})\d+/, "$1"),
  );
}

const isOpen = (shape: HistoryShape, to: string | null | undefined) =>
  shape.end === null ? to == null : to != null && millisecondsOf(to) === endOf(shape);

function endOf({ end }: HistoryShape): number {
  if (end === null || end === "infinity") return Number.POSITIVE_INFINITY;
  const zoned = /([zZ]|[+-]\d{2}(:?\d{2})?)$/.test(end.replace(/^-?\d+-\d+-\d+/, ""));
  return millisecondsOf(end.length <= 10 ? `${end} 00:00:00+00` : zoned ? end : `${end}+00`);
}

/**
 * Lays a lifeline out.
 * @param now the right end of the scale, in milliseconds
 */
export function drawLifeline(
  { shape, versions, runs, corrections }: Pick<Lifeline, "shape" | "versions" | "runs" | "corrections">,
  now: number,
): Drawn {
  const known = versions.flatMap((row) =>
    [row[shape.from], row[shape.to]]
      .map((text) => millisecondsOf(text ?? "infinity"))
      .filter((at) => Number.isFinite(at) && at < endOf(shape)),
  );
  const high = Math.max(now, ...known);
  const earliest = known.length ? Math.min(...known) : high;
  // What is without a beginning begins a little before the first moment that is known.
  const low = versions.some((row) => row[shape.from] === "-infinity")
    ? earliest - Math.max(86_400_000, (high - earliest) / 20)
    : Math.min(earliest, high - 1);
  const drawn = versions.map((values): DrawnVersion => {
    const open = isOpen(shape, values[shape.to]);
    return {
      from: Math.max(low, millisecondsOf(values[shape.from] ?? "")),
      to: open ? high : millisecondsOf(values[shape.to] ?? ""),
      fromText: values[shape.from] ?? "",
      toText: open ? null : (values[shape.to] ?? null),
      values,
      current: open,
      corrected: [],
    };
  });
  for (const correction of corrections) versionOf(drawn, millisecondsOf(correction.at))?.corrected.push(correction);
  return { versions: drawn, strands: strandsOf(shape, drawn), ...edgesOf(shape, drawn, runs), low, high };
}

function strandsOf(shape: HistoryShape, versions: readonly DrawnVersion[]): Strand[] {
  return shape.roles
    .filter(([, role]) => role !== "follow")
    .map(([column, role]) => {
      const pieces: Strand["pieces"] = [];
      for (const version of versions) {
        const value = version.values[column] ?? null;
        const last = pieces.at(-1);
        if (last && last.value === value && last.toText === version.fromText)
          Object.assign(last, { to: version.to, toText: version.toText, current: version.current });
        else {
          const { from, to, fromText, toText, current } = version;
          pieces.push({ from, to, fromText, toText, value, current });
        }
      }
      const kept = shape.previous.find(([name]) => name === column)?.[1];
      return { column, role, before: (kept && versions.at(-1)?.values[kept]) || null, pieces };
    });
}

function edgesOf(
  shape: HistoryShape,
  versions: readonly DrawnVersion[],
  runs: Record<string, number>,
): Pick<Drawn, "edges" | "gaps"> {
  const edges: Edge[] = [];
  const gaps: Stretch[] = [];
  const edge = (text: string, at: number, before: DrawnVersion | null, after: DrawnVersion | null) =>
    edges.push({
      at,
      text,
      before,
      after,
      changed:
        before && after
          ? shape.roles
              .filter(([, role]) => role !== "follow")
              .map(([column]) => column)
              .filter((column) => (before.values[column] ?? null) !== (after.values[column] ?? null))
          : [],
      run: runs[text] ?? null,
    });
  for (const [at, version] of versions.entries()) {
    const before = versions[at - 1] ?? null;
    const joined = before !== null && before.toText === version.fromText;
    if (before && !joined) {
      edge(before.toText ?? "", before.to, before, null);
      gaps.push({ from: before.to, to: version.from, fromText: before.toText ?? "", toText: version.fromText });
    }
    edge(version.fromText, version.from, joined ? before : null, version);
  }
  const last = versions.at(-1);
  if (last && !last.current) edge(last.toText ?? "", last.to, last, null);
  return { edges, gaps };
}

/** How often each column changed from one version to the next, the most frequent first; those that never did are left out. */
export function changesOf({ edges }: Drawn): { column: string; times: number }[] {
  const times = new Map<string, number>();
  for (const { changed } of edges) for (const column of changed) times.set(column, (times.get(column) ?? 0) + 1);
  return [...times].map(([column, count]) => ({ column, times: count })).sort((a, b) => b.times - a.times);
}

function versionOf(versions: readonly DrawnVersion[], at: number): DrawnVersion | null {
  return versions.find((version) => version.from <= at && (at < version.to || version.current)) ?? null;
}

/** The version that held at a moment; null in a gap, and before the first. */
export const versionAt = ({ versions }: Drawn, at: number) => versionOf(versions, at);
