import type { Dataset, DatasetColumn } from "@undercoat/core/dataset/dataset";
import type { From } from "@undercoat/core/pipeline/pipeline";
import { PlanError } from "@undercoat/core/plan/error";
import { formatTableName, parseTableName, type TableName } from "@undercoat/core/sql/identifier";
import { admit } from "@undercoat/core/sql/mariadb/admit";
import * as catalog from "@undercoat/core/sql/mariadb/catalog";
import { anyFault, type MariaRows, origin, subquery } from "@undercoat/core/sql/mariadb/read";
import type { ZeroDates } from "@undercoat/core/sql/mariadb/text";
import { isDated, kindOfType, type MariaColumn, warehouseTypeOf } from "@undercoat/core/sql/mariadb/type";
import { ownValues } from "@undercoat/core/sql/mariadb/values";
import { LoadFailure, NoTable } from "../../failure.ts";
import type { Field, MariaSession } from "./session.ts";

/** What is read of a server, as it is now. */
export interface Described {
  dataset: Dataset;
  rows: MariaRows;
  /** false where some of its tables keep no moments, so that rows and figures may be of two */
  oneMoment: boolean;
}

/** Up to so many rows, by the server's estimate, it is looked whether any can't be taken; beyond, each is looked at as it is read. */
const looked = 3_000_000;

const number = (text: string | null | undefined) => (text == null ? null : Number(text));

async function columnsOf(session: MariaSession, table: TableName): Promise<MariaColumn[]> {
  return (await session.query(catalog.tableColumns(table))).map((row) => {
    const kind = kindOfType(row.kind ?? "");
    const declared = row.declared ?? "";
    return {
      name: row.name ?? "",
      declared,
      kind,
      unsigned: /\bunsigned\b/.test(declared),
      length: kind === "bit" ? number(row.precision) : number(row.length),
      precision: number(row.precision),
      scale: number(row.scale),
      notNull: row.not_null === "1",
      generated: row.generated === "1",
      hasDefault: row.has_default === "1",
      comment: row.comment ?? null,
    };
  });
}

/** The protocol's numbers of types, as the catalogue names them. */
const typeNames: Record<number, string> = {
  0: "decimal",
  1: "tinyint",
  2: "smallint",
  3: "int",
  4: "float",
  5: "double",
  7: "timestamp",
  8: "bigint",
  9: "mediumint",
  10: "date",
  11: "time",
  12: "datetime",
  13: "year",
  16: "bit",
  245: "json",
  246: "decimal",
};

/** A column of a query's result. What is no number and no time is a text, or bytes. */
function columnOfField({ name, type, length, binary, unsigned, decimals, flags }: Field): MariaColumn {
  const known = typeNames[type];
  const bytes = type === 255 || (type >= 249 && binary);
  const declared = known ?? (bytes ? "blob" : "text");
  const kind = kindOfType(declared);
  const timed = kind === "datetime" || kind === "timestamp" || kind === "time";
  return {
    name,
    declared: kind === "decimal" ? `decimal(${length},${decimals})` : declared,
    kind,
    unsigned,
    length: kind === "bit" ? length : null,
    precision: kind === "decimal" ? Math.max(length - (decimals ? 1 : 0) - (unsigned ? 0 : 1), 1) : null,
    scale: kind === "decimal" || timed ? Math.min(decimals, timed ? 6 : 38) : null,
    notNull: (flags & 1) > 0,
    generated: false,
    hasDefault: false,
    comment: null,
  };
}

const asDatasetColumn = (column: MariaColumn, zeroDates: ZeroDates = "reject"): DatasetColumn => {
  const warehouseType = warehouseTypeOf(column);
  // A day that no calendar has is read as null though the server promises a value.
  const notNull = column.notNull && !(zeroDates === "null" && isDated(column));
  const { name, declared, generated, hasDefault, comment } = column;
  const type = { resolved: warehouseType, kind: "b", builtIn: true };
  return { name, declared, type, warehouseType, notNull, generated, hasDefault, comment };
};

/** A table's columns and indexes, and how many rows it is thought to have; null where this user sees no such table. */
async function findTable(session: MariaSession, table: TableName) {
  const found = await session.one(catalog.findTable(table));
  if (found.engine === undefined) return null;
  const columns = await columnsOf(session, table);
  const indexes = (await session.query(catalog.tableIndexes(table))).map((row) => ({
    name: row.name ?? "",
    columns: (row.columns ?? "").split(",").map((name) => Buffer.from(name, "hex").toString("utf8")),
    unique: row.is_unique === "1",
    primary: row.name === "PRIMARY",
  }));
  // A view says nothing of its tables; those of another engine keep no moments.
  const oneMoment = found.view === "1" || found.engine === "InnoDB";
  return { columns, indexes, rows: Number(found.rows ?? 0), oneMoment };
}

