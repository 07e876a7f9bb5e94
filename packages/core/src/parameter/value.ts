import { NameError, parseTableName } from "../sql/identifier.ts";
import { typedLiteral } from "../sql/literal.ts";
import { MomentError, readDate, readMoment, readSpan } from "./moment.ts";

/** Types whose values stand in SQL, and those whose values name something. */
const scalarTypes = ["text", "integer", "numeric", "boolean", "date", "timestamptz", "interval"] as const;
const namingTypes = ["connection", "dataset", "table", "path"] as const;
type Scalar = (typeof scalarTypes)[number];
type Naming = (typeof namingTypes)[number];
export type ParameterType = Scalar | `${Scalar}[]` | Naming;

export const parameterTypes: readonly ParameterType[] = [
  ...scalarTypes,
  ...scalarTypes.map((type) => `${type}[]` as const),
  ...namingTypes,
];

/** A value as a file or a person gives it. */
export type GivenValue = string | number | boolean | null | (string | number | boolean)[];

/** Something that a pipeline can be run with: its type, what it is where nobody says, and what it may be. */
export interface Parameter {
  type: ParameterType;
  default?: GivenValue;
  oneOf?: (string | number | boolean)[];
  note?: string;
}

/** A value that is none of its parameter's. */
export class ValueError extends Error {}

/** When values are read: moments told from the present one mean one of a zone. */
export interface Reading {
  /** milliseconds since the epoch */
  now: number;
  zone: string;
}

/** A value of its type, in one text; a list is several. */
export interface Value {
  type: ParameterType;
  texts: string | string[];
}

const isList = (type: ParameterType): type is `${Scalar}[]` => type.endsWith("[]");
export const isNaming = (type: ParameterType): type is Naming => (namingTypes as readonly string[]).includes(type);
const memberType = (type: ParameterType) => type.replace("[]", "") as Scalar | Naming;

const [smallest, largest] = [-(2n ** 63n), 2n ** 63n - 1n];
const number = /^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d{1,3})?$/;

function member(type: Scalar | Naming, given: string | number | boolean, reading: Reading): string {
  if (typeof given === "number" && !Number.isFinite(given)) throw new ValueError(`${given} is not a number`);
  if (typeof given === "number" && Number.isInteger(given) && !Number.isSafeInteger(given))
    throw new ValueError(`${given} has more digits than a file keeps; write it in quotes`);
  const text = String(given);
  if (text.includes("\0")) throw new ValueError("A value holds the character NUL");
  try {
    switch (type) {
      case "integer":
        if (!/^[+-]?\d{1,20}$/.test(text.trim()) || BigInt(text) < smallest || BigInt(text) > largest)
          throw new ValueError(`${text} is not a whole number`);
        return BigInt(text).toString();
      case "numeric":
        if (!number.test(text.trim())) throw new ValueError(`${text} is not a number`);
        return text.trim();
      case "boolean":
        if (!/^(true|false)$/.test(text)) throw new ValueError(`${text} is neither true nor false`);
        return text;
      case "date":
        return readDate(text, reading.now, reading.zone);
      case "timestamptz":
        return readMoment(text, reading.now, reading.zone);
      case "interval":
        return readSpan(text);
      case "dataset":
      case "table":
        parseTableName(text);
        return text;
      case "connection":
        if (!/^[A-Za-z0-9][A-Za-z0-9_-]{0,62}$/.test(text)) throw new ValueError(`${text} is not a connection's name`);
        return text;
      default:
        return text;
    }
  } catch (error) {
    if (error instanceof MomentError || error instanceof NameError) throw new ValueError(error.message);
    throw error;
  }
}

/** The members of a list that is written in one text: JSON, or parted by commas. */
function listOf(text: string): (string | number | boolean)[] {
  if (text.trim().startsWith("["))
    try {
      const list: unknown = JSON.parse(text);
      if (Array.isArray(list) && list.every((one) => ["string", "number", "boolean"].includes(typeof one))) return list;
    } catch {
      throw new ValueError(`${text} is not a list; write a,b,c or ["a", "b, c"]`);
    }
  return text.trim() === "" ? [] : text.split(",").map((one) => one.trim());
}

/**
 * Reads a value for a parameter. @throws ValueError with what is wrong with it
 */
export function readValue(parameter: Parameter, given: GivenValue, reading: Reading): Value {
  const { type, oneOf } = parameter;
  if (given === null) throw new ValueError("A value is missing");
  const of = memberType(type);
  const read = (one: string | number | boolean) => member(of, one, reading);
  const listed = Array.isArray(given);
  if (listed && !isList(type)) throw new ValueError(`This is a list; ${type} is one value`);
  const texts = isList(type) ? (listed ? given : listOf(String(given))).map(read) : read(given as string);
  const allowed = oneOf?.map(read);
  for (const text of [texts].flat())
    if (allowed && !allowed.includes(text)) throw new ValueError(`${text} is none of ${oneOf?.join(", ")}`);
  return { type, texts };
}

/** An array's text as PostgreSQL reads it. */
const arrayText = (texts: readonly string[]) =>
  `{${texts.map((text) => `"${text.replaceAll("\\", "\\\\").replaceAll('"', '\\"')}"`).join(",")}}`;

const widths: Partial<Record<Scalar, string>> = { integer: "bigint" };

/**
 * A value as SQL: a literal of its type, quoted by the one function that makes literals, so that nothing in a value can be
 * anything but a value. (COPY takes no bound parameters.) In brackets, so that whatever stands beside it applies to all of it.
 */
export function valueSql({ type, texts }: Value): string {
  const of = memberType(type) as Scalar;
  const every = [texts].flat();
  const wide = of === "integer" && every.some((text) => BigInt(text) < -(2n ** 31n) || BigInt(text) >= 2n ** 31n);
  const named = wide ? (widths[of] ?? of) : of;
  return Array.isArray(texts) ? `(${typedLiteral(arrayText(texts), `${named}[]`)})` : `(${typedLiteral(texts, named)})`;
}

/** A value as a page, a name or a title shows it. */
export const valueText = ({ texts }: Value): string => (Array.isArray(texts) ? texts.join(", ") : texts);
