/** The narrowest type that all values of a column of texts fit, told by counts. */

/** What is counted of a column's values that are there, each as an expression that is one pattern of RE2. */
export const patterns = {
  boolean: "(?i:true|false)",
  integer: "-?(?:0|[1-9][0-9]{0,17})",
  point: "-?(?:0|[1-9][0-9]*)(?:\\.[0-9]+)?(?:[eE][-+]?[0-9]{1,3})?",
  comma: "-?(?:0|[1-9][0-9]*)(?:,[0-9]+)?",
  date: "[0-9]{4}-(?:0[1-9]|1[0-2])-(?:0[1-9]|[12][0-9]|3[01])",
  local: "[0-9]{4}-[0-9]{2}-[0-9]{2}[ T][0-9]{2}:[0-9]{2}(?::[0-9]{2}(?:[.][0-9]{1,6})?)?",
  zoned:
    "[0-9]{4}-[0-9]{2}-[0-9]{2}[ T][0-9]{2}:[0-9]{2}(?::[0-9]{2}(?:[.][0-9]{1,6})?)?(?:Z|[-+][0-9]{2}(?::?[0-9]{2})?)",
} as const;

export type Pattern = keyof typeof patterns;
export type Counts = Record<Pattern | "all", bigint>;

/** The type, by itself. A number with zeros before it is a text: they would be lost. */
function typeOf(counts: Counts, sign: "." | ","): string {
  const all = (pattern: Pattern) => counts.all > 0n && counts[pattern] === counts.all;
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
