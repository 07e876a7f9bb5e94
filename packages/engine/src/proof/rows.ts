import type { LoadPlan } from "@undercoat/core/plan/plan";
import { type Cause, type DifferingRow, differences, type KeyDifference, type RowDifferences } from "@undercoat/core/proof/difference";
import { type Buckets, type Extent, rangeKey } from "@undercoat/core/sql/proof";
import type { ProofSide } from "./side.ts";

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

interface Sides {
  source: ProofSide;
  warehouse: ProofSide;
}

interface Finding {
  /** differences after which the search stops */
  limit: number;
  found: KeyDifference[];
  /** takes what was found so far; true where the search need not go on */
  enough?: () => boolean;
  checksums: number;
  keysRead: number;
  bytes: number;
  complete: boolean;
}

/**
 * Finds the rows by which two sides differ, moving checksums first and keys only where those differ. Ranges of a
 * whole-number key are read by its index; other keys are told apart by their hash.
 * @param rows the larger side's number of rows in the extent where it is known already
 */
export async function compareRows(plan: LoadPlan, sides: Sides, extent: Extent, rows: bigint | null, watermark: string | null): Promise<RowDifferences> {
  const finding: Finding = { limit, found: [], checksums: 0, keysRead: 0, bytes: 0, complete: true };
  const size = rows ?? (await Promise.all([sides.source.count(plan, extent), sides.warehouse.count(plan, extent)])).reduce(larger);
  await search(plan, sides, extent, size, finding);
  const listed = finding.found.slice(0, shown);
  const count = (kind: KeyDifference["kind"]) => finding.found.filter((entry) => entry.kind === kind).length;
  return {
    columns: plan.read.columns.map((column) => column.name),
    key: plan.key,
    missing: count("missing"),
    extra: count("extra"),
    different: count("different"),
    complete: finding.complete,
    rows: await whole(plan, sides, listed, finding),
    checksums: finding.checksums,
    keysRead: finding.keysRead,
    bytes: finding.bytes,
    causes: await causes(plan, sides, finding.found, watermark),
  };
}

/**
 * The keys of the warehouse's rows that the source no longer has, found by comparing checksums of keys: where those agree
 * nothing is moved. Rows that were rejected still stand at the source and are not gone.
 * @param most keys after which the search stops and `complete` is false
 */
export async function goneKeys(plan: LoadPlan, sides: Sides, most: number): Promise<{ keys: string[][]; complete: boolean; checksums: number; keysRead: number }> {
  const keys: LoadPlan = { ...plan, without: null, by: null, read: { ...plan.read, columns: plan.read.columns.filter((column) => plan.key.includes(column.name)) } };
  const finding: Finding = { limit: Number.POSITIVE_INFINITY, found: [], checksums: 0, keysRead: 0, bytes: 0, complete: true };
  const extent: Extent = { slices: "all" };
  const rows = (await Promise.all([sides.source.count(keys, extent), sides.warehouse.count(keys, extent)])).reduce(larger);
  const gone: string[][] = [];
  const collect = () => {
    for (const entry of finding.found) if (entry.kind === "extra" && entry.key.every((value) => value !== null)) gone.push(entry.key as string[]);
    finding.found.length = 0;
    return gone.length > most;
  };
  finding.enough = collect;
  await search(keys, sides, extent, rows, finding);
  collect();
  return { keys: gone, complete: gone.length <= most, checksums: finding.checksums, keysRead: finding.keysRead };
}

async function search(plan: LoadPlan, sides: Sides, extent: Extent, rows: bigint, finding: Finding): Promise<void> {
  if (rows === 0n) return;
  const spans = rangeKey(plan) ? await Promise.all([sides.source.span(plan, extent), sides.warehouse.span(plan, extent)]) : [];
  const buckets = bucketsFor(rows, spans);
  const [ours, theirs] = await Promise.all([sides.source.checksums(plan, extent, buckets), sides.warehouse.checksums(plan, extent, buckets)]);
  finding.checksums += ours.size + theirs.size;
  for (const sums of [ours, theirs]) for (const [bucket, sum] of sums) finding.bytes += bucket.length + sum.rows.length + sum.checksum.length + 12;
  let round: bigint[] = [];
  let inRound = 0n;
  const listRound = async () => {
    if (round.length) await list(plan, sides, extent, buckets, round, finding);
    round = [];
    inRound = 0n;
  };
  for (const bucket of new Set([...ours.keys(), ...theirs.keys()])) {
    const [a, b] = [ours.get(bucket), theirs.get(bucket)];
    if (a && b && a.rows === b.rows && a.checksum === b.checksum) continue;
    if (finding.found.length >= finding.limit || finding.enough?.()) {
      finding.complete = false;
      return;
    }
    const size = larger(BigInt(a?.rows ?? 0), BigInt(b?.rows ?? 0));
    const number = BigInt(bucket);
    if (buckets.kind === "range" && size > listable * 4n && buckets.step > 1n) {
      const from = buckets.from + number * buckets.step;
      await search(plan, sides, { ...extent, keys: { from, to: from + buckets.step } }, size, finding);
      continue;
    }
    round.push(number);
    inRound += size;
    if (inRound > roundOfKeys || round.length >= 500) await listRound();
  }
  await listRound();
}

