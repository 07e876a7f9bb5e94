import { parse as parseCsv } from "csv-parse/sync";
import { parseDocument } from "yaml";
import type { GivenValue } from "./value.ts";

/** A file of values that can't be read as such. */
export class ValueFileError extends Error {}

const isValue = (value: unknown): value is GivenValue =>
  ["string", "number", "boolean"].includes(typeof value) ||
  (Array.isArray(value) && value.every((one) => ["string", "number", "boolean"].includes(typeof one)));

function row(value: unknown, at: number): Record<string, GivenValue> {
  if (value === null || typeof value !== "object" || Array.isArray(value))
    throw new ValueFileError(`The set number ${at} is not a map of values`);
  for (const [name, one] of Object.entries(value))
    if (!isValue(one))
      throw new ValueFileError(`${name} of the set number ${at} is neither a value nor a list of values`);
  return value as Record<string, GivenValue>;
}

/** A line of CSV for each set below a head of names; an empty cell leaves the parameter as it is. */
function fromCsv(text: string): Record<string, GivenValue>[] {
  try {
    const rows = parseCsv(text, { columns: true, bom: true, skip_empty_lines: true, trim: true }) as Record<
      string,
      string
    >[];
    return rows.map((cells) => Object.fromEntries(Object.entries(cells).filter(([, cell]) => cell !== "")));
  } catch (error) {
    throw new ValueFileError((error as Error).message);
  }
}

/**
 * The sets of values of a file: YAML or JSON with a list of maps, or one map; CSV with a set a row. Numbers with more digits
 * than JavaScript keeps are refused where they are read.
 * @param name the file's, whose ending says what it is; anything else is read as YAML, of which JSON is a part
 * @throws ValueFileError with what is wrong
 */
export function readValueFile(text: string, name: string): Record<string, GivenValue>[] {
  const sets = /\.csv$/i.test(name) ? fromCsv(text) : fromYaml(text);
  if (sets.length === 0) throw new ValueFileError("The file holds no set of values");
  if (sets.length > 1000) throw new ValueFileError(`The file holds ${sets.length} sets; 1000 are the most at a time`);
  return sets;
}

function fromYaml(text: string): Record<string, GivenValue>[] {
  const document = parseDocument(text, { uniqueKeys: true, version: "1.2" });
  const [error] = document.errors;
  if (error) throw new ValueFileError((error.message.split("\n")[0] ?? "").trim());
  let value: unknown;
  try {
    value = document.toJS();
  } catch {
    throw new ValueFileError("The file repeats its parts too often by aliases");
  }
  return (Array.isArray(value) ? value : [value]).map((one, at) => row(one, at + 1));
}
