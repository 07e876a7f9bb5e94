/** A one-dimensional array in PostgreSQL's own notation. */
export function arrayText(values: (string | number)[]): string {
  return `{${values.map((value) => `"${String(value).replaceAll("\\", "\\\\").replaceAll('"', '\\"')}"`).join(",")}}`;
}
