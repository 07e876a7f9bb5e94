import {
  type Cause,
  type DifferingRow,
  differences,
  type KeyDifference,
  type RowDifferences,
} from "@undercoat/core/proof/difference";
import { type CellSum, sameCells } from "@undercoat/core/proof/verdict";
import type { Buckets, Extent, SliceChoice } from "@undercoat/core/sql/proof";
import { mostSlices } from "@undercoat/core/sql/target";
import type { FiguresOfSide, ProofSide } from "./side.ts";

/** Rows of one bucket that are cheaper to list than to split again. */
const listable = 2000n;
/** Buckets of one comparison at the most; each costs some 40 bytes of answer on each side. */
const mostBuckets = 8192n;
/** Keys listed in one round, so that memory does not grow with the number of differences. */
const roundOfKeys = 10_000n;
/** Differences after which a comparison stops counting. */
const limit = 10_000;
/** Differing rows that are shown whole. */
const shown = 500;
/** Characters of a value that are shown. */
const longestShown = 2000;

/** Keys asked for in one question. */
const keysAtOnce = 10_000;

/** What is compared: the left side is the source's, the right one the warehouse's. */
export interface Sides {
  left: ProofSide;
  right: ProofSide;
}

/** How rows of some keys lie to a watermark; null where there is none. */
type Lateness = (keys: string[][]) => Promise<{ past: string; before: string; late: string | null } | null>;

/** Every cell of two sides compared: both sides' figures with their checksums, and the rows that differ. */
export interface Compared {
  left: FiguresOfSide;
  right: FiguresOfSide;
  rows: RowDifferences;
}

/** The left side's figures and the right side's. */
type Pair = [FiguresOfSide, FiguresOfSide];

interface Finding {
  /** differences after which the search stops */
  limit: number;
  found: KeyDifference[];
  /** takes what was found so far; true where the search need not go on */
  enough?: () => Promise<boolean>;
  checksums: number;
  keysRead: number;
  bytes: number;
  complete: boolean;
}

/**
 * Compares every cell and finds the rows by which two sides differ: each row is read once, for its figures and its
 * checksum; keys are moved only where checksums differ. Ranges of a whole-number key are read by its index; other keys
 * are told apart by their hash.
 * @param sliced true where figures and checksums are told slice by slice, and rows looked for in those that differ
 */
export async function compareCells(
  sides: Sides,
  slices: SliceChoice,
  sliced: boolean,
  lateness: Lateness | null,
): Promise<Compared> {
  const finding: Finding = { limit, found: [], checksums: 0, keysRead: 0, bytes: 0, complete: true };
  const [left, right] = sliced ? await bySlice(sides, slices, finding) : await byBucket(sides, { slices }, finding);
  const listed = finding.found.slice(0, shown);
  const count = (kind: KeyDifference["kind"]) => finding.found.filter((entry) => entry.kind === kind).length;
  return {
    left,
    right,
    rows: {
      columns: [...sides.left.columns],
      key: [...sides.left.key],
      missing: count("missing"),
      extra: count("extra"),
      different: count("different"),
      complete: finding.complete,
      rows: await whole(sides, listed, finding),
      checksums: finding.checksums,
      keysRead: finding.keysRead,
      bytes: finding.bytes,
      causes: await causes(finding.found, lateness),
    },
  };
}

async function bySlice(sides: Sides, slices: SliceChoice, finding: Finding): Promise<Pair> {
  const [left, right] = await Promise.all([sides.left.figures(slices, true), sides.right.figures(slices, true)]);
  const sums = ({ slices }: FiguresOfSide) =>
    new Map([...slices].flatMap(([slice, { cells }]) => (cells ? [[slice, cells] as const] : [])));
  const differing = unlike(sums(left), sums(right), finding);
  if (differing.length) {
    const extent: Extent = { slices: differing.length > mostSlices ? slices : differing };
    await search(sides, extent, await largerCount(sides, extent), finding);
  }
  return [left, right];
}

async function byBucket(sides: Sides, extent: Extent, finding: Finding): Promise<Pair> {
  const all = await search(sides, extent, sides.left.ranged ? null : await largerCount(sides, extent), finding, true);
  return all ?? Promise.all([sides.left.figures(extent.slices, true), sides.right.figures(extent.slices, true)]);
}

