import { baseType, isArray, typeFamily } from "./type.ts";

/** A column as a hash sees it: its value as SQL, and its type as format_type prints it. */
export interface HashedColumn {
  sql: string;
  type: string;
}

/**
 * Hashes of rows, as SQL. Each value is hashed under a seed that is the hash of everything before it, so that place and
 * value both count and no two changes can cancel: a chain of PostgreSQL's 64-bit hash functions (Jenkins' lookup3, with
 * the seed mixed in), in which every step is given the stored value whole, not its class of equal values. A last step
 * mixes once more, so that no value stands bare at the end. Hashes of rows are added up exactly.
 *
 * The chance that a changed row keeps its hash is at most one in 2^64 for each column that it has; rows of more than
 * `narrow` columns are hashed twice, under two seeds. So a difference goes unseen with a chance below one in 2^60.
 */
const narrow = 14;

/** Columns of one chain: calls within calls go no deeper than a server's stack allows. */
const longestChain = 48;

/** Columns whose nulls one number holds. */
const nullsAtOnce = 30;

const zeroDay = "date '2000-01-01'";

/** A moment as a number of seconds tells microseconds apart between these years; the number 0 hashes to the bare seed. */
function edges(sql: string, type: string): { far: string; zero: string } {
  const zone = type === "timestamp with time zone" ? "+00" : "";
  const start = (year: number) => `${type} '${year}-01-01 00:00:00${zone}'`;
  return { far: `${sql} <= ${start(1700)} OR ${sql} >= ${start(2240)}`, zero: `${sql} = ${start(1970)}` };
}

const baseOf = (type: string) => (isArray(type) ? "array" : baseType(type));

/** The steps that take one value into the chain; a null counts as a default here, and is told apart by `head`. */
function step({ sql, type }: HashedColumn, seed: string): string {
  switch (baseOf(type)) {
    case "smallint":
    case "integer":
      return `hashint4extended(coalesce(${sql}, 0), ${seed})`;
    case "bigint":
      // Its own hash folds both halves into one; the upper half before it tells them apart.
      return `hashint8extended(coalesce(${sql}, 0), hashint4extended((coalesce(${sql}, 0) >> 32)::int4, ${seed}))`;
    case "boolean":
      return `hashint4extended(coalesce(${sql}, false)::int4, ${seed})`;
    case "real":
    case "double precision":
      return `hashfloat8extended(coalesce(${sql}, 0), ${seed})`;
    case "uuid":
      return `uuid_hash_extended(coalesce(${sql}, '00000000-0000-0000-0000-000000000000'), ${seed})`;
    case "date":
      return `hashint4extended(coalesce(CASE WHEN isfinite(${sql}) THEN ${sql} - ${zeroDay} WHEN ${sql} > ${zeroDay} THEN 2147483647 ELSE -2147483648 END, 0), ${seed})`;
    case "timestamp with time zone":
    case "timestamp without time zone":
      return `hashfloat8extended(coalesce(date_part('epoch', ${sql}), 0), ${seed})`;
    case "time without time zone":
      return `hashfloat8extended(coalesce(date_part('epoch', ${sql}), 0) + 1, ${seed})`;
    case "bytea":
      return `hash_record_extended(ROW(coalesce(${sql}, '')), ${seed})`;
    case "text":
    case "character varying":
      return `hashtextextended(coalesce(${sql}, '') COLLATE "C", ${seed})`;
    default:
      // Printed text tells every stored value of the other types from every other, scales, bounds and units included.
      return `hashtextextended(coalesce(${sql}::text, '') COLLATE "C", ${seed})`;
  }
}

/** What a value's own step does not tell: when that may be so, and a number that tells it. */
function untold({ sql, type }: HashedColumn): { when: string; told: string } | null {
  const base = baseOf(type);
  switch (base) {
    case "real":
    case "double precision":
      // 0 and -0 share a hash, which is the bare seed.
      return { when: `${sql} = 0`, told: `CASE WHEN ${sql} = 0 THEN length(${sql}::text) ELSE 0 END` };
    case "timestamp with time zone":
    case "timestamp without time zone": {
      const { far, zero } = edges(sql, base);
      return {
        when: `${far} OR ${zero}`,
        told: `CASE WHEN ${far} THEN coalesce(date_part('microseconds', ${sql}), 0)::int4 WHEN ${zero} THEN -1 ELSE 0 END`,
      };
    }
    default:
      return null;
  }
}

/**
 * The chain's first seed: which of the values are null, and what the steps leave untold. Rows of which there is nothing
 * to tell, the most, cost one look at each value.
 */
