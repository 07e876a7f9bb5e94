import type { Dataset } from "@undercoat/core/dataset/dataset";
import { asSubquery, checkCondition, checkQuery } from "@undercoat/core/expression/parse";
import type { From } from "@undercoat/core/pipeline/pipeline";
import { findTable, resultColumns, tableColumns, tableIndexes } from "@undercoat/core/sql/catalog";
import { parseTableName, type TableName } from "@undercoat/core/sql/identifier";
import { emptyResult } from "@undercoat/core/sql/look";
import { type ColumnType, warehouseType } from "@undercoat/core/sql/type";
import { LoadFailure } from "../../failure.ts";
import type { Row, Session } from "../../session.ts";

function columnsOf(rows: Row[]): Dataset["columns"] {
  return rows.map((row) => {
    const type: ColumnType = {
      resolved: row.resolved ?? "text",
      kind: row.kind ?? "b",
      builtIn: row.built_in === "t",
      ...(row.element ? { element: { resolved: row.element, kind: row.element_kind ?? "b", builtIn: row.element_built_in === "t" } } : {}),
    };
    return {
      name: row.name ?? "",
      declared: row.declared ?? "",
      type,
      warehouseType: warehouseType(type),
      notNull: row.not_null === "t",
      generated: row.generated === "t",
      hasDefault: row.has_default === "t",
      comment: row.comment ?? null,
    };
  });
}

/** A table's columns and indexes; null where this user sees no such table. */
export async function findDataset(session: Session, table: TableName): Promise<Dataset | null> {
  const found = await session.one(findTable, [table.schema, table.table]);
  if (!found.oid) return null;
  const columns = columnsOf(await session.query(tableColumns, [found.oid]));
  const indexes = (await session.query(tableIndexes, [found.oid])).map((row) => ({
    name: row.name ?? "",
    columns: JSON.parse(row.columns ?? "[]") as string[],
    unique: row.is_unique === "t",
    primary: row.is_primary === "t",
  }));
  return { columns, indexes };
}

/**
 * The columns of what a load reads. A query and a condition are admitted by their parse trees first.
 * @throws LoadFailure when there is no such table; ExpressionError when the SQL may not be used.
 */
export async function describe(session: Session, from: From): Promise<Dataset> {
  if (from.where) await checkCondition(from.where);
  if (from.query) {
    await checkQuery(from.query);
    const fields = await session.columns(emptyResult(asSubquery(from.query)));
    const repeated = fields.find((field, at) => fields.findIndex((other) => other.name === field.name) < at);
    if (repeated) throw new LoadFailure({ message: `The query gives two columns the name ${repeated.name}`, hint: "Give one of them another name with AS." });
    const arrays = [fields.map((field) => field.name), fields.map((field) => field.type), fields.map((field) => field.modifier)].map(arrayText);
    return { columns: columnsOf(await session.query(resultColumns, arrays)), indexes: [] };
  }
  const table = parseTableName(from.table ?? "");
  const dataset = await findDataset(session, table);
  if (!dataset)
    throw new LoadFailure({ message: `${session.place.name} has no table ${from.table}, or ${session.place.user} may not see it`, hint: "Choose another table, or grant the right to read this one." });
  return dataset;
}

/** A one-dimensional array in PostgreSQL's own notation. */
function arrayText(values: (string | number)[]): string {
  return `{${values.map((value) => `"${String(value).replaceAll("\\", "\\\\").replaceAll('"', '\\"')}"`).join(",")}}`;
}
