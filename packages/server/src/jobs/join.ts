import { resolvedAll } from "@undercoat/core/parameter/resolve";
import { freeName, matchesPattern, slugOf } from "@undercoat/core/pipeline/names";
import type { Joins, Pipeline } from "@undercoat/core/pipeline/pipeline";
import { suggestLoad } from "@undercoat/core/pipeline/suggest";
import { formatTableName, parseTableName } from "@undercoat/core/sql/identifier";
import { sourceFor } from "@undercoat/engine/source/registry";
import type { Store } from "../store/store.ts";

/** Tables of the chosen schema that no load of the pipeline reads yet. */
async function newTables(store: Store, { connection, schema, tables }: Joins, pipeline: Pipeline) {
  const known = resolvedAll(pipeline, Date.now()).flatMap(({ definition }) => Object.values(definition.loads));
  const source = sourceFor(await store.credentials(connection));
  const read = new Set(
    known
      .flatMap(({ from }) =>
        from.connection === connection
          ? [...(from.table ? [from.table] : []), ...Object.values(from.tables ?? {})]
          : [],
      )
      .map((name) => formatTableName(parseTableName(name))),
  );
  const written = new Set(known.map(({ into }) => formatTableName(parseTableName(into.table))));
  const listed = (await source.datasets()).filter(
    (entry) => entry.schema === schema && (tables === undefined || matchesPattern(entry.name, tables)),
  );
  return {
    source,
    written,
    tables: listed
      .map((entry) => ({ schema: entry.schema, table: entry.name }))
      .filter((table) => !read.has(formatTableName(table))),
  };
}

/** The definition with a load for every new table that joins it, and the names of those loads. */
export async function withNewTables(
  store: Store,
  definition: Pipeline,
): Promise<{ definition: Pipeline; joined: string[] }> {
  const joins = definition.joins;
  if (!joins) return { definition, joined: [] };
  const { source, written, tables } = await newTables(store, joins, definition);
  const loads = { ...definition.loads };
  const joined: string[] = [];
  for (const table of tables) {
    const { load } = suggestLoad(
      { connection: joins.connection, table: formatTableName(table) },
      { schema: joins.into, table: table.table },
      await source.dataset(table),
    );
    // A target that another load writes is not taken from it.
    if (written.has(formatTableName(parseTableName(load.into.table)))) continue;
    const name = freeName(slugOf(table.table), new Set(Object.keys(loads)));
    loads[name] = load;
    joined.push(name);
  }
  return { definition: joined.length ? { ...definition, loads } : definition, joined };
}
