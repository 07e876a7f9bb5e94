import type { KeptHistory, Lifeline } from "@undercoat/core/history/shape";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";
import type { LookBack } from "@undercoat/engine/warehouse/warehouse";
import type { Context } from "hono";
import { asks, type Env, requires, routes } from "../context.ts";
import { HttpProblem, notFound } from "../problem.ts";
import { RunRow } from "../store/models.ts";

/** Rows and keys that are shown at once. */
const shown = 200;

async function lookBack(c: Context<Env>): Promise<LookBack> {
  const { connection = "", target = "" } = c.req.param() as Record<string, string>;
  const look = await warehouseFor(await c.get("house").store.credentials(connection)).lookBack(target);
  if (!look)
    throw new HttpProblem(404, `${target} keeps no history`, {
      hint: "A load in mode history keeps one from its first run on.",
    });
  return look;
}

/** The text of the address that is needed. */
function needed<K extends string>(query: { [name in K]?: string }, name: K): string {
  const text = query[name];
  if (!text) throw new HttpProblem(422, `${name} is missing`);
  return text;
}

function keyOf(query: { key?: string }): string[] {
  try {
    const key: unknown = JSON.parse(needed(query, "key"));
    if (Array.isArray(key) && key.every((part) => typeof part === "string")) return key;
  } catch (error) {
    if (error instanceof HttpProblem) throw error;
  }
  throw new HttpProblem(422, "key is a list of texts, one for each column of the key");
}

/** Histories, looked back at. */
export const history = routes()
  .use(requires("viewer"))
  .get("/", async (c) => {
    const { store } = c.get("house");
    const names = await store.warehouses();
    const kept = await Promise.all(
      names.map(async (connection) =>
        store
          .credentials(connection)
          .then((credentials) => warehouseFor(credentials).histories())
          .catch((): KeptHistory[] => [])
          .then((list) => list.map((one) => ({ connection, ...one }))),
      ),
    );
    return c.json(kept.flat());
  })
  .get("/:connection/:target/lifeline", asks("key"), async (c) => {
    const key = keyOf(c.req.valid("query"));
    const found = await (await lookBack(c)).lifeline(key);
    if (!found) throw notFound(`key ${key.join(", ")} in ${c.req.param("target")}`);
    const made = [...Object.values(found.runs), ...found.corrections.flatMap(({ run }) => run ?? [])];
    const runs = await RunRow.findAll({ where: { uid: made }, attributes: ["id", "uid"] });
    const ids = new Map(runs.map((run) => [run.uid, run.id]));
    return c.json({
      ...found,
      runs: Object.fromEntries(
        Object.entries(found.runs).flatMap(([moment, uid]) => {
          const id = ids.get(uid);
          return id === undefined ? [] : [[moment, id]];
        }),
      ),
      corrections: found.corrections.map(({ at, run }) => ({ at, run: run === null ? null : (ids.get(run) ?? null) })),
    } satisfies Lifeline);
  })
  .get("/:connection/:target/as-of", asks("at"), async (c) =>
    c.json(await (await lookBack(c)).asOf(c.req.valid("query").at ?? null, shown)),
  )
  .get("/:connection/:target/between", asks("from", "to"), async (c) => {
    const query = c.req.valid("query");
    return c.json(await (await lookBack(c)).between(needed(query, "from"), needed(query, "to"), shown));
  });
