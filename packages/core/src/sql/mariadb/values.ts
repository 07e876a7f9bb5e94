import { baseType, isArray } from "../type.ts";
import { literal } from "./text.ts";

/** A literal of PostgreSQL's as values of parameters stand in SQL, in brackets of its own: `('2026-01-01'::date)`. */
const value = /\((E?)'((?:[^']|'')*)'::([a-z][a-z ]*(?:\[\])?)\)/g;

const pad = (text: string) => text.replace("T", " ").replace(/([zZ]|[-+]00(:?00)?)$/, "");

/** One value in MariaDB's own words. @throws RangeError for a type that it has no literal of */
function written(text: string, type: string): string {
  switch (baseType(type)) {
    case "text":
      return literal(text);
    case "integer":
    case "bigint":
    case "numeric":
      if (!/^-?\d+(\.\d+)?$/.test(text)) throw new RangeError(`${text} is no number`);
      return text;
    case "boolean":
      return /^(t|true)$/i.test(text) ? "TRUE" : "FALSE";
    case "date":
      return `CAST(${literal(text)} AS DATE)`;
    case "timestamptz":
    case "timestamp":
      return text === "-infinity" ? "CAST('0001-01-01' AS DATETIME)" : `CAST(${literal(pad(text))} AS DATETIME(6))`;
    default:
      throw new RangeError(`MariaDB has no literal of ${type}`);
  }
}

/** The members of an array's text as parameters write it: all in double quotes. */
const members = (text: string): string[] =>
  [...text.matchAll(/"((?:[^"\\]|\\.)*)"/g)].map(([, member = ""]) => member.replace(/\\(.)/g, "$1"));

/**
 * SQL of MariaDB's own in which the values of parameters stand as that server writes them; a list stands in brackets, as IN
 * takes it. @throws RangeError for a value that it can't write
 */
export function ownValues(sql: string): string {
  return sql.replace(value, (_, escaped: string, quoted: string, type: string) => {
    const bare = quoted.replaceAll("''", "'");
    const text = escaped ? bare.replaceAll("\\\\", "\\") : bare;
    if (!isArray(type)) return `(${written(text, type)})`;
    const all = members(text).map((one) => written(one, type.replace("[]", "")));
    return `(${all.join(", ") || "NULL"})`;
  });
}
