import type { Figure } from "../proof/figure.ts";
import { fence } from "./fence.ts";
import { keyForm, keyHash, rowHash, rowHashes } from "./hash.ts";
import { identifier, identifiers } from "./identifier.ts";
import { keyPredicate } from "./read.ts";
import type { Relation } from "./relation.ts";
import { inSlices, sliceStart } from "./slice.ts";
import { typeFamily } from "./type.ts";

/** Which slices a proof compares: all of them, or those listed. */
export type SliceChoice = "all" | (string | null)[];

/** The part of a relation that a comparison looks at: some slices and, of those, the whole-number keys from (included) to (excluded). */
export interface Extent {
  slices: SliceChoice;
  keys?: { from: bigint; to: bigint };
}

function within(relation: Relation, extent: Extent, ...more: string[]): string {
  const key = rangeKey(relation);
  const conditions = [...more];
  if (extent.slices !== "all" && relation.slicing) conditions.push(inSlices(relation.slicing, extent.slices));
  if (extent.keys && key) conditions.push(keyRange(key, extent.keys.from, extent.keys.to));
  return conditions.length ? ` WHERE ${conditions.map((condition) => `(${condition})`).join(" AND ")}` : "";
}

function keyRange(key: string, from: bigint, to: bigint): string {
  return `${identifier(key)} >= ${from} AND ${identifier(key)} < ${to}`;
}

/** The rows of an extent; where values are computed, a fence keeps each from being computed more than once. */
function rowsOf(relation: Relation, extent: Extent, ...more: string[]): string {
  const rows = `(${relation.rows}) r${within(relation, extent, ...more)}`;
  return relation.computed
    ? `(SELECT ${identifiers(relation.columns.map((column) => column.name))} FROM ${rows} ${fence}) r`
    : rows;
}

function typeOf(relation: Relation, name: string): string {
  return relation.columns.find((candidate) => candidate.name === name)?.type ?? "";
}

/** A figure as aggregates: of some rows, of such parts, and how the value is printed. */
interface Aggregate {
  part: string;
  join: (parts: string) => string;
  print: (sql: string) => string;
}

/**
 * Floats are added up as the decimals they print as, so that the order of rows can't change the sum. Texts order by bytes,
 * as collations differ between servers. Of numbers that are equal in several forms, the least is printed in one.
 */
function aggregate(relation: Relation, figure: Figure): Aggregate {
  const text = (sql: string) => `${sql}::text`;
  const counted = (part: string): Aggregate => ({ part, join: (parts) => `coalesce(sum(${parts}), 0)`, print: text });
  if (figure.column === null) return counted("count(*)");
  const column = identifier(figure.column);
  const family = typeFamily(typeOf(relation, figure.column));
  const { measure } = figure;
  switch (measure) {
    case "sum":
      return {
        part: `sum(${column}${family === "float" ? "::text::numeric" : ""})`,
        join: (parts) => `sum(${parts})`,
        print: text,
      };
    case "min":
    case "max": {
      const print = (sql: string) => {
        if (family === "numeric") return `trim_scale(${sql})::text`;
        return family === "float" ? `(${sql} + 0)::text` : text(sql);
      };
      return {
        part: `${measure}(${column}${family === "text" ? '::text COLLATE "C"' : ""})`,
        join: (parts) => `${measure}(${parts})`,
        print,
      };
    }
    default:
      return counted(`count(${column})`);
  }
}

/** SQL of hashes' sums, exact and as one text. */
function sumOf(hashes: readonly string[]): string {
  return hashes.map((hash) => `coalesce(sum(${hash}), 0)::text`).join(" || ' ' || ");
}

const hashNames = (count: number) =>
  Array.from({ length: count }, (_, at) => identifier(`hash of all its values ${at}`));

const selfNamed = (relation: Relation) => relation.columns.map(({ name, type }) => ({ sql: identifier(name), type }));

/**
 * The figures of one side, exact as text: a row for each slice and, last, one over all of them.
 * Columns: total ('1' for that last row), slice, then a figure each; with `cells` also the number of rows and the sum of
 * the hashes of their every value.
 */
