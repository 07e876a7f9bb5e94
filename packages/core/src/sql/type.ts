/**
 * What a column's type means to a load: which warehouse type takes its values without loss, and which family it belongs to.
 */
export interface ColumnType {
  /** the type with its domain resolved, as format_type prints it: `numeric(12,2)`, `text[]` */
  resolved: string;
  /** pg_type.typtype of the resolved type: b base, e enum, c composite, r range, m multirange */
  kind: string;
  /** true where the resolved type is PostgreSQL's own, not an extension's or the user's */
  builtIn: boolean;
  /** the element type's facts where the type is an array */
  element?: { resolved: string; kind: string; builtIn: boolean };
}

/** Types that are the same on every server and have an exact binary form. */
const portable = new Set([
  "smallint",
  "integer",
  "bigint",
  "numeric",
  "real",
  "double precision",
  "boolean",
  "text",
  "character varying",
  "character",
  "bytea",
  "uuid",
  "json",
  "jsonb",
  "date",
  "time without time zone",
  "time with time zone",
  "interval",
  "timestamp without time zone",
  "timestamp with time zone",
  "inet",
  "cidr",
  "macaddr",
  "macaddr8",
  "bit",
  "bit varying",
  "int4range",
  "int8range",
  "numrange",
  "tsrange",
  "tstzrange",
  "daterange",
  "int4multirange",
  "int8multirange",
  "nummultirange",
  "tsmultirange",
  "tstzmultirange",
  "datemultirange",
]);

/** Types that stand for others in the warehouse because their text depends on the server they live on. */
const replaced: Record<string, string> = { money: "numeric", oid: "bigint" };

/** A type without its length, precision and brackets: `numeric(12,2)[]` → `numeric`, `timestamp(3) with time zone` → `timestamp with time zone`. */
export function baseType(type: string): string {
  return type
    .replace(/\[\]$/, "")
    .replace(/\([^)]*\)/, "")
    .replace(/^interval .*$/, "interval")
    .trim();
}

/** True for `text[]` and the like. */
export function isArray(type: string): boolean {
  return type.endsWith("[]");
}

/** The warehouse column type that holds every value of a source column: enums, composites and extension types become text. */
export function warehouseType(type: ColumnType): string {
  if (type.element) {
    const holds = type.element.builtIn && portable.has(baseType(type.element.resolved));
    return holds ? type.resolved : "text[]";
  }
  const base = baseType(type.resolved);
  if (type.builtIn && replaced[base]) return replaced[base];
  return type.builtIn && portable.has(base) ? type.resolved : "text";
}

/** The name a reader knows: `timestamp with time zone` → `timestamptz`, `character varying(20)` → `varchar(20)`. */
export function shortType(type: string): string {
  return type
    .replace(/^timestamp(\(\d\))? with time zone/, "timestamptz$1")
    .replace(/^timestamp(\(\d\))? without time zone/, "timestamp$1")
    .replace(/^time(\(\d\))? with time zone/, "timetz$1")
    .replace(/^time(\(\d\))? without time zone/, "time$1")
    .replace(/^character varying/, "varchar")
    .replace(/^character/, "char")
    .replace(/^bit varying/, "varbit");
}

const integers = new Set(["smallint", "integer", "bigint"]);
const floats = new Set(["real", "double precision"]);
const moments = new Set(["date", "timestamp without time zone", "timestamp with time zone"]);
const texts = new Set(["text", "character varying", "character"]);

export type TypeFamily = "integer" | "numeric" | "float" | "moment" | "text" | "other";

/** The family a type belongs to; arrays belong to none. */
export function typeFamily(type: string): TypeFamily {
  if (isArray(type)) return "other";
  const base = baseType(type);
  if (integers.has(base)) return "integer";
  if (base === "numeric") return "numeric";
  if (floats.has(base)) return "float";
  if (moments.has(base)) return "moment";
  return texts.has(base) ? "text" : "other";
}

