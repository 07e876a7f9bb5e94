import { baseType, isArray, limits, typeFamily } from "./type.ts";

/**
 * The one definition of *same*: what is stored is the same. Values that merely count as equal (1.0 and 1.00, 0 and -0,
 * 1 month and 30 days) differ, because a reader sees and computes other things with them.
 */

/** Types whose equal values are stored in one form only. */
const oneForm = new Set([
  "smallint",
  "integer",
  "bigint",
  "boolean",
  "uuid",
  "date",
  "timestamp without time zone",
  "timestamp with time zone",
  "time without time zone",
  "bytea",
  "macaddr",
  "macaddr8",
]);

/** True for types of which equal values are the same; of texts by their bytes. A stated scale leaves one form for each number. */
export function equalIsSame(type: string): boolean {
  if (isArray(type)) return false;
  const base = baseType(type);
  return oneForm.has(base) || typeFamily(type) === "text" || (base === "numeric" && limits(type).length > 0);
}

/** SQL by which two values of a type can be told apart by equality; null where only the stored image tells. */
function byEquality(sql: string, type: string): string | null {
  if (!equalIsSame(type)) return null;
  if (baseType(type) === "character") return `${sql}::text COLLATE "C"`;
  return typeFamily(type) === "text" ? `${sql} COLLATE "C"` : sql;
}

/** SQL that is true where two rows' values are not the same; `false` for no columns. Nulls and NaN compare as values. */
export function differ<C extends { type: string }>(
  columns: readonly C[],
  left: (column: C) => string,
  right: (column: C) => string,
): string {
  const quick: string[] = [];
  const images: C[] = [];
  for (const column of columns) {
    const [a, b] = [byEquality(left(column), column.type), byEquality(right(column), column.type)];
    if (a !== null && b !== null) quick.push(`${a} IS DISTINCT FROM ${b}`);
    else images.push(column);
  }
  const row = (value: (column: C) => string) => `ROW(${images.map(value).join(", ")})`;
  if (images.length) quick.push(`record_image_ne(${row(left)}, ${row(right)})`);
  return quick.length ? `(${quick.join(" OR ")})` : "false";
}

/** A row's values as one image that two rows share only where every value is the same; for telling rows without a key apart. */
export function image(columns: readonly { sql: string; type: string }[]): string {
  return `record_send(ROW(${columns.map(({ sql, type }) => (baseType(type) === "character" && !isArray(type) ? `${sql}::text` : sql)).join(", ")}))`;
}
