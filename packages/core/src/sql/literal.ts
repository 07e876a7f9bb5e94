/**
 * Quotes text as an SQL string literal; the only place where a value becomes SQL text. Used where
 * PostgreSQL takes no bound parameter (inside COPY (…) TO). Backslashes are doubled behind `E` so that the
 * result does not depend on standard_conforming_strings.
 * @throws RangeError when the value holds NUL, which PostgreSQL's text can't.
 */
export function literal(value: string): string {
  if (value.includes("\0")) throw new RangeError("A value holds the character NUL");
  const quoted = `'${value.replaceAll("'", "''").replaceAll("\\", "\\\\")}'`;
  return value.includes("\\") ? `E${quoted}` : quoted;
}

/** A literal of a stated type; `null` becomes a typed NULL. */
export function typedLiteral(value: string | null, type: string): string {
  return value === null ? `NULL::${type}` : `${literal(value)}::${type}`;
}
