import { lookupsOf, tablesOf } from "@undercoat/core/expression/parse";
import { dependencies, type LoadTables } from "@undercoat/core/pipeline/order";
import { type Load, type Pipeline, ruleOf } from "@undercoat/core/pipeline/pipeline";
import { spanned } from "@undercoat/core/plan/span";
import { formatTableName, parseTableName } from "@undercoat/core/sql/identifier";
import type { Credentials } from "@undercoat/engine/connection/credentials";
import { sourceFor } from "@undercoat/engine/source/registry";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";

/** A table as a query names it; a bare name is one of the public schema. */
const named = ({ schema, table }: { schema: string | null; table: string }) =>
  formatTableName({ schema: schema ?? "public", table });

/** The tables of the warehouse that a load reads: what it is made from where that is the warehouse itself, and what its rules look up. */
export async function tablesRead({ from, rules }: Load, inside: boolean): Promise<string[]> {
  const read = inside
    ? [...(from.table ? [from.table] : []), ...Object.values(from.tables ?? {})].map((name) =>
        formatTableName(parseTableName(name)),
      )
    : [];
  if (inside && from.query) read.push(...(await tablesOf(spanned(from).query ?? "").catch(() => [])).map(named));
  for (const rule of Object.values(rules ?? {}))
    read.push(...(await lookupsOf(ruleOf(rule).check).catch(() => [])).map(named));
  return read;
}

/** For each load of a pipeline, those that must end before it begins, because they write what it reads in the warehouse. */
export async function loadOrder(
  pipeline: Pipeline,
  credentials: (name: string) => Promise<Credentials>,
): Promise<Map<string, string[]>> {
  const warehouse = await credentials(pipeline.warehouse).then(warehouseFor);
  const inside = new Map<string, boolean>();
  const tables = new Map<string, LoadTables>();
  for (const [name, load] of Object.entries(pipeline.loads)) {
    const { from, into } = load;
    if (!inside.has(from.connection))
      inside.set(
        from.connection,
        await credentials(from.connection).then(
          (found) => warehouse.isInside(sourceFor(found)),
          () => false,
        ),
      );
    tables.set(name, {
      reads: await tablesRead(load, inside.get(from.connection) ?? false),
      writes: formatTableName(parseTableName(into.table)),
    });
  }
  return dependencies(tables);
}
