/** The narrowest type that all values of a column of texts fit, told by counts of their forms. */

/** The forms of values that are counted. */
const patterns = {
  boolean: /^(?:true|false)$/i,
  integer: /^-?(?:0|[1-9]\d{0,17})$/,
  point: /^-?(?:0|[1-9]\d*)(?:\.\d+)?(?:[eE][-+]?\d{1,3})?$/,
  comma: /^-?(?:0|[1-9]\d*)(?:,\d+)?$/,
  date: /^\d{4}-(?:0[1-9]|1[0-2])-(?:0[1-9]|[12]\d|3[01])$/,
  local: /^\d{4}-\d{2}-\d{2}[ T]\d{2}:\d{2}(?::\d{2}(?:\.\d{1,6})?)?$/,
  zoned: /^\d{4}-\d{2}-\d{2}[ T]\d{2}:\d{2}(?::\d{2}(?:\.\d{1,6})?)?(?:Z|[-+]\d{2}(?::?\d{2})?)$/,
} as const;

type Pattern = keyof typeof patterns;
const kinds = Object.entries(patterns) as [Pattern, RegExp][];

/** How many of a column's values that are there have each form; `nested`: hold others. */
export type Counts = Record<Pattern | "nested" | "all", number>;

export const noCounts = (): Counts => ({
  ...(Object.fromEntries(kinds.map(([kind]) => [kind, 0])) as Record<Pattern, number>),
  nested: 0,
  all: 0,
});

/** Counts one value in. */
export function count(counts: Counts, value: string | null, nested: boolean): void {
  if (value === null) return;
  counts.all++;
  if (nested) counts.nested++;
  else
    for (const [kind, form] of kinds) {
      // A type that one value does not fit is out; which sign decimals have is told by how many are written with it.
      const out = kind !== "comma" && kind !== "point" && counts[kind] < counts.all - 1;
      if (!out && form.test(value)) counts[kind]++;
    }
}

/** The type, by itself. A number with zeros before it is a text: they would be lost. */
function typeOf(counts: Counts, sign: "." | ","): string {
  const all = (pattern: Pattern) => counts.all > 0 && counts[pattern] === counts.all;
  if (counts.all > 0 && counts.nested === counts.all) return "jsonb";
  if (all("boolean")) return "boolean";
  if (all("integer")) return "bigint";
  if (all(sign === "," ? "comma" : "point")) return "numeric";
  if (all("date")) return "date";
  if (all("zoned")) return "timestamp with time zone";
  return all("local") ? "timestamp without time zone" : "text";
}

/**
 * The type that all values fit, and the sign before decimals where that is a comma: the one that the author has said, else
 * the one that more of the values are written with.
 */
export function fitting(counts: Counts, said?: "." | ","): { fits: string; decimal?: "," } {
  const sign = said ?? (counts.comma > counts.point ? "," : ".");
  return { fits: typeOf(counts, sign), ...(sign === "," ? { decimal: sign } : {}) };
}