export function figures(relation: Relation, slices: SliceChoice, cells: boolean): string {
  const hashes = cells ? rowHashes(selfNamed(relation), relation.hashing) : [];
  const names = hashNames(hashes.length);
  const values = relation.figures
    .map((figure, at) => {
      const { part, print } = aggregate(relation, figure);
      return `, ${print(part)} AS f${at}`;
    })
    .join("");
  const checksum = cells ? `, count(*)::text AS rows, ${sumOf(names)} AS checksum` : "";
  const rows = rowsOf(relation, { slices });
  const from = cells
    ? `(SELECT r.*, ${hashes.map((hash, at) => `${hash} AS ${names[at]}`).join(", ")} FROM ${rows}) r`
    : rows;
  if (!relation.slicing) return `SELECT 1 AS total, NULL::text AS slice${values}${checksum} FROM ${from}`;
  const slice = sliceStart(relation.slicing);
  return `SELECT GROUPING(${slice}) AS total, (${slice})::text AS slice${values}${checksum} FROM ${from} GROUP BY GROUPING SETS ((${slice}), ())`;
}

/** How the rows of a comparison are split into buckets: contiguous ranges of a whole-number key, else by the key's hash. */
export type Buckets = { kind: "range"; from: bigint; step: bigint } | { kind: "hash"; count: number };

/** The least and greatest key of one side, which an index answers; nulls where it has no rows. Only for a single whole-number key. */
export function keySpan(relation: Relation, extent: Extent): string {
  const key = identifier(rangeKey(relation) ?? "");
  return `SELECT min(${key})::text AS low, max(${key})::text AS high FROM (${relation.rows}) r${within(relation, extent)}`;
}

/** The number of rows of one side. */
export function rowCount(relation: Relation, extent: Extent): string {
  return `SELECT count(*)::text AS rows FROM (${relation.rows}) r${within(relation, extent)}`;
}

/** The key's name where it is a single whole number, whose ranges an index serves. */
export function rangeKey(relation: Relation): string | null {
  const [only, ...more] = relation.key;
  return only !== undefined && more.length === 0 && typeFamily(typeOf(relation, only)) === "integer" ? only : null;
}

/** The columns by which rows are matched: the key's, or all of them. */
export function matching(relation: Relation): { name: string; type: string }[] {
  return relation.key.length ? relation.key.map((name) => ({ name, type: typeOf(relation, name) })) : relation.columns;
}

/** A range bucket is counted in bigint, several times faster than numeric; a span that would overflow is hashed instead. */
function bucketOf(relation: Relation, buckets: Buckets): string {
  const key = rangeKey(relation);
  if (buckets.kind === "range" && key) return `(${identifier(key)}::bigint - (${buckets.from})) / ${buckets.step}`;
  const hash = relation.key.length
    ? keyHash(
        matching(relation).map(({ name, type }) => ({ sql: identifier(name), type })),
        relation.hashing,
      )
    : rowHash(selfNamed(relation), relation.hashing);
  return `(${hash} & ${buckets.kind === "hash" ? buckets.count - 1 : 0})`;
}

/** The planner can't know how few buckets there are and would sort every row by them; this keeps it from that until the transaction ends. */
export const groupByHashing = "SET LOCAL enable_sort = off";
export const groupAsPlanned = "SET LOCAL enable_sort = on";

/** A row's hashes: of every value, or of the key in the form that equal keys share where nothing but keys is compared. */
function hashesOf(relation: Relation): string[] {
  return relation.columns.length === relation.key.length
    ? [
        keyHash(
          matching(relation).map(({ name, type }) => ({ sql: identifier(name), type })),
          relation.hashing,
        ),
      ]
    : rowHashes(selfNamed(relation), relation.hashing);
}

/**
 * A checksum for each bucket of one side: the number of rows and the exact sum of their hashes; with `figures` also a last
 * row ('1' as `total`) with the sums over all buckets and the figures (f0 …), out of the same reading.
 * Method: bucketed checksums over row hashes, as in set reconciliation.
 */