/** The names under which two sides' checksums differ. */
function unlike<N extends string | null>(ours: Map<N, CellSum>, theirs: Map<N, CellSum>, finding: Finding): N[] {
  finding.checksums += ours.size + theirs.size;
  for (const sums of [ours, theirs])
    for (const [name, sum] of sums) finding.bytes += (name?.length ?? 0) + sum.rows.length + sum.checksum.length + 12;
  return [...new Set([...ours.keys(), ...theirs.keys()])].filter((name) => {
    const [a, b] = [ours.get(name), theirs.get(name)];
    return !a || !b || !sameCells(a, b);
  });
}

async function largerCount({ left, right }: Sides, extent: Extent): Promise<bigint> {
  const [a, b] = await Promise.all([left.count(extent), right.count(extent)]);
  return larger(a, b);
}

/**
 * The keys that only the right side has, found by comparing checksums of keys: where those agree nothing is moved. Each is
 * asked for at the left side once more, by its database's own equality (texts by their bytes), before it counts as gone.
 * @param most keys after which the search stops and `complete` is false
 */
export async function goneKeys(
  left: ProofSide,
  right: ProofSide,
  most: number,
): Promise<{ keys: string[][]; complete: boolean; checksums: number; keysRead: number }> {
  const sides = { left, right };
  const finding: Finding = {
    limit: Number.POSITIVE_INFINITY,
    found: [],
    checksums: 0,
    keysRead: 0,
    bytes: 0,
    complete: true,
  };
  const extent: Extent = { slices: "all" };
  const gone: string[][] = [];
  const collect = async () => {
    const extra = finding.found
      .filter((entry) => entry.kind === "extra")
      .map((entry) => entry.key)
      .filter((key): key is string[] => key.every((value) => value !== null));
    finding.found.length = 0;
    for (let from = 0; from < extra.length; from += keysAtOnce) {
      const some = extra.slice(from, from + keysAtOnce);
      const present = await left.present(some);
      gone.push(...some.filter((_, at) => !present[at]));
    }
    return gone.length > most;
  };
  finding.enough = collect;
  await search(sides, extent, await largerCount(sides, extent), finding);
  await collect();
  return { keys: gone, complete: gone.length <= most, checksums: finding.checksums, keysRead: finding.keysRead };
}

/**
 * Searches an extent for rows that differ.
 * @param rows how many there are on the larger side; null for a whole-number key, where that is not asked for
 * @param figures true to have both sides' figures over the extent
 * @returns these figures; null where there are no rows
 */
async function search(
  sides: Sides,
  extent: Extent,
  rows: bigint | null,
  finding: Finding,
  figures = false,
): Promise<Pair | null> {
  if (rows === 0n) return null;
  const spans = sides.left.ranged ? await Promise.all([sides.left.span(extent), sides.right.span(extent)]) : [];
  const buckets = bucketsFor(rows, spans);
  if (!buckets) return null;
  const [ours, theirs] = await Promise.all([
    sides.left.checksums(extent, buckets, figures),
    sides.right.checksums(extent, buckets, figures),
  ]);
  const all: Pair | null = ours.all && theirs.all ? [ours.all, theirs.all] : null;
  let round: bigint[] = [];
  let inRound = 0n;
  const listRound = async () => {
    if (round.length) await list(sides, extent, buckets, round, finding);
    round = [];
    inRound = 0n;
  };
  for (const bucket of unlike(ours.buckets, theirs.buckets, finding)) {
    if (finding.found.length >= finding.limit || (await finding.enough?.())) {
      finding.complete = false;
      return all;
    }
    const size = larger(BigInt(ours.buckets.get(bucket)?.rows ?? 0), BigInt(theirs.buckets.get(bucket)?.rows ?? 0));
    const number = BigInt(bucket);
    if (buckets.kind === "range" && size > listable * 4n && buckets.step > 1n) {
      const from = buckets.from + number * buckets.step;
      await search(sides, { ...extent, keys: { from, to: from + buckets.step } }, size, finding);
      continue;
    }
    round.push(number);
    inRound += size;
    if (inRound > roundOfKeys || round.length >= 500) await listRound();
  }
  await listRound();
  return all;
}

function larger(a: bigint, b: bigint): bigint {
  return a > b ? a : b;
}

