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
const day =
  "[1-9][0-9]{3}-((0[13578]|1[02])-(0[1-9]|[12][0-9]|3[01])|(0[469]|11)-(0[1-9]|[12][0-9]|30)|02-(0[1-9]|1[0-9]|2[0-8]))";
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
      return digits > 0 && digits <= 200
        ? `^[-+]?[0-9]{1,${digits}}${scale > 0 ? `(\\.[0-9]{0,${Math.min(scale, 200)}})?` : ""}$`
        : null;
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
  smallint: "a whole number",
  integer: "a whole number",
  bigint: "a whole number",
  numeric: "a number",
  real: "a number",
  "double precision": "a number",
  date: "a date",
  "timestamp without time zone": "a time",
  "timestamp with time zone": "a time",
  "time without time zone": "a time of day",
  "time with time zone": "a time of day",
  boolean: "true or false",
  uuid: "a UUID",
  json: "JSON",
  jsonb: "JSON",
  interval: "an interval",
  bytea: "bytes",
  inet: "a network address",
};

/** True where every value of type `given` is one of type `type` as it stands. */
export function keeps(type: string, given: string): boolean {
  if (type === given) return true;
  if (isArray(type) || isArray(given)) return false;
  const [to, from] = [baseType(type), baseType(given)];
  if (typeFamily(given) === "text" && to === "text") return true;
  if (typeFamily(type) === "text")
    return (
      from === to && (limits(type)[0] ?? Number.POSITIVE_INFINITY) >= (limits(given)[0] ?? Number.POSITIVE_INFINITY)
    );
  const order = ["smallint", "integer", "bigint"];
  if (order.includes(from)) return order.includes(to) ? order.indexOf(to) >= order.indexOf(from) : type === "numeric";
  if (from === "real" && to === "double precision") return true;
  return holds(type, given);
}

/** A type in words: `integer` → `a whole number`. */
export function typeWords(type: string): string {
  return isArray(type) ? `an array (${shortType(type)})` : (nouns[baseType(type)] ?? `a ${shortType(type)}`);
}

const dayForm = "([0-9]{4,7}-[0-9]{1,2}-[0-9]{1,2}|[0-9]{8})";
const clockForm = "([01]?[0-9]|2[0-3]):[0-5][0-9](:[0-5][0-9](\\.[0-9]{1,6}0*)?)?";
const zoneForm = "( ?(Z|UTC|[-+][0-9]{1,2}(:?[0-9]{2}){0,2}))";
const numberForm = "[-+]?([0-9]+\\.?[0-9]*|\\.[0-9]+)([eE][-+]?[0-9]+)?";
const endless = "[-+]?inf(inity)?";

/**
 * The forms in which a text may state a value, as a regular expression; null where any that PostgreSQL reads will do. A form
 * that is read differently from place to place (3/11/26), means another moment at every run (today), or holds more than the
 * type keeps (a zone, a tenth of a microsecond) is none of them.
 */
function textForm(base: string): string | null {
  switch (base) {
    case "smallint":
    case "integer":
    case "bigint":
      return "[-+]?[0-9]+";
    case "numeric":
    case "real":
    case "double precision":
      return `(${numberForm}|NaN|${endless})`;
    case "date":
      return `(${dayForm}([ T]00:00(:00(\\.0+)?)?)?( BC)?|-?infinity)`;
    case "timestamp without time zone":
      return `(${dayForm}([ T]${clockForm})?( BC)?|-?infinity)`;
    case "timestamp with time zone":
      return `(${dayForm}([ T]${clockForm}${zoneForm}?)?( BC)?|-?infinity)`;
    case "time without time zone":
      return `(${clockForm}|24:00(:00)?)`;
    case "time with time zone":
      return `(${clockForm}|24:00(:00)?)${zoneForm}`;
    case "bit":
    case "bit varying":
      return "[01]*";
    default:
      return null;
  }
}

/** True where no object of a JSON value has a key twice: jsonb would keep the last alone. One object without others in it is looked at directly, which is ten times as quick. */
function keysOnce(json: string): string {
  const members = (kind: "object" | "array", of: string) =>
    `CASE WHEN json_typeof(${of}) = '${kind}' THEN ${of} ELSE '${kind === "object" ? "{}" : "[]"}'::json END`;
  const inside = `SELECT value FROM json_each(${members("object", "n.j")}) UNION ALL SELECT value FROM json_array_elements(${members("array", "n.j")})`;
  const once = (of: string) => `SELECT count(*) = count(DISTINCT k) FROM json_object_keys(${of}) k`;
  const anywhere = `NOT EXISTS (WITH RECURSIVE node(j) AS (SELECT ${json} UNION ALL SELECT e.value FROM node n, LATERAL (${inside}) e) SELECT 1 FROM node n WHERE NOT (${once(members("object", "n.j"))}))`;
  return `CASE WHEN (${json})::text ~ '^\\s*\\{[^{]*$' THEN (${once(json)}) ELSE ${anywhere} END`;
}

/** A text as it prints, whatever spaces and quotes its author put around elements. */
const bare = (sql: string) => `regexp_replace(${sql}, '[\\s"]', '', 'g')`;

