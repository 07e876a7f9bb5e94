import { literal } from "./literal.ts";
import { baseType, holds, isArray, limits, shortType, typeFamily } from "./type.ts";

/** How a value of one type becomes one of another without being changed silently. */
export interface Conversion {
  /** the value cast; fails or rounds where the value does not fit */
  cast: string;
  /** SQL that is true only where the cast certainly keeps the value and can't fail; null for a null. Quick, and allowed to be false for a value that does fit. */
  certain: string;
  /** SQL that is true exactly where the value fits; it fails where the value can't be read at all */
  fits: string;
  /** what is wrong with a value that does not fit: `is not a whole number`, `is longer than 20 characters` */
  misfit: string;
  code: "type" | "range" | "length";
}

const range: Record<string, [string, string, number]> = {
  smallint: ["-32768", "32767", 4],
  integer: ["-2147483648", "2147483647", 9],
  bigint: ["-9223372036854775808", "9223372036854775807", 18],
};

/** Every day of the calendar but 29 February, whose year must be looked at. */
const day = "[1-9][0-9]{3}-((0[13578]|1[02])-(0[1-9]|[12][0-9]|3[01])|(0[469]|11)-(0[1-9]|[12][0-9]|30)|02-(0[1-9]|1[0-9]|2[0-8]))";
const clock = "([01][0-9]|2[0-3]):[0-5][0-9](:[0-5][0-9](\\.[0-9]{1,6})?)?";

/** The texts that certainly are a value of a type, as a regular expression; what it does not know is looked at more closely. */
function certainText(type: string): string | null {
  const [precision, scale = 0] = limits(type);
  const base = baseType(type);
  const whole = range[base];
  if (whole) return `^[-+]?[0-9]{1,${whole[2]}}$`;
  switch (base) {
    case "numeric": {
      if (precision === undefined) return "^[-+]?[0-9]{1,100}(\\.[0-9]{1,100})?$";
      const digits = precision - scale;
      return digits > 0 && digits <= 200 ? `^[-+]?[0-9]{1,${digits}}${scale > 0 ? `(\\.[0-9]{0,${Math.min(scale, 200)}})?` : ""}$` : null;
    }
    case "date":
      return `^${day}$`;
    case "timestamp without time zone":
      return precision === undefined ? `^${day}[ T]${clock}$` : null;
    case "timestamp with time zone":
      return precision === undefined ? `^${day}[ T]${clock}(Z|[-+](0[0-9]|1[0-2])(:?[0-5][0-9])?)?$` : null;
    case "boolean":
      return "^(true|false|t|f)$";
    case "uuid":
      return "^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$";
    default:
      return null;
  }
}

const nouns: Record<string, string> = {
  smallint: "a whole number", integer: "a whole number", bigint: "a whole number", numeric: "a number", real: "a number", "double precision": "a number",
  date: "a date", "timestamp without time zone": "a time", "timestamp with time zone": "a time", "time without time zone": "a time of day", "time with time zone": "a time of day",
  boolean: "true or false", uuid: "a UUID", json: "JSON", jsonb: "JSON", interval: "an interval", bytea: "bytes", inet: "a network address",
};

/** True where every value of type `given` is one of type `type` as it stands. */
export function keeps(type: string, given: string): boolean {
  if (type === given) return true;
  if (isArray(type) || isArray(given)) return false;
  const [to, from] = [baseType(type), baseType(given)];
  if (typeFamily(given) === "text" && to === "text") return true;
  if (typeFamily(type) === "text") return from === to && (limits(type)[0] ?? Number.POSITIVE_INFINITY) >= (limits(given)[0] ?? Number.POSITIVE_INFINITY);
  const order = ["smallint", "integer", "bigint"];
  if (order.includes(from)) return order.includes(to) ? order.indexOf(to) >= order.indexOf(from) : type === "numeric";
  if (from === "real" && to === "double precision") return true;
  return holds(type, given);
}

/** A type in words: `integer` → `a whole number`. */
export function typeWords(type: string): string {
  return isArray(type) ? `an array (${shortType(type)})` : (nouns[baseType(type)] ?? `a ${shortType(type)}`);
}

/** From text: read as the type without its limits, and no part of the text ignored on the way. */
function fromText(value: string, type: string): string {
  const base = isArray(type) ? type : baseType(type);
  const checks: string[] = [];
  if (base === "date") checks.push(`${value}::timestamp = ${value}::date`);
  // A zone written behind a time without one would be dropped.
  if (base === "timestamp without time zone") checks.push(`${value}::timestamptz = timezone('UTC', ${value}::timestamp)`);
  // Words such as "now" and "today" would mean another moment at every run.
  if (typeFamily(type) === "moment") checks.push(`${value} ~ '[0-9]|infinity'`);
  const read = `${value}::${base}`;
  if (base !== type) checks.push(`(${read})::${type} = ${read}`);
  return [`${read} IS NOT NULL`, ...checks].join(" AND ");
}

/**
 * How a value of type `given` becomes one of type `type`.
 * @param value SQL of the value, of type `given`; it is written out more than once
 */
export function conversion(value: string, given: string, type: string): Conversion {
  const cast = `(${value})::${type}`;
  const family = typeFamily(given);
  const [precision, scale = 0] = limits(type);
  const named = `does not fit into ${shortType(type)}`;
  if (typeFamily(type) === "text" && family === "text") {
    const fits = `length(${value}) <= ${precision ?? 1_073_741_824}`;
    return { cast, certain: fits, fits, misfit: `is longer than ${precision} character${precision === 1 ? "" : "s"}`, code: "length" };
  }
  if (family === "text") {
    const pattern = isArray(type) ? null : certainText(type);
    const fits = fromText(value, type);
    return { cast, certain: pattern ? `${value} ~ ${literal(pattern)}` : fits, fits, misfit: `is not ${typeWords(type)}`, code: "type" };
  }
  const whole = isArray(type) ? undefined : range[baseType(type)];
  const plainNumber = family === "integer" || family === "numeric";
  if (plainNumber && whole) {
    const fits = `(${value} BETWEEN ${whole[0]} AND ${whole[1]}${family === "numeric" ? ` AND ${value} = trunc(${value})` : ""})`;
    return { cast, certain: fits, fits, misfit: named, code: "range" };
  }
  if (plainNumber && baseType(type) === "numeric" && precision !== undefined && !isArray(type)) {
    const bound = `1e${precision - scale}`;
    if (family === "integer") {
      const fits = `(${value} > -${bound} AND ${value} < ${bound})`;
      return { cast, certain: fits, fits, misfit: named, code: "range" };
    }
    // NaN is a value of every numeric; it is greater than all others, so it is told apart first.
    const fits = `(${value} = 'NaN' OR (${value} > -${bound} AND ${value} < ${bound} AND ${value} = round(${value}, ${scale})))`;
    return { cast, certain: fits.replace(`${value} = 'NaN' OR `, ""), fits, misfit: named, code: "range" };
  }
  // Everything else is cast there and back again.
  const back = `((${value})::${type})::${given}`;
  const fits = family === "other" ? `${cast} IS NOT NULL` : `${back} = ${value}`;
  return { cast, certain: fits, fits, misfit: named, code: "range" };
}
