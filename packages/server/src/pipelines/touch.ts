import { resolvedAll } from "@undercoat/core/parameter/resolve";
import { type Effect, effectsBetween, type Reader } from "@undercoat/core/pipeline/effects";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { plainName } from "@undercoat/core/sql/identifier";
import { tablesRead } from "../jobs/order.ts";
import { PipelineRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";

/** Loads of all pipelines that read a table of their warehouse: what they are made from, look up, or find a version in. */
async function readersOf(store: Store, now: number): Promise<Reader[]> {
  const readers: Reader[] = [];
  const insides = new Map<string, Promise<boolean>>();
  for (const row of await PipelineRow.findAll())
    for (const { definition } of resolvedAll(row.definition, now))
      for (const [load, entry] of Object.entries(definition.loads)) {
        const pair = JSON.stringify([entry.from.connection, definition.warehouse]);
        const inside = insides.get(pair) ?? sameDatabase(store, entry.from.connection, definition.warehouse);
        insides.set(pair, inside);
        const tables = await tablesRead(entry, await inside);
        const within = entry.proof?.within ? [plainName(entry.proof.within.dimension)] : [];
        for (const table of new Set([...tables, ...within])) readers.push({ pipeline: row.name, load, table });
      }
  const known = new Set<string>();
  return readers.filter((reader) => {
    const name = JSON.stringify(reader);
    if (known.has(name)) return false;
    known.add(name);
    return true;
  });
}

/** True where two connections lead to one database, by what they say; nobody is asked. */
async function sameDatabase(store: Store, one: string, other: string): Promise<boolean> {
  if (one === other) return true;
  const [a, b] = await Promise.all([one, other].map((name) => store.credentials(name).catch(() => null)));
  return (
    a?.settings.kind === "postgres" &&
    b?.settings.kind === "postgres" &&
    a.settings.host === b.settings.host &&
    a.settings.port === b.settings.port &&
    a.settings.database === b.settings.database
  );
}

/** What saving a definition over the saved one would bring about. */
export async function effectsOf(store: Store, name: string, definition: Pipeline): Promise<Effect[]> {
  const row = await PipelineRow.findByPk(name);
  if (!row) return [];
  const now = Date.now();
  const readers = (await readersOf(store, now)).filter(
    (reader) => reader.pipeline !== name || Object.hasOwn(definition.loads, reader.load),
  );
  const following = (await PipelineRow.findAll()).filter(
    (other) => other.name !== name && JSON.stringify(other.definition).includes(`"after":"${name}"`),
  );
  const sets = Object.keys(row.definition.values ?? {}).length !== Object.keys(definition.values ?? {}).length;
  return [
    ...effectsBetween(row.definition, definition, readers, now),
    ...(sets && following.length
      ? [
          {
            load: null,
            says: `${following.map((other) => other.title).join(", ")} run${following.length === 1 ? "s" : ""} after it`,
          },
        ]
      : []),
  ];
}