/** From text: in a form that states a value of the type, read as the type without its limits, and given back by it. */
function fromText(value: string, type: string): string {
  const text = `${value}::text`;
  if (isArray(type)) {
    const element = type.slice(0, -2);
    return typeFamily(element) === "text"
      ? `(${text}::text[])::text = (${text}::${type})::text`
      : `${bare(text)} = ${bare(`(${text}::${type})::text`)}`;
  }
  const base = baseType(type);
  // Read without its limits, a text that is too long or too fine shows.
  const free = base === "bit" ? "bit varying" : base;
  const read = `${text}::${free}`;
  // A null is no misfit; what is read of anything else is there.
  const checks = [`(${read} IS NOT NULL OR ${text} IS NULL)`];
  const form = textForm(base);
  if (form) checks.unshift(`${text} ~* ${literal(`^\\s*${form}\\s*$`)}`);
  if (base === "real" || base === "double precision") checks.push(`(${read})::text::numeric = ${text}::numeric`);
  if (base === "jsonb") checks.push(keysOnce(`${text}::json`));
  if (base === "interval" || base.endsWith("range")) checks.push(`${text} !~ '\\.[0-9]{6}0*[1-9]'`);
  if (free !== type)
    checks.push(base === "numeric" ? `(${read})::${type} = ${read}` : `(${read})::${type}::text = (${read})::text`);
  return checks.join(" AND ");
}

/** True for types whose text says the same number in more than one way. */
function numeric(type: string): boolean {
  return baseType(type) === "numeric";
}

/** True where a value that is neither text nor bounded by a range is given back by the other type. */
function givenBack(value: string, given: string, type: string): string {
  const cast = `(${value})::${type}`;
  if (baseType(given) === "json" && baseType(type) === "jsonb" && !isArray(given))
    return `${cast} IS NOT NULL AND ${keysOnce(`(${value})`)}`;
  const back = numeric(given) ? `(${cast})::${given} = ${value}` : `((${cast})::${given})::text = (${value})::text`;
  // Types of one kind that differ in their limits print what they hold.
  const same = baseType(given) === baseType(type) && isArray(given) === isArray(type) && !numeric(type);
  return same ? `(${cast})::text = (${value})::text AND ${back}` : back;
}

/**
 * How a value of type `given` becomes one of type `type`: only where it is given back as it was.
 * @param value SQL of the value, of type `given`; it is written out more than once
 */
export function conversion(value: string, given: string, type: string): Conversion {
  const cast = `(${value})::${type}`;
  const family = typeFamily(given);
  const [precision, scale = 0] = limits(type);
  const named = `does not fit into ${shortType(type)}`;
  if (typeFamily(type) === "text") {
    const longest = precision ?? 1_073_741_824;
    const unpadded = baseType(type) === "character" ? ` AND (${value})::text = rtrim((${value})::text, ' ')` : "";
    const fits = `length((${value})::text) <= ${longest}${unpadded}`;
    return {
      cast: `(${value})::text::${type}`,
      certain: fits,
      fits,
      misfit: `is longer than ${precision} character${precision === 1 ? "" : "s"}${unpadded ? " or ends with a space" : ""}`,
      code: "length",
    };
  }
  if (family === "text") {
    const pattern = isArray(type) ? null : certainText(type);
    const fits = fromText(value, type);
    return {
      cast,
      certain: pattern ? `${value} ~ ${literal(pattern)}` : fits,
      fits,
      misfit: `is not ${typeWords(type)}`,
      code: "type",
    };
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
  const fits = givenBack(value, given, type);
  return { cast, certain: fits, fits, misfit: named, code: "range" };
}

/** A moment's text without the zeros that end its fraction, and the point before them. */
const trimmed = (text: string) =>
  `CASE WHEN strpos(${text}, '.') > 0 AND right(${text}, 1) <> '.' THEN rtrim(rtrim(${text}, '0'), '.') ELSE ${text} END`;

/** A text of ISO 8601, in UTC where it has a zone, as PostgreSQL prints that moment; any other text as it is. */
function printedMoment(value: string, base: string): string {
  const text = `${value}::text`;
  const spaced = (moment: string) => `replace(${trimmed(moment)}, 'T', ' ')`;
  if (base === "timestamp without time zone") return spaced(text);
  const cut = (signs: number) => `left(${text}, -${signs})`;
  return `CASE WHEN ${text} LIKE '%Z' THEN ${spaced(cut(1))} || '+00' WHEN ${text} LIKE '%+00:00' THEN ${spaced(cut(6))} || '+00' ELSE ${text} END`;
}

/**
 * SQL that is true for a JSON text of which jsonb keeps every member, by its length: jsonb prints one space behind each colon
 * and comma, and nothing longer than it was but a number with an exponent. A member that stood twice would be missing, and
 * nothing could make up for it: spaces elsewhere, and colons and commas in strings, only add to what the text should be long.
 * False for many other texts that are kept too.
 */
function membersKept(value: string): string {
  const text = `${value}::text`;
  const close = `replace(replace(${text}, '": ', '":'), ', ', ',')`;
  const spaced = `replace(replace(${close}, '":', '": '), ',', ', ')`;
  return `(${text} !~ '[0-9.][eE][-+0-9]' AND octet_length((${text}::jsonb)::text) = octet_length(${spaced}))`;
}

/**
 * SQL that is true for a text which is just how its value prints, so that it states that value and no other; null where
 * texts are not told by it. It fails on a text that can't be read as the type. Several times as quick as a text's form.
 */
export function printedAlike(value: string, given: string, type: string): string | null {
  const base = baseType(type);
  if (typeFamily(given) === "text" && base === "jsonb" && type === "jsonb") return membersKept(value);
  const told = ["integer", "numeric", "float", "moment"].includes(typeFamily(type)) || base === "boolean";
  if (typeFamily(given) !== "text" || !told) return null;
  const read = `${value}::text::${base}`;
  const stated = base.startsWith("timestamp") ? printedMoment(value, base) : `${value}::text`;
  const prints = `(${read})::text = ${stated}`;
  return base === type ? prints : `(${prints} AND (${read})::${type} = ${read})`;
}
