import type { LoadPlan } from "../plan/plan.ts";
import type { Figure } from "../proof/figure.ts";
import { identifier, qualified } from "./identifier.ts";
import { typedLiteral } from "./literal.ts";
import { keyColumns, keyPredicate, origin, shapedValue, sourceRows } from "./read.ts";
import { sameKeyRejected } from "./reject.ts";
import { sliceExpression, slicePredicate } from "./slice.ts";
import { hashOf, typeFamily } from "./type.ts";

export type Side = "source" | "warehouse";

/** Which slices a proof compares: all of them, or those listed. */
export type SliceChoice = "all" | (string | null)[];

/** The part of a table that a comparison looks at: some slices and, of those, the whole-number keys from (included) to (excluded). */
export interface Extent {
  slices: SliceChoice;
  keys?: { from: bigint; to: bigint };
}

/** One side's rows under the same names and types as the other's. */
function rows(plan: LoadPlan, side: Side): string {
  if (side === "source") return sourceRows(plan);
  const conditions = [...(plan.deletions?.how === "mark" ? [`t.${identifier(plan.deletions.column)} IS NULL`] : []), ...(plan.without?.identities.length && plan.key.length ? [`NOT EXISTS (${sameKeyRejected(plan)})`] : [])];
  return `SELECT ${plan.read.columns.map((column) => `t.${identifier(column.name)}`).join(", ")} FROM ${qualified(plan.target)} t${conditions.length ? ` WHERE ${conditions.join(" AND ")}` : ""}`;
}

function chosen(plan: LoadPlan, slices: SliceChoice): string {
  if (slices === "all") return "";
  const parts = slices.map((slice) => slicePredicate(plan, slice));
  return ` WHERE ${parts.length ? parts.map((part) => `(${part})`).join(" OR ") : "false"}`;
}

function within(plan: LoadPlan, extent: Extent, ...more: string[]): string {
  const key = rangeKey(plan);
  const conditions = [...more];
  if (extent.slices !== "all") conditions.push(chosen(plan, extent.slices).replace(" WHERE ", ""));
  if (extent.keys && key) conditions.push(keyRange(key, extent.keys.from, extent.keys.to));
  return conditions.length ? ` WHERE ${conditions.map((condition) => `(${condition})`).join(" AND ")}` : "";
}

function keyRange(key: string, from: bigint, to: bigint): string {
  return `${identifier(key)} >= ${from} AND ${identifier(key)} < ${to}`;
}

/** Floats are added up as the decimals they print as, so that the order of rows can't change the sum. Texts order by bytes, as collations differ between servers. */
function aggregate(plan: LoadPlan, figure: Figure): string {
  if (figure.column === null) return "count(*)::text";
  const column = identifier(figure.column);
  const family = typeFamily(plan.read.columns.find((candidate) => candidate.name === figure.column)?.type ?? "");
  switch (figure.measure) {
    case "sum":
      return `sum(${column}${family === "float" ? "::text::numeric" : ""})::text`;
    case "min":
    case "max":
      return `${figure.measure}(${column}${family === "text" ? '::text COLLATE "C"' : ""})::text`;
    default:
      return `count(${column})::text`;
  }
}

/**
 * The figures of one side, exact as text: a row for each slice and, last, one over all of them.
 * Columns: total ('1' for that last row), slice, then a figure each.
 */
export function figures(plan: LoadPlan, side: Side, slices: SliceChoice): string {
  const values = plan.figures.map((figure, at) => `${aggregate(plan, figure)} AS f${at}`).join(", ");
  const from = `FROM (${rows(plan, side)}) r${chosen(plan, slices)}`;
  if (!plan.by) return `SELECT 1 AS total, NULL::text AS slice, ${values} ${from}`;
  const slice = sliceExpression(plan);
  return `SELECT GROUPING(${slice}) AS total, (${slice})::text AS slice, ${values} ${from} GROUP BY GROUPING SETS ((${slice}), ())`;
}

/** How the rows of a comparison are split into buckets: contiguous ranges of a whole-number key, else by the key's hash. */
export type Buckets = { kind: "range"; from: bigint; step: bigint } | { kind: "hash"; count: number };

/** The least and greatest key of one side, which an index answers; nulls where it has no rows. Only for a single whole-number key. */
export function keySpan(plan: LoadPlan, side: Side, extent: Extent): string {
  const key = identifier(rangeKey(plan) ?? "");
  return `SELECT min(${key})::text AS low, max(${key})::text AS high FROM (${rows(plan, side)}) r${within(plan, extent)}`;
}

/** The number of rows of one side. */
export function rowCount(plan: LoadPlan, side: Side, extent: Extent): string {
  return `SELECT count(*)::text AS rows FROM (${rows(plan, side)}) r${within(plan, extent)}`;
}