function larger(a: bigint, b: bigint): bigint {
  return a > b ? a : b;
}

/** Enough buckets that one differing row costs a few hundred keys; a span too wide for bigint arithmetic is hashed. */
function bucketsFor(rows: bigint, spans: { low: string | null; high: string | null }[]): Buckets {
  const wanted = rows / 256n + 1n;
  const number = wanted > mostBuckets ? mostBuckets : wanted;
  const ends = spans.flatMap((span) => (span.low === null || span.high === null ? [] : [BigInt(span.low), BigInt(span.high)])).sort((a, b) => (a < b ? -1 : 1));
  const [low, high] = [ends[0], ends.at(-1)];
  if (low !== undefined && high !== undefined && high - low < 1n << 62n) return { kind: "range", from: low, step: (high - low) / number + 1n };
  return { kind: "hash", count: 2 ** (number.toString(2).length - 1) };
}

async function list(plan: LoadPlan, sides: Sides, extent: Extent, buckets: Buckets, numbers: bigint[], finding: Finding): Promise<void> {
  const [ours, theirs] = await Promise.all([sides.source.hashes(plan, extent, buckets, numbers), sides.warehouse.hashes(plan, extent, buckets, numbers)]);
  finding.keysRead += ours.length + theirs.length;
  for (const rows of [ours, theirs]) for (const row of rows) finding.bytes += row.hash.length + row.key.reduce((sum, value) => sum + (value?.length ?? 0) + 4, 8);
  for (const entry of differences(ours, theirs)) finding.found.push(entry);
}

/** The differing rows with their values; without a key, the row is its own key. */
async function whole(plan: LoadPlan, sides: Sides, found: KeyDifference[], finding: Finding): Promise<DifferingRow[]> {
  if (plan.key.length === 0)
    return found.map(({ key, kind }) => ({ key, kind, source: kind === "missing" ? key : null, warehouse: kind === "extra" ? key : null, cells: key.map((_, at) => at) }));
  const keys = found.map((entry) => entry.key).filter((key): key is string[] => key.every((value) => value !== null));
  if (keys.length === 0) return found.map(({ key, kind }) => ({ key, kind, source: null, warehouse: null, cells: [] }));
  const [source, warehouse] = await Promise.all([sides.source.rowsByKey(plan, keys), sides.warehouse.rowsByKey(plan, keys)]);
  for (const side of [source, warehouse]) for (const row of side.values()) finding.bytes += JSON.stringify(row).length;
  return found.map(({ key, kind }) => {
    const name = JSON.stringify(key);
    const ours = kind === "extra" ? undefined : source.get(name);
    const theirs = kind === "missing" ? undefined : warehouse.get(name);
    const keyCells = plan.key.map((part) => plan.read.columns.findIndex((column) => column.name === part));
    const cells = ours && theirs ? ours.hashes.flatMap((hash, at) => (hash === theirs.hashes[at] ? [] : [at])) : keyCells;
    return { key, kind, source: ours?.values ?? null, warehouse: theirs?.values ?? null, cells };
  });
}

/** Rows past the watermark wait for the next load; rows before it came too late for theirs; rows only in the warehouse were deleted. */
async function causes(plan: LoadPlan, sides: Sides, found: KeyDifference[], watermark: string | null): Promise<Cause[]> {
  const result: Cause[] = [];
  const keys = found.filter((entry) => entry.kind !== "extra").map((entry) => entry.key);
  if (watermark !== null && plan.key.length && keys.length) {
    const complete = keys.filter((key): key is string[] => key.every((value) => value !== null)).slice(0, limit);
    const lateness = await sides.source.lateness(plan, complete, watermark);
    if (lateness && lateness.past !== "0") result.push({ kind: "waiting", rows: Number(lateness.past) });
    if (lateness && lateness.before !== "0") result.push({ kind: "late", rows: Number(lateness.before), late: lateness.late });
  }
  const extra = found.length - keys.length;
  if (extra) result.push({ kind: "deleted", rows: extra });
  return result;
}
