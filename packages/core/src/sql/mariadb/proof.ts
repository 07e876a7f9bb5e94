import type { LoadPlan, Without } from "../../plan/plan.ts";
import type { Window } from "../../plan/window.ts";
import type { Figure } from "../../proof/figure.ts";
import type { Buckets, Extent, SliceChoice } from "../proof.ts";
import type { Slicing } from "../slice.ts";
import { typeFamily } from "../type.ts";
import { accepted, keyPredicate, type MariaRows, textHash, where } from "./read.ts";
import { inSlices, sliceStart } from "./slice.ts";
import { literal, portableText, readText, valueIn } from "./text.ts";
import type { MariaColumn } from "./type.ts";

/** A column of a relation: its name and type in the warehouse, its value over `s`, and its text that both sides print alike. */
interface Compared {
  name: string;
  type: string;
  column: MariaColumn;
  value: string;
  text: string;
}

/** Rows of a MariaDB server that a proof can compare with others; see Relation of the warehouse's SQL. */
export interface MariaRelation {
  from: string;
  conditions: string[];
  columns: Compared[];
  key: string[];
  slicing: Slicing | null;
  figures: Figure[];
}

/** The rows of a load, of a window or all, less those that a proof leaves out. Only for plans that the server answers for. */
export function sourceRelation(
  plan: LoadPlan,
  rows: MariaRows,
  without: Without | null,
  window: Window = { kind: "all" },
): MariaRelation {
  const { history } = plan.write;
  const kept = (name: string) => history?.breach === "count" && history.roles.get(name) === "keep";
  const columns = plan.read.columns.flatMap(({ name, type, source, missing }): Compared[] => {
    const column = rows.columns.get(source ?? "");
    if (!column || missing || kept(name)) return [];
    const value = valueIn(column, rows.zeroDates);
    const text = portableText(column, value, type);
    return text === null ? [] : [{ name, type, column, value, text }];
  });
  return {
    ...accepted(plan, rows, window, without),
    columns,
    key: plan.write.key,
    slicing: plan.prove.slicing,
    figures: plan.prove.figures,
  };
}

/** The key's columns, in its order. */
const keyColumns = ({ key, columns }: MariaRelation): Compared[] =>
  key.flatMap((name) => columns.filter((column) => column.name === name));

/** The same rows, compared by their keys alone. */
export const keysOf = (relation: MariaRelation): MariaRelation => ({
  ...relation,
  columns: keyColumns(relation),
  slicing: null,
  figures: [],
});

/** The single whole-number key, whose ranges an index serves; null for any other. */
export function rangeKey(relation: MariaRelation): Compared | null {
  const [only, ...more] = keyColumns(relation);
  return only && more.length === 0 && typeFamily(only.type) === "integer" ? only : null;
}

/** The columns by which rows are matched: the key's, or all of them. */
export const matching = (relation: MariaRelation): Compared[] =>
  relation.key.length ? keyColumns(relation) : relation.columns;

/** A key's text in the form that equal keys share: without zeros at the end of a decimal. */
function keyText({ column, text, type }: Compared): string {
  const trims = typeFamily(type) === "numeric" && (column.scale ?? 0) > 0;
  return trims ? `TRIM(TRAILING '.' FROM TRIM(TRAILING '0' FROM CAST(${text} AS CHAR)))` : text;
}

function within(relation: MariaRelation, { slices, keys }: Extent, ...more: string[]): string {
  const conditions = [...relation.conditions, ...more];
  const sliced = relation.columns.find(({ name }) => name === relation.slicing?.column);
  if (slices !== "all" && relation.slicing && sliced) conditions.push(inSlices(relation.slicing, slices, sliced.value));
  const key = rangeKey(relation);
  if (keys && key) conditions.push(keyRange(key, keys.from, keys.to));
  return `${relation.from}${where(conditions)}`;
}

const keyRange = ({ value }: Compared, from: bigint, to: bigint) => `${value} >= ${from} AND ${value} < ${to}`;