export function bucketChecksums(relation: Relation, extent: Extent, buckets: Buckets, figures: boolean): string {
  const hashes = hashesOf(relation);
  const names = hashNames(hashes.length);
  const bucket = identifier("bucket of its key");
  const measured = figures ? relation.figures.map((figure) => aggregate(relation, figure)) : [];
  const parts = measured.map(({ part }, at) => `, ${part} AS f${at}`).join("");
  const rows = `SELECT ${figures ? "r.*, " : ""}${bucketOf(relation, buckets)} AS ${bucket}, ${hashes.map((hash, at) => `${hash} AS ${names[at]}`).join(", ")} FROM ${rowsOf(relation, extent)}`;
  const sums = names.map((name) => `sum(${name}) AS ${name}`).join(", ");
  const grouped = `SELECT ${bucket}, count(*) AS rows, ${sums}${parts} FROM (${rows}) r GROUP BY 1`;
  const each = `SELECT 0 AS total, ${bucket}::text AS bucket, rows::text AS rows, ${names.map((name) => `${name}::text`).join(" || ' ' || ")} AS checksum`;
  if (!figures) return `${each} FROM (${grouped}) b`;
  const nothing = measured.map((_, at) => `, NULL::text AS f${at}`).join("");
  const all = measured.map(({ join, print }, at) => `, ${print(join(`f${at}`))} AS f${at}`).join("");
  return `WITH b AS MATERIALIZED (${grouped}) ${each}${nothing} FROM b UNION ALL SELECT 1, NULL, coalesce(sum(rows), 0)::text, ${sumOf(names)}${all} FROM b`;
}

/** Key (k0…) and hash of the rows of some buckets; a key is printed in the form that equal keys share. */
export function bucketRows(relation: Relation, extent: Extent, buckets: Buckets, numbers: bigint[]): string {
  const key = rangeKey(relation);
  const picked =
    buckets.kind === "range" && key
      ? numbers
          .map(
            (number) =>
              `(${keyRange(key, buckets.from + number * buckets.step, buckets.from + (number + 1n) * buckets.step)})`,
          )
          .join(" OR ")
      : `${bucketOf(relation, buckets)} = ANY('{${numbers.join(",")}}'::bigint[])`;
  const keys = matching(relation).map(
    ({ name, type }, at) =>
      `${relation.key.length ? keyForm(identifier(name), type) : identifier(name)}::text AS k${at}`,
  );
  const hash = hashesOf(relation)
    .map((part) => `${part}::text`)
    .join(" || ' ' || ");
  return `SELECT ${hash} AS hash, ${keys.join(", ")} FROM ${rowsOf(relation, extent, picked)}`;
}

/** A value's text as a person is shown it: cut, with the length told, so that one row can't fill the answer. */
const shownLength = 2000;

function shown(sql: string): string {
  return `CASE WHEN length(${sql}::text) > ${shownLength} THEN left(${sql}::text, ${shownLength}) || '… (' || length(${sql}::text) || ' characters)' ELSE ${sql}::text END`;
}

/** The rows of some keys: the key in the form that equal keys share (k0…), every column's text (c0…) and its hash (h0…), by which cells are told apart as exactly as rows are. */
export function rowsByKey(relation: Relation, keys: string[][]): string {
  const matched = matching(relation);
  const parts = matched.map(({ name, type }, at) => `${keyForm(identifier(name), type)}::text AS k${at}`);
  const columns = relation.columns.map(
    ({ name, type }, at) =>
      `${shown(identifier(name))} AS c${at}, ${rowHash([{ sql: identifier(name), type }], relation.hashing)}::text AS h${at}`,
  );
  return `SELECT ${[...parts, ...columns].join(", ")} FROM ${rowsOf(relation, { slices: "all" }, keyPredicate(matched, keys))}`;
}

/** Which of some keys the relation has, by the database's own equality and texts by their bytes; their places in the arrays, from 1. Parameters, behind the relation's own: an array of texts for each key column. */
export function presentKeys(relation: Relation): string {
  const matched = matching(relation);
  const first = relation.parameters.length + 1;
  const given = `unnest(${matched.map((_, at) => `$${first + at}::text[]`).join(", ")}) WITH ORDINALITY AS g(${matched.map((_, at) => `k${at}`).join(", ")}, place)`;
  const equal = matched.map(({ name, type }, at) => {
    // By bytes, whatever the collation of either side ignores.
    const bytes = typeFamily(type) === "text" ? '::text COLLATE "C"' : "";
    return `r.${identifier(name)}${bytes} = g.k${at}::${type}${bytes}`;
  });
  return `SELECT g.place::text FROM ${given} WHERE EXISTS (SELECT 1 FROM (${relation.rows}) r WHERE ${equal.join(" AND ")})`;
}