/** True where a column of this type can serve as a watermark: it grows, and its values compare exactly. */
export function canBeWatermark(type: string): boolean {
  return ["integer", "numeric", "moment"].includes(typeFamily(type));
}

/** The numbers in a type's brackets: `numeric(12,2)` → [12, 2], `text` → []. */
export function limits(type: string): number[] {
  return (/\(([\d,-]+)\)/.exec(type)?.[1] ?? "").split(",").filter(Boolean).map(Number);
}

/**
 * True where a column of type `target` takes every value of type `given` without changing it. A text that is too long
 * is refused by the database itself; a number with too many digits would be rounded, so it is refused here.
 */
export function holds(target: string, given: string): boolean {
  if (target === given) return true;
  if (baseType(target) !== baseType(given) || isArray(target) !== isArray(given)) return false;
  // Fields cut an interval off, and bits are filled up to their number.
  if (/^interval [a-z]/.test(target) || baseType(target) === "bit") return false;
  const [room, need] = [limits(target), limits(given)];
  if (room.length === 0 || typeFamily(target) === "text") return true;
  if (need.length === 0) return false;
  const [precision = 0, scale = 0] = room;
  const [givenPrecision = 0, givenScale = 0] = need;
  if (baseType(target) === "numeric") return scale >= givenScale && precision - scale >= givenPrecision - givenScale;
  return precision >= givenPrecision;
}

/** Other names of PostgreSQL's types (table 8.1 of its manual), and how they are printed. */
const aliases: Record<string, string> = {
  int: "integer",
  int4: "integer",
  int2: "smallint",
  int8: "bigint",
  decimal: "numeric",
  dec: "numeric",
  float: "double precision",
  float8: "double precision",
  float4: "real",
  bool: "boolean",
  varchar: "character varying",
  char: "character",
  bpchar: "character",
  varbit: "bit varying",
  timestamptz: "timestamp with time zone",
  timestamp: "timestamp without time zone",
  timetz: "time with time zone",
  time: "time without time zone",
};

/**
 * A type as a person writes it (`varchar(20)`, `timestamptz`, `NUMERIC(12, 2)`), as format_type prints it.
 * @throws RangeError when it is not a type that means the same on every server.
 */
export function canonicalType(text: string): string {
  const match =
    /^([a-z][a-z0-9_ ]*?)\s*(?:\(\s*(\d{1,8})\s*(?:,\s*(\d{1,4})\s*)?\))?\s*(with time zone|without time zone|varying)?\s*(?:\(\s*(\d{1,8})\s*\))?\s*(\[\])?$/.exec(
      text.trim().toLowerCase().replace(/\s+/g, " "),
    );
  const [, word = "", first, second, tail, late, array = ""] = match ?? [];
  const name = [word, tail].filter(Boolean).join(" ");
  const base = aliases[name] ?? name;
  const [limit, scale] = [late ?? first, second];
  if (!match || !portable.has(base))
    throw new RangeError(
      `${text} is not a type that every warehouse has; write one such as text, bigint, numeric(12,2), date or timestamptz`,
    );
  if (base === "character" && !limit) return `character(1)${array}`;
  if (limit === undefined) return base + array;
  if (base === "numeric") {
    if (Number(limit) < 1 || Number(limit) > 1000 || Number(scale ?? 0) > Number(limit))
      throw new RangeError(`${text} has no such precision: numeric(12,2) holds 12 digits, 2 of them behind the point`);
    return `numeric(${limit},${scale ?? 0})${array}`;
  }
  if (scale !== undefined) throw new RangeError(`${text} takes one number in its brackets`);
  const moment = /^(timestamp|time) (with(?:out)? time zone)$/.exec(base);
  if (moment) {
    if (Number(limit) > 6) throw new RangeError(`${text} holds at most 6 digits of a second`);
    return `${moment[1]}(${limit}) ${moment[2]}${array}`;
  }
  if (!["character varying", "character", "bit", "bit varying", "interval"].includes(base) || Number(limit) < 1)
    throw new RangeError(`${text} takes no such number in brackets`);
  return `${base}(${limit})${array}`;
}
