import { type Duck, located, named } from "./duck.ts";
import type { ShapedFile } from "./shaped.ts";
import type { FoundFile } from "./store.ts";

/** The warehouse type of a type of Parquet's, by what it holds. */
function typeOfParquet(type: string): string {
  const decimal = /^DECIMAL\((\d+),(\d+)\)$/.exec(type);
  if (decimal) return `numeric(${decimal[1]},${decimal[2]})`;
  const known: Record<string, string> = {
    BOOLEAN: "boolean",
    TINYINT: "smallint",
    SMALLINT: "smallint",
    UTINYINT: "smallint",
    INTEGER: "integer",
    USMALLINT: "integer",
    BIGINT: "bigint",
    UINTEGER: "bigint",
    UBIGINT: "numeric",
    HUGEINT: "numeric",
    FLOAT: "real",
    DOUBLE: "double precision",
    DATE: "date",
    TIME: "time without time zone",
    TIMESTAMP: "timestamp without time zone",
    TIMESTAMP_NS: "timestamp without time zone",
    "TIMESTAMP WITH TIME ZONE": "timestamp with time zone",
    UUID: "uuid",
  };
  return known[type] ?? "text";
}

/** A Parquet file: its own types say what its columns hold. */
export async function parquetOf(duck: Duck, file: FoundFile): Promise<ShapedFile> {
  const read = `read_parquet(${located(await duck.local(file))})`;
  const described = await duck.rows(`SELECT column_name, column_type FROM (DESCRIBE SELECT * FROM ${read})`);
  const names = described.map((row) => row.column_name ?? "");
  const texts = names.map((name) => `CAST(${named(name)} AS VARCHAR) AS ${named(name)}`);
  return {
    file,
    sheet: null,
    names,
    unit: "row",
    records: null,
    quick: { rows: `SELECT ${texts.join(", ")} FROM ${read}`, regular: async () => true },
    typed: described.map((row) => ({ name: row.column_name ?? "", fits: typeOfParquet(row.column_type ?? "") })),
  };
}
