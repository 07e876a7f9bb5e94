/** A name that PostgreSQL would cut or refuse. */
export class NameError extends Error {}

/** A table by its two names, neither of them quoted. */
export interface TableName {
  schema: string;
  table: string;
}

const LONGEST_NAME = 63;
const encoder = new TextEncoder();

/**
 * Quotes one name as an SQL identifier, always with double quotes, so that reserved words,
 * capitals and any character are safe.
 * @throws NameError when the name is empty, holds NUL or exceeds 63 bytes of UTF-8.
 */
export function identifier(name: string): string {
  if (name === "") throw new NameError("A name is empty");
  if (name.includes("\0")) throw new NameError("A name holds the character NUL");
  if (encoder.encode(name).length > LONGEST_NAME)
    throw new NameError(`The name ${name} is longer than ${LONGEST_NAME} bytes`);
  return `"${name.replaceAll('"', '""')}"`;
}

/** The quoted form of a table's two names. */
export function qualified({ schema, table }: TableName): string {
  return `${identifier(schema)}.${identifier(table)}`;
}

/** A comma-separated list of quoted names, each behind `prefix` where one is given (`s` → `s."a"`). */
export function identifiers(names: readonly string[], prefix?: string): string {
  return names.map((name) => (prefix ? `${prefix}.` : "") + identifier(name)).join(", ");
}

/**
 * Reads `schema.table` as written in a project file; either part may be double-quoted
 * (`"My Schema"."a.b"`). Unquoted parts are taken as they are, capitals included.
 * @throws NameError when there are not exactly two parts.
 */
export function parseTableName(text: string): TableName {
  const part = '(?:"((?:[^"]|"")+)"|([^".]+))';
  const match = new RegExp(`^${part}\\.${part}$`).exec(text);
  if (!match)
    throw new NameError(
      `${text} is not a table's name; write schema.table, with double quotes around a part that holds a dot`,
    );
  const [, quotedSchema, schema, quotedTable, table] = match;
  const name = {
    schema: quotedSchema?.replaceAll('""', '"') ?? schema ?? "",
    table: quotedTable?.replaceAll('""', '"') ?? table ?? "",
  };
  qualified(name);
  return name;
}

/** The inverse of `parseTableName`: quotes a part only where it must be. */
export function formatTableName({ schema, table }: TableName): string {
  const part = (name: string) => (/["." ]/.test(name) ? identifier(name) : name);
  return `${part(schema)}.${part(table)}`;
}

/** What a load names at its source: a table by its two names, or a set of records by its one, which then stands under `.`. */
export const parseSourceName = (text: string): TableName =>
  /^[^".]+$/.test(text) ? { schema: ".", table: text } : parseTableName(text);

/** A table's name in one spelling. */
export const plainName = (table: string): string => formatTableName(parseSourceName(table));