const hashed = (columns: readonly Compared[]) => textHash(columns);
const keyHash = (relation: MariaRelation) =>
  textHash(matching(relation).map((column) => ({ text: keyText(column), type: column.type })));

/** A row's hash: of every value, or of the key in the form that equal keys share where nothing but keys is compared. */
const hashOf = (relation: MariaRelation) =>
  relation.columns.length === relation.key.length ? keyHash(relation) : hashed(relation.columns);

/** A figure in two steps: of some rows, of such parts, and how the value is printed. */
function measured(relation: MariaRelation, { measure, column: name }: Figure, at: number) {
  const found = relation.columns.find((column) => column.name === name);
  const counted = { part: "COUNT(*)", join: `COALESCE(SUM(f${at}), 0)`, print: (sql: string) => sql };
  if (name === null || !found) return counted;
  const { value, column, text, type } = found;
  const family = typeFamily(type);
  switch (measure) {
    case "sum":
      return { part: `SUM(${text})`, join: `SUM(f${at})`, print: (sql: string) => sql };
    case "min":
    case "max": {
      const part = family === "text" ? readText(column, value) : value;
      const print = (sql: string) => {
        const read = family === "text" ? sql : readText(column, sql);
        const trims = family === "numeric" && column.scale;
        return trims ? `TRIM(TRAILING '.' FROM TRIM(TRAILING '0' FROM CAST(${read} AS CHAR)))` : read;
      };
      return { part: `${measure}(${part})`, join: `${measure}(f${at})`, print };
    }
    default:
      return { ...counted, part: `COUNT(${value})` };
  }
}

/**
 * Groups with their figures, and where there is a hash their rows and its sum, each row looked at once; the last row, whose
 * `total` is 1, is over all of them. Without groups it is the only one.
 */
function grouped(
  relation: MariaRelation,
  from: string,
  group: string | null,
  hash: string | null,
  figures: boolean,
  as: string,
): string {
  const parts = figures ? relation.figures.map((figure, at) => measured(relation, figure, at)) : [];
  const inner = [
    `${group} AS g`,
    ...parts.map(({ part }, at) => `${part} AS f${at}`),
    ...(hash ? ["COUNT(*) AS n", `COALESCE(SUM(${hash}), 0) AS h`] : []),
  ];
  const outer = [
    "g IS NULL AS total",
    `g AS ${as}`,
    ...parts.map(({ join }, at) => `${join} AS f${at}`),
    ...(hash ? ["COALESCE(SUM(n), 0) AS n", "COALESCE(SUM(h), 0) AS h"] : []),
  ];
  const each = (sql: string, at: number) => `${parts[at]?.print(sql) ?? sql} AS f${at}`;
  if (group === null) {
    const all = [
      ...parts.map(({ part }, at) => `${part} AS f${at}`),
      ...(hash ? ["COUNT(*) AS n", `COALESCE(SUM(${hash}), 0) AS h`] : []),
    ];
    const told = [
      "1 AS total",
      ...parts.map((_, at) => each(`f${at}`, at)),
      ...(hash ? ["n AS `rows`", "h AS checksum"] : []),
    ];
    return `SELECT ${told.join(", ")} FROM (SELECT ${all.join(", ") || "1"} FROM ${from}) t`;
  }
  const shown = [
    "total",
    `IF(${as} = ${literal(nothing)}, NULL, ${as}) AS ${as}`,
    ...parts.map((_, at) => each(`f${at}`, at)),
    ...(hash ? ["n AS `rows`", "h AS checksum"] : []),
  ];
  return `SELECT ${shown.join(", ")} FROM (SELECT ${outer.join(", ")} FROM (SELECT ${inner.join(", ")} FROM ${from} GROUP BY g) b GROUP BY g WITH ROLLUP) t`;
}

/** What stands for the slice of rows without a time while groups are made. */
const nothing = "none";