/**
 * Enough buckets that one differing row costs a few hundred keys; a span too wide for bigint arithmetic is hashed.
 * Null where there are no rows.
 */
function bucketsFor(rows: bigint | null, spans: { low: string | null; high: string | null }[]): Buckets | null {
  const ends = spans
    .flatMap((span) => (span.low === null || span.high === null ? [] : [BigInt(span.low), BigInt(span.high)]))
    .sort((a, b) => (a < b ? -1 : 1));
  const [low, high] = [ends[0], ends.at(-1)];
  const ranged = low !== undefined && high !== undefined;
  if (rows === null && !ranged) return null;
  const most = ranged ? high - low + 1n : (rows ?? 0n);
  const wanted = (rows !== null && rows < most ? rows : most) / 256n + 1n;
  const number = wanted > mostBuckets ? mostBuckets : wanted;
  if (ranged && high - low < 1n << 62n) return { kind: "range", from: low, step: (high - low) / number + 1n };
  return { kind: "hash", count: 2 ** (number.toString(2).length - 1) };
}

async function list(
  { left, right }: Sides,
  extent: Extent,
  buckets: Buckets,
  numbers: bigint[],
  finding: Finding,
): Promise<void> {
  const [ours, theirs] = await Promise.all([
    left.hashes(extent, buckets, numbers),
    right.hashes(extent, buckets, numbers),
  ]);
  finding.keysRead += ours.length + theirs.length;
  for (const rows of [ours, theirs])
    for (const row of rows)
      finding.bytes += row.hash.length + row.key.reduce((sum, value) => sum + (value?.length ?? 0) + 4, 8);
  for (const entry of differences(ours, theirs)) finding.found.push(entry);
}

/** The differing rows with their values; without a key, the row is its own key. */
async function whole({ left, right }: Sides, found: KeyDifference[], finding: Finding): Promise<DifferingRow[]> {
  const cut = (key: (string | null)[]) =>
    key.map((value) =>
      value !== null && value.length > longestShown
        ? `${value.slice(0, longestShown)}… (${value.length} characters)`
        : value,
    );
  if (left.key.length === 0)
    return found.map(({ key, kind }) => ({
      key: cut(key),
      kind,
      source: kind === "missing" ? cut(key) : null,
      warehouse: kind === "extra" ? cut(key) : null,
      cells: key.map((_, at) => at),
    }));
  const keys = found.map((entry) => entry.key).filter((key): key is string[] => key.every((value) => value !== null));
  if (keys.length === 0) return found.map(({ key, kind }) => ({ key, kind, source: null, warehouse: null, cells: [] }));
  const [source, warehouse] = await Promise.all([left.rowsByKey(keys), right.rowsByKey(keys)]);
  for (const side of [source, warehouse]) for (const row of side.values()) finding.bytes += JSON.stringify(row).length;
  const keyCells = left.key.map((part) => left.columns.indexOf(part));
  return found.map(({ key, kind }) => {
    const name = JSON.stringify(key);
    const ours = kind === "extra" ? undefined : source.get(name);
    const theirs = kind === "missing" ? undefined : warehouse.get(name);
    const cells =
      ours && theirs ? ours.hashes.flatMap((hash, at) => (hash === theirs.hashes[at] ? [] : [at])) : keyCells;
    return { key, kind, source: ours?.values ?? null, warehouse: theirs?.values ?? null, cells };
  });
}

/** Rows past the watermark wait for the next load; rows before it came too late for theirs; rows only in the warehouse were deleted. */
async function causes(found: KeyDifference[], lateness: Lateness | null): Promise<Cause[]> {
  const result: Cause[] = [];
  const keys = found.filter((entry) => entry.kind !== "extra").map((entry) => entry.key);
  const complete = keys.filter((key): key is string[] => key.every((value) => value !== null)).slice(0, limit);
  if (lateness && complete.length) {
    const told = await lateness(complete);
    if (told && told.past !== "0") result.push({ kind: "waiting", rows: Number(told.past) });
    if (told && told.before !== "0") result.push({ kind: "late", rows: Number(told.before), late: told.late });
  }
  const extra = found.length - keys.length;
  if (extra) result.push({ kind: "deleted", rows: extra });
  return result;
}
