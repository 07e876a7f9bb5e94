/** A count or an aggregate over warehouse columns that both sides can compute. */
export interface Figure {
  name: string;
  measure: "rows" | "count" | "sum" | "min" | "max";
  column: string | null;
}

const pattern = /^(count|sum|min|max)\((?:"((?:[^"]|"")+)"|([^()"]+))\)$/;

/**
 * Reads a figure as a project file writes it: `rows`, `sum(fare)`, `max("Sail Date")`.
 * @throws RangeError when it is none of these.
 */
export function parseFigure(text: string): Figure {
  if (text === "rows") return { name: text, measure: "rows", column: null };
  const match = pattern.exec(text);
  if (!match) throw new RangeError(`${text} is not a figure; write rows, count(c), sum(c), min(c) or max(c)`);
  const column = match[2]?.replaceAll('""', '"') ?? match[3]?.trim() ?? "";
  return { name: text, measure: match[1] as Figure["measure"], column };
}

/** The written form of a figure. */
export function formatFigure(measure: Figure["measure"], column: string): string {
  const quoted = /[()"]/.test(column) || column.trim() !== column ? `"${column.replaceAll('"', '""')}"` : column;
  return `${measure}(${quoted})`;
}

/** `sum(fare)` → `sum of fare`, `max(updated_at)` → `latest updated_at` where the column tells time. */
export function figureWords(
  text: string,
  moment: (column: string) => boolean = (column) => /(_at|_on|date|time)$/.test(column),
): string {
  const { measure, column } = parseFigure(text);
  if (column === null) return "rows";
  if (measure === "max") return `${moment(column) ? "latest" : "highest"} ${column}`;
  if (measure === "min") return `${moment(column) ? "earliest" : "lowest"} ${column}`;
  return measure === "sum" ? `sum of ${column}` : `${column} not null`;
}