/** The figures of one side; see figures of the warehouse's SQL. */
export function figures(relation: MariaRelation, slices: SliceChoice, cells: boolean): string {
  const sliced = relation.columns.find(({ name }) => name === relation.slicing?.column);
  const slice =
    relation.slicing && sliced ? `IFNULL(${sliceStart(relation.slicing, sliced.value)}, ${literal(nothing)})` : null;
  return grouped(relation, within(relation, { slices }), slice, cells ? hashed(relation.columns) : null, true, "slice");
}

/** The least and greatest key of one side. */
export function keySpan(relation: MariaRelation, extent: Extent): string {
  const value = rangeKey(relation)?.value ?? "NULL";
  return `SELECT MIN(${value}) AS low, MAX(${value}) AS high FROM ${within(relation, extent)}`;
}

export const rowCount = (relation: MariaRelation, extent: Extent): string =>
  `SELECT COUNT(*) AS \`rows\` FROM ${within(relation, extent)}`;

/** A range's number, counted in signed whole numbers; else the low bits of the key's hash. */
function bucketOf(relation: MariaRelation, buckets: Buckets): string {
  const key = rangeKey(relation);
  return buckets.kind === "range" && key
    ? `((CAST(${key.value} AS SIGNED) - (${buckets.from})) DIV ${buckets.step})`
    : `(${keyHash(relation)} & ${buckets.kind === "hash" ? buckets.count - 1 : 0})`;
}

/** A checksum for each bucket; see bucketChecksums of the warehouse's SQL. */
export function bucketChecksums(
  relation: MariaRelation,
  extent: Extent,
  buckets: Buckets,
  withFigures: boolean,
): string {
  return grouped(
    relation,
    within(relation, extent),
    bucketOf(relation, buckets),
    hashOf(relation),
    withFigures,
    "bucket",
  );
}

/** Key (k0…) and hash of the rows of some buckets. */
export function bucketRows(relation: MariaRelation, extent: Extent, buckets: Buckets, numbers: bigint[]): string {
  const key = rangeKey(relation);
  const picked =
    buckets.kind === "range" && key
      ? numbers
          .map((number) =>
            keyRange(key, buckets.from + number * buckets.step, buckets.from + (number + 1n) * buckets.step),
          )
          .map((range) => `(${range})`)
          .join(" OR ")
      : `${bucketOf(relation, buckets)} IN (${numbers.join(", ")})`;
  const keys = matching(relation).map(
    (column, at) => `${relation.key.length ? keyText(column) : column.text} AS k${at}`,
  );
  return `SELECT ${hashOf(relation)} AS hash, ${keys.join(", ")} FROM ${within(relation, extent, `(${picked})`)}`;
}

/** A value's text as a person is shown it: cut, with the length told. */
const shownLength = 2000;

function shown({ column, value, text, type }: Compared): string {
  const told = typeFamily(type) === "float" ? `CAST(${readText(column, value)} AS CHAR)` : `CAST(${text} AS CHAR)`;
  return `IF(CHAR_LENGTH(${told}) > ${shownLength}, CONCAT(LEFT(${told}, ${shownLength}), '… (', CHAR_LENGTH(${told}), ' characters)'), ${told})`;
}

const keyRows = (relation: MariaRelation, keys: readonly string[][]) =>
  within(relation, { slices: "all" }, keyPredicate(keyColumns(relation), keys));

/** The rows of some keys: the key (k0…), every column's text (c0…) and its hash (h0…). */
export function rowsByKey(relation: MariaRelation, keys: readonly string[][]): string {
  const parts = matching(relation).map((column, at) => `${keyText(column)} AS k${at}`);
  const columns = relation.columns.map((column, at) => `${shown(column)} AS c${at}, ${hashed([column])} AS h${at}`);
  return `SELECT ${[...parts, ...columns].join(", ")} FROM ${keyRows(relation, keys)}`;
}

/** The keys of some that there are (k0…), texts by their bytes. */
export function presentKeys(relation: MariaRelation, keys: readonly string[][]): string {
  const parts = keyColumns(relation).map((column, at) => `${keyText(column)} AS k${at}`);
  return `SELECT DISTINCT ${parts.join(", ")} FROM ${keyRows(relation, keys)}`;
}
