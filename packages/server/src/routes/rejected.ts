import type { RejectedChoice, RejectedList, RejectedView } from "@undercoat/core/api/api";
import type { Given } from "@undercoat/core/parameter/resolve";
import { againTogether } from "@undercoat/core/run/rejected";
import type { RejectedFilter } from "@undercoat/core/sql/reject";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";
import { stream } from "hono/streaming";
import { hiddenFrom } from "../account/hidden.ts";
import { asks, numberOf, requires, routes, signedIn } from "../context.ts";
import { HttpProblem, notFound } from "../problem.ts";
import { PipelineRow, RunRow, type UserRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";

const page = 200;
/** Rows that one request may load again by their numbers. */
const mostIds = 100_000;

const filter = ["pipeline", "load", "target", "run", "reason", "text", "all"] as const;
type Filter = { [name in (typeof filter)[number]]?: string };

/** The filter that a query asks for, without what its visitor may not see. */
async function filterOf(user: UserRow, query: Filter): Promise<RejectedFilter> {
  const { pipeline, load, target, run, reason, text, all } = query;
  return {
    ...(pipeline ? { pipeline } : {}),
    ...(load ? { load } : {}),
    ...(target ? { target } : {}),
    ...(run ? { run: numberOf(query, "run") } : {}),
    ...(reason ? { reason } : {}),
    ...(text ? { text } : {}),
    all: all === "true",
    hidden: await hiddenFrom(user),
  };
}

/** The warehouses of the pipelines in question. @throws HttpProblem 404 where the pipeline is not known */
async function warehousesOf(store: Store, pipeline?: string): Promise<string[]> {
  if (pipeline && !(await PipelineRow.findByPk(pipeline))) throw notFound(`pipeline ${pipeline}`);
  return store.warehouses(pipeline);
}

/** The values that some runs were asked with, where those were not the defaults. */
async function givensOf(runs: number[]): Promise<Map<number, Given>> {
  const rows = await RunRow.findAll({ where: { id: [...new Set(runs)] }, attributes: ["id", "given"] });
  return new Map(rows.flatMap(({ id, given }) => (Object.keys(given).length ? [[id, given] as const] : [])));
}

/** Rows that loads turned away, from every warehouse that pipelines write into. One that can't be reached is told of by the others' silence in `unreached`. */
export const rejected = routes()
  .use(requires("viewer"))
  .get("/", asks(...filter, "offset"), async (c) => {
    const { store } = c.get("house");
    const wanted = await filterOf(signedIn(c), c.req.valid("query"));
    const offset = numberOf(c.req.valid("query"), "offset");
    const names = await warehousesOf(store, wanted.pipeline);
    const lists = await Promise.all(
      names.map(async (name) =>
        warehouseFor(await store.credentials(name))
          .rejected(wanted, page, offset)
          .catch(() => name),
      ),
    );
    const found = lists.filter((list): list is RejectedList => typeof list !== "string");
    const rows = found.flatMap((list) => list.rows);
    const counts = found.flatMap((list) => list.counts);
    const givens = await givensOf([...rows, ...counts].map(({ run }) => run));
    return c.json({
      rows,
      counts,
      givens: Object.fromEntries(givens),
      unreached: lists.filter((list) => typeof list === "string"),
    } satisfies RejectedView);
  })
  .get("/choices", asks(...filter), async (c) => {
    const { store } = c.get("house");
    const wanted = await filterOf(signedIn(c), c.req.valid("query"));
    const choices: RejectedChoice[] = [];
    for (const name of await warehousesOf(store, wanted.pipeline))
      choices.push(...(await warehouseFor(await store.credentials(name)).rejectedChoices(wanted, mostIds + 1)));
    if (choices.reduce((sum, { ids }) => sum + ids.length, 0) > mostIds)
      throw new HttpProblem(422, `More than ${mostIds} rows are meant`, {
        hint: "Narrow the filter, or load all rejected rows of a load again.",
      });
    const givens = await givensOf(choices.map(({ run }) => run));
    return c.json(againTogether(choices.map((choice) => ({ ...choice, given: givens.get(choice.run) ?? {} }))));
  })
  .get("/csv", asks(...filter), async (c) => {
    const { store } = c.get("house");
    const wanted = await filterOf(signedIn(c), c.req.valid("query"));
    const [name, another] = await warehousesOf(store, wanted.pipeline);
    if (!name) throw notFound("pipeline yet");
    if (another)
      throw new HttpProblem(422, `An export is of one warehouse; here are ${name} and ${another}`, {
        hint: "Choose a pipeline or a load.",
      });
    const rows = await warehouseFor(await store.credentials(name)).rejectedCsv(wanted);
    const of = [wanted.pipeline, wanted.load].flatMap((part) => part?.replace(/[^\w-]/g, "_") ?? []);
    c.header("Content-Type", "text/csv; charset=utf-8");
    c.header("Content-Disposition", `attachment; filename="${["rejected", ...of].join("-")}.csv"`);
    return stream(c, async (out) => {
      out.onAbort(() => void rows.destroy());
      for await (const chunk of rows) await out.write(chunk as Uint8Array);
    });
  });
