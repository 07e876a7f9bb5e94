import { tablesOf } from "@undercoat/core/expression/parse";
import { dependencies, type LoadTables } from "@undercoat/core/pipeline/order";
import type { From, Pipeline } from "@undercoat/core/pipeline/pipeline";
import { formatTableName, parseTableName } from "@undercoat/core/sql/identifier";
import type { Credentials } from "@undercoat/engine/session";
import { sourceFor } from "@undercoat/engine/source/registry";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";

/** The tables that a load reads; a bare name in a query is one of the public schema. */
async function tablesRead(from: From): Promise<string[]> {
  if (from.query) return (await tablesOf(from.query).catch(() => [])).map(({ schema, table }) => formatTableName({ schema: schema ?? "public", table }));
  return [...(from.table ? [from.table] : []), ...Object.values(from.tables ?? {})].map((name) => formatTableName(parseTableName(name)));
}

/** For each load of a pipeline, those that must end before it begins, because they write what it reads in the warehouse. */
export async function loadOrder(pipeline: Pipeline, credentials: (name: string) => Promise<Credentials>): Promise<Map<string, string[]>> {
  const warehouse = await credentials(pipeline.warehouse).then(warehouseFor);
  const inside = new Map<string, boolean>();
  const tables = new Map<string, LoadTables>();
  for (const [name, { from, into }] of Object.entries(pipeline.loads)) {
    if (!inside.has(from.connection)) inside.set(from.connection, await credentials(from.connection).then((found) => warehouse.isInside(sourceFor(found)), () => false));
    tables.set(name, { reads: inside.get(from.connection) ? await tablesRead(from) : [], writes: formatTableName(parseTableName(into.table)) });
  }
  return dependencies(tables);
}