export async function datasetOf(
  session: MariaSession,
  table: TableName,
): Promise<{ dataset: Dataset; columns: MariaColumn[] }> {
  const found = await findTable(session, table);
  if (!found) throw new NoTable({ message: `The server has no table ${formatTableName(table)}` });
  return {
    dataset: { columns: found.columns.map((column) => asDatasetColumn(column)), indexes: found.indexes },
    columns: found.columns,
  };
}

/** True where the server refuses what a statement says: its form, its names. */
const isOfTheText = (error: unknown) =>
  /^ER_(PARSE_ERROR|BAD_FIELD_ERROR|NO_SUCH_TABLE|SP_DOES_NOT_EXIST|FUNC_|WRONG_|INVALID_|NON_UNIQ|MIX_OF|CANT_|UNKNOWN_|OPERAND)/.test(
    (error as { code?: string }).code ?? "",
  );

const misplaced = (error: unknown, path: string[]) =>
  isOfTheText(error) && error instanceof LoadFailure
    ? Object.assign(new PlanError(error.failure.message, path), { cause: error })
    : error;

/** What some work gives; a value that MariaDB has no word for is told where it stands. */
function told<T>(work: () => T, path: string[]): T {
  try {
    return work();
  } catch (error) {
    if (error instanceof RangeError) throw new PlanError(error.message, path);
    throw error;
  }
}

/** @throws PlanError where SQL of an author's is not taken */
async function admitted(session: MariaSession, sql: string, path: string[], as: "query" | "condition"): Promise<void> {
  const calls = admit(
    told(() => ownValues(sql), path),
    path,
    as,
  );
  if (calls.length === 0) return;
  const { name } = await session.one(catalog.routines(calls));
  if (name) throw new PlanError(`${name}() is a routine of the server's own, which may do more than read`, path);
}

/** The columns of what a load reads, and what they are at the server. @throws NoTable, PlanError, LoadFailure */
export async function describe(
  session: MariaSession,
  from: From,
  name: string,
  zeroDates: ZeroDates,
): Promise<Described> {
  if (from.files !== undefined)
    throw new LoadFailure({
      message: `${name} is a database: it has no files`,
      hint: "Name a table or a query of it, or a connection to a folder of files.",
    });
  const { columns, indexes, rows: estimate, oneMoment } = await describedColumns(session, from, name);
  const relation = relationOf(from, columns);
  if (from.where) {
    await admitted(session, from.where, ["from", "where"], "condition");
    await session.guard();
    await session.query(`SELECT (${ownValues(from.where)}\n) AS value FROM ${relation} LIMIT 0`).catch((error) => {
      throw misplaced(error, ["from", "where"]);
    });
  }
  const rows: MariaRows = { columns: new Map(columns.map((column) => [column.name, column])), zeroDates };
  const fault = anyFault(relation, rows);
  const faulty = fault !== null && (estimate > looked || (await session.one(fault)).found === "1");
  return {
    dataset: {
      columns: columns.map((column) => asDatasetColumn(column, zeroDates)),
      indexes,
      ...(faulty ? { lines: true as const } : {}),
    },
    rows,
    oneMoment,
  };
}

/** Where the rows come from, before any condition. */
function relationOf({ table, tables, query, origin: mark }: From, columns: readonly MariaColumn[]): string {
  const read = {
    table: table ? parseTableName(table) : null,
    query: query ?? null,
    union:
      tables && mark
        ? {
            tables: Object.entries(tables).map(([text, of]) => ({ mark: text, table: parseTableName(of) })),
            origin: mark,
            columns: [],
          }
        : null,
  };
  return origin(
    { read } as unknown as Parameters<typeof origin>[0],
    columns.map((column) => column.name),
  );
}

async function describedColumns(session: MariaSession, from: From, name: string) {
  if (from.query) {
    const path = ["from", "query"];
    await admitted(session, from.query, path, "query");
    await session.guard();
    const fields = await session.fields(`SELECT * FROM ${subquery(from.query)} s LIMIT 0`).catch((error) => {
      throw misplaced(error, path);
    });
    return { columns: fields.map(columnOfField), indexes: [], rows: 0, oneMoment: false };
  }
  const named = from.tables ? Object.values(from.tables) : [from.table ?? ""];
  const found = await Promise.all(
    named.map(async (table) => {
      const described = await findTable(session, parseTableName(table));
      if (!described) throw new NoTable({ message: `${name} has no table ${table}` });
      return described;
    }),
  );
  const [first] = found;
  if (!first) throw new LoadFailure({ message: "The load names no table" });
  if (!from.tables) return first;
  const shared = first.columns.filter((column) =>
    found.every(({ columns }) =>
      columns.some((other) => other.name === column.name && other.declared === column.declared),
    ),
  );
  const mark: MariaColumn = {
    ...columnOfField({
      name: from.origin ?? "origin",
      type: 253,
      length: 0,
      binary: false,
      unsigned: false,
      decimals: 0,
      flags: 1,
    }),
  };
  return {
    columns: [mark, ...shared],
    indexes: [],
    rows: found.reduce((sum, { rows }) => sum + rows, 0),
    oneMoment: found.every((one) => one.oneMoment),
  };
}