function head(columns: readonly HashedColumn[], seed: number): string {
  const told: string[] = [];
  for (let from = 0; from < columns.length; from += nullsAtOnce)
    told.push(
      columns
        .slice(from, from + nullsAtOnce)
        .map(({ sql }, at) => `CASE WHEN ${sql} IS NULL THEN ${2 ** at} ELSE 0 END`)
        .join(" + "),
    );
  const rest = columns.map(untold).filter((entry) => entry !== null);
  told.push(...rest.map((entry) => entry.told));
  const when = [...columns.map(({ sql }) => `${sql} IS NULL`), ...rest.map((entry) => entry.when)];
  const first = told.reduce((inner, number) => `hashint4extended(${number}, ${inner})`, String(seed));
  return `CASE WHEN ${when.join(" OR ")} THEN ${first} ELSE ${seed} END`;
}

function chain(columns: readonly HashedColumn[], seed: number): string {
  const hashed = columns.reduce((inner, column) => step(column, inner), head(columns, seed));
  return `hashint4extended(${seed}, ${hashed})`;
}

function hashUnder(columns: readonly HashedColumn[], seed: number): string {
  if (columns.length <= longestChain) return chain(columns, seed);
  const parts: HashedColumn[] = [];
  for (let from = 0; from < columns.length; from += longestChain)
    parts.push({ sql: chain(columns.slice(from, from + longestChain), seed + from), type: "bigint" });
  return chain(parts, seed);
}

/**
 * How rows are hashed: by what is stored, with PostgreSQL's own functions; or by the texts of their values, which a server
 * of another make prints alike.
 */
export type Hashing = "stored" | "texts";

/** Types whose texts hold neither nothing nor the sign that parts them. */
const plainTexts = new Set([
  "smallint",
  "integer",
  "bigint",
  "numeric",
  "real",
  "double precision",
  "bytea",
  "uuid",
  "date",
  "timestamp without time zone",
  "timestamp with time zone",
  "interval",
]);

/** True for types whose texts may hold any sign, so that their length must be told. */
export const runsOn = (type: string): boolean => isArray(type) || !plainTexts.has(baseType(type));

/** A value's text as a server of another make prints it too: of a float its bits (IEEE 754) as a whole number. */
function portableText({ sql, type }: HashedColumn): string {
  return typeFamily(type) === "float"
    ? `('x' || encode(float8send(${sql}::float8), 'hex'))::bit(64)::bigint::text`
    : `${sql}::text`;
}

/** Arguments of one call. */
const mostArguments = 90;

function joined(texts: readonly string[]): string {
  if (texts.length <= mostArguments) return `concat_ws('|', ${texts.join(", ")})`;
  const parts: string[] = [];
  for (let from = 0; from < texts.length; from += mostArguments)
    parts.push(joined(texts.slice(from, from + mostArguments)));
  return joined(parts);
}

/**
 * A 64-bit hash of texts: the first half of MD5 (RFC 1321) over the lengths of those that may hold any sign, then all of
 * them, parted by `|`; of a null both are empty. No two rows make the same whole, so that one in 2^64 is the chance that a
 * change goes unseen. MD5 keeps off chance, not one who makes up collisions.
 */
function textHash(columns: readonly HashedColumn[]): string {
  const lengths = columns
    .filter(({ type }) => runsOn(type))
    .map((column) => `coalesce(octet_length(${portableText(column)})::text, '')`);
  const texts = columns.map((column) => `coalesce(${portableText(column)}, '')`);
  return `('x' || left(md5(${joined([...lengths, ...texts])}), 16))::bit(64)::bigint`;
}

/** A 64-bit hash of some columns' values, in their order; equal only where every value is the same. */
export function rowHash(columns: readonly HashedColumn[], hashing: Hashing): string {
  return hashing === "texts" ? textHash(columns) : hashUnder(columns, 1);
}

/** The hashes by which rows are told apart, one below the other in width: one, or two for wide rows. */
export function rowHashes(columns: readonly HashedColumn[], hashing: Hashing): string[] {
  if (hashing === "texts") return [textHash(columns)];
  return columns.length <= narrow ? [hashUnder(columns, 1)] : [hashUnder(columns, 1), hashUnder(columns, 20_011)];
}

/** Types of which PostgreSQL calls values equal that are stored in different forms, beside numbers: hashed as equal by their own hash. */
const manyForms = new Set(["interval", "jsonb", "numrange", "nummultirange", "tsrange", "tstzrange"]);

/** A key's value in one form for all that are equal: 1.0 and 1.00 are one key. */
export function keyForm(sql: string, type: string): string {
  const family = typeFamily(type);
  if (family === "numeric") return `trim_scale(${sql})`;
  if (family === "float") return `(${sql} + 0)`;
  return sql;
}

/** A 64-bit hash of a key by which equal keys have equal hashes. */
export function keyHash(columns: readonly HashedColumn[], hashing: Hashing): string {
  if (hashing === "texts") return textHash(columns.map(({ sql, type }) => ({ sql: keyForm(sql, type), type })));
  const forms = columns.map(({ sql, type }): HashedColumn => {
    if (isArray(type) || manyForms.has(baseType(type)))
      return { sql: `hash_record_extended(ROW(${sql}), 7)`, type: "bigint" };
    return { sql: keyForm(sql, type), type };
  });
  return hashUnder(forms, 1);
}