/** The key's name where it is a single whole number, whose ranges an index serves. */
export function rangeKey(plan: LoadPlan): string | null {
  const [only, ...more] = plan.key.map((name) => plan.read.columns.find((column) => column.name === name));
  return only && more.length === 0 && typeFamily(only.type) === "integer" ? only.name : null;
}

/** The columns that both sides can give. */
function provable(plan: LoadPlan): { name: string; type: string }[] {
  return plan.read.columns.filter((column) => !column.missing);
}

function rowHash(columns: readonly { name: string; type: string }[]): string {
  return hashOf(columns.map(({ name, type }) => ({ sql: identifier(name), type })));
}

/** A range bucket is counted in bigint, several times faster than numeric; a span that would overflow is hashed instead. */
function bucketOf(plan: LoadPlan, buckets: Buckets): string {
  const key = rangeKey(plan);
  if (buckets.kind === "range" && key) return `(${identifier(key)}::bigint - (${buckets.from})) / ${buckets.step}`;
  return `(${rowHash(keyColumns(plan))} & ${buckets.kind === "hash" ? buckets.count - 1 : 0})`;
}

/** The planner can't know how few buckets there are and would sort every row by them; this keeps it from that until the snapshot ends. */
export const groupByHashing = "SET LOCAL enable_sort = off";

/**
 * A checksum for each bucket of one side: number of rows, the hashes' exclusive or, and the sum of their upper halves (a
 * pair of equal rows cancels in the first but not in the second).
 * Method: bucketed checksums over 64-bit row hashes, as in set reconciliation.
 */
export function bucketChecksums(plan: LoadPlan, side: Side, extent: Extent, buckets: Buckets): string {
  // Where a key keeps all rows distinct, no two hashes can cancel each other and the exclusive or is enough.
  const distinct = plan.keyGuaranteed && plan.mode === "upsert";
  const checksum = distinct ? "bit_xor(hash)::text" : "bit_xor(hash)::text || ' ' || sum((hash >> 33)::int4)::text";
  return `SELECT bucket::text, count(*)::text AS rows, ${checksum} AS checksum FROM (SELECT ${bucketOf(plan, buckets)} AS bucket, ${rowHash(provable(plan))} AS hash FROM (${rows(plan, side)}) r${within(plan, extent)}) h GROUP BY bucket`;
}

/** Key (k0…) and hash of the rows of some buckets. */
export function bucketRows(plan: LoadPlan, side: Side, extent: Extent, buckets: Buckets, numbers: bigint[]): string {
  const key = rangeKey(plan);
  const picked =
    buckets.kind === "range" && key
      ? numbers.map((number) => `(${keyRange(key, buckets.from + number * buckets.step, buckets.from + (number + 1n) * buckets.step)})`).join(" OR ")
      : `${bucketOf(plan, buckets)} IN (${numbers.join(", ")})`;
  const keys = keyColumns(plan).map((column, at) => `${identifier(column.name)}::text AS k${at}`);
  return `SELECT ${rowHash(provable(plan))}::text AS hash, ${keys.join(", ")} FROM (${rows(plan, side)}) r${within(plan, extent, picked)}`;
}

/** The rows of some keys: every column's text (c0…) and its hash (h0…), by which cells are told apart as exactly as rows are. */
export function rowsByKey(plan: LoadPlan, side: Side, keys: string[][]): string {
  const columns = plan.read.columns.map((column, at) => `${identifier(column.name)}::text AS c${at}, ${column.missing ? "'0'" : rowHash([column])}::text AS h${at}`);
  return `SELECT ${columns.join(", ")} FROM (${rows(plan, side)}) r WHERE ${keyPredicate(keyColumns(plan), keys)}`;
}

/** How many of some source rows carry a watermark past the one loaded, and how many an earlier one. */
export function keysPastWatermark(plan: LoadPlan, keys: string[][], value: string): string | null {
  const watermark = plan.read.watermark;
  if (!watermark) return null;
  const names = keyColumns(plan).map((column) => {
    const planned = plan.read.columns.find((candidate) => candidate.name === column.name);
    return { ...column, ...(planned ? { sql: shapedValue(planned) } : {}) };
  });
  const past = `${identifier(watermark.column)} > ${typedLiteral(value, watermark.type)}`;
  return `SELECT count(*) FILTER (WHERE ${past})::text AS past, count(*) FILTER (WHERE NOT ${past})::text AS before, max(${typedLiteral(value, watermark.type)} - ${identifier(watermark.column)}) FILTER (WHERE NOT ${past})::text AS late FROM ${origin(plan.read)} s WHERE ${keyPredicate(names, keys)}`;
}
