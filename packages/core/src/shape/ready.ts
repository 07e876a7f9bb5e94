import type { ComputedColumn } from "../pipeline/pipeline.ts";
import { identifier } from "../sql/identifier.ts";
import { literal } from "../sql/literal.ts";
import { typeFamily } from "../sql/type.ts";

/** A source column as a ready-made shape takes it. */
export interface ShapedColumn {
  name: string;
  type: string;
}

/** Words that PostgreSQL does not take as a column's name without quotes (appendix C of its manual). */
const reserved = new Set(
  "all analyse analyze and any array as asc asymmetric authorization binary both case cast check collate collation column concurrently constraint create cross current_catalog current_date current_role current_schema current_time current_timestamp current_user default deferrable desc distinct do else end except false fetch for foreign freeze from full grant group having ilike in initially inner intersect into is isnull join lateral leading left like limit localtime localtimestamp natural not notnull null offset on only or order outer overlaps placing primary references returning right select session_user similar some symmetric system_user table tablesample then to trailing true union unique user using variadic verbose when where window with".split(
    " ",
  ),
);

/** A column's name as a person would write it in an expression: quoted only where it must be. */
export function columnSql(name: string): string {
  return /^[a-z_][a-z0-9_]*$/.test(name) && !reserved.has(name) ? name : identifier(name);
}

function text({ name, type }: ShapedColumn): string {
  return typeFamily(type) === "text" ? columnSql(name) : `${columnSql(name)}::text`;
}

/** Several columns as one text; empty ones are left out, or stand as `empty`. */
export function joined(columns: readonly ShapedColumn[], delimiter: string, empty: string | null): ComputedColumn {
  const parts = columns.map((column) => {
    const filled = `nullif(btrim(${text(column)}), '')`;
    return empty === null ? filled : `coalesce(${filled}, ${literal(empty)})`;
  });
  return { as: `concat_ws(${literal(delimiter)}, ${parts.join(", ")})` };
}

/** The nth part of a text, counted from 1; null where there is none. */
export function part(column: ShapedColumn, delimiter: string, number: number): ComputedColumn {
  return {
    as: `nullif(btrim(split_part(${text(column)}, ${literal(delimiter)}, ${Math.max(1, Math.trunc(number))})), '')`,
  };
}

/** A value in place of a missing or an empty one. */
export function defaulted(column: ShapedColumn, value: string): ComputedColumn {
  if (typeFamily(column.type) === "text")
    return { as: `coalesce(nullif(btrim(${columnSql(column.name)}), ''), ${literal(value)})` };
  return { as: `coalesce(${columnSql(column.name)}, ${literal(value)}::${column.type})` };
}

/** A text without spaces at its ends or doubled inside, in one case. */
export function tidied(
  column: ShapedColumn,
  how: { spaces: boolean; letters: "as they are" | "small" | "capital" | "Each Word" },
): ComputedColumn {
  const plain = how.spaces ? `btrim(regexp_replace(${text(column)}, '\\s+', ' ', 'g'))` : text(column);
  const cased = {
    "as they are": plain,
    small: `lower(${plain})`,
    capital: `upper(${plain})`,
    "Each Word": `initcap(${plain})`,
  };
  return { as: cased[how.letters] };
}

/** Values replaced by a table; others stay, become null, or another text. */
export function mapped(
  column: ShapedColumn,
  table: readonly [string, string][],
  others: "keep" | "null" | { text: string },
): ComputedColumn {
  const value = text(column);
  const otherwise = others === "keep" ? ` ELSE ${value}` : others === "null" ? "" : ` ELSE ${literal(others.text)}`;
  return {
    as: `CASE ${value}${table.map(([from, to]) => ` WHEN ${literal(from)} THEN ${literal(to)}`).join("")}${otherwise} END`,
  };
}

/** Orders in which dates are written, and how their parts become a date by ISO 8601. */
export const dateFormats = {
  "DD.MM.YYYY": ["^\\s*(\\d{1,2})\\.(\\d{1,2})\\.(\\d{4})\\s*$", "\\3-\\2-\\1"],
  "DD/MM/YYYY": ["^\\s*(\\d{1,2})/(\\d{1,2})/(\\d{4})\\s*$", "\\3-\\2-\\1"],
  "DD-MM-YYYY": ["^\\s*(\\d{1,2})-(\\d{1,2})-(\\d{4})\\s*$", "\\3-\\2-\\1"],
  "MM/DD/YYYY": ["^\\s*(\\d{1,2})/(\\d{1,2})/(\\d{4})\\s*$", "\\3-\\1-\\2"],
  YYYYMMDD: ["^\\s*(\\d{4})(\\d{2})(\\d{2})\\s*$", "\\1-\\2-\\3"],
  "DD.MM.YYYY HH:MM": [
    "^\\s*(\\d{1,2})\\.(\\d{1,2})\\.(\\d{4})[ T]+(\\d{1,2}):(\\d{2})(:\\d{2})?\\s*$",
    "\\3-\\2-\\1 \\4:\\5\\6",
  ],
} as const;

export type DateFormat = keyof typeof dateFormats;

/** A date written in a given order. What is not written so stays as it is, and the stated type then rejects it. */
export function dateIn(column: ShapedColumn, format: DateFormat): ComputedColumn {
  const [pattern, order] = dateFormats[format];
  return {
    as: `regexp_replace(${text(column)}, '${pattern}', '${order}')`,
    type: format.includes("HH") ? "timestamp" : "date",
  };
}

/** A number written with other signs for the decimals and the thousands. */
export function numberIn(
  column: ShapedColumn,
  decimal: "," | ".",
  thousands: "." | "," | " " | "'" | "",
): ComputedColumn {
  const ungrouped =
    thousands === "" ? `btrim(${text(column)})` : `replace(btrim(${text(column)}), ${literal(thousands)}, '')`;
  return { as: decimal === "." ? ungrouped : `replace(${ungrouped}, ${literal(decimal)}, '.')`, type: "numeric" };
}

/** A personal value as a hash that is the same for the same value; a text in front keeps it from being guessed by hashing a list. */
export function hashed(column: ShapedColumn, before: string): ComputedColumn {
  const value = before ? `${literal(before)} || ${text(column)}` : text(column);
  return { as: `encode(sha256(convert_to(${value}, 'UTF8')), 'hex')` };
}
