import type { RejectedList } from "@undercoat/core/api/api";
import type { RejectedFilter } from "@undercoat/core/sql/reject";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";
import type { Context } from "hono";
import { stream } from "hono/streaming";
import { type Env, numberOf, requires, routes } from "../context.ts";
import { HttpProblem } from "../problem.ts";
import { PipelineRow } from "../store/models.ts";

const page = 200;
/** Rows that one request may load again by their numbers. */
const mostIds = 100_000;

/** The filter that the address asks for. */
function filterOf(c: Context<Env>): RejectedFilter {
  const { pipeline, load, target, run, reason, text, all } = c.req.query();
  return {
    ...(pipeline ? { pipeline } : {}),
    ...(load ? { load } : {}),
    ...(target ? { target } : {}),
    ...(run ? { run: Number.parseInt(run, 10) || 0 } : {}),
    ...(reason ? { reason } : {}),
    ...(text ? { text } : {}),
    all: all === "true",
  };
}

/** The warehouses of the pipelines in question. */
async function warehousesOf(pipeline?: string): Promise<string[]> {
  const rows = await PipelineRow.findAll({ where: pipeline ? { name: pipeline } : {} });
  return [...new Set(rows.map((row) => row.definition.warehouse))];
}

/** Rows that loads turned away, from every warehouse that pipelines write into. One that can't be reached is told of by the others' silence in `unreached`. */
export const rejected = routes()
  .use(requires("viewer"))
  .get("/", async (c) => {
    const { store } = c.get("house");
    const filter = filterOf(c);
    const offset = numberOf(c, "offset");
    const names = await warehousesOf(filter.pipeline);
    const lists = await Promise.all(
      names.map(async (name) =>
        warehouseFor(await store.credentials(name))
          .rejected(filter, page, offset)
          .catch(() => name),
      ),
    );
    const found = lists.filter((list): list is RejectedList => typeof list !== "string");
    return c.json({
      rows: found.flatMap((list) => list.rows),
      counts: found.flatMap((list) => list.counts),
      unreached: lists.filter((list) => typeof list === "string"),
    });
  })
  .get("/ids", async (c) => {
    const { store } = c.get("house");
    const filter = filterOf(c);
    if (!filter.pipeline || !filter.load) throw new HttpProblem(422, "Name the pipeline and the load");
    const [name] = await warehousesOf(filter.pipeline);
    if (!name) throw new HttpProblem(404, `There is no pipeline ${filter.pipeline}`);
    const ids = await warehouseFor(await store.credentials(name)).rejectedIds(filter, mostIds + 1);
    if (ids.length > mostIds)
      throw new HttpProblem(422, `More than ${mostIds} rows are meant`, {
        hint: "Narrow the filter, or load all rejected rows again.",
      });
    return c.json(ids);
  })
  .get("/csv", async (c) => {
    const { store } = c.get("house");
    const filter = filterOf(c);
    if (!filter.pipeline || !filter.load)
      throw new HttpProblem(422, "An export is of one load: name its pipeline and load");
    const [name] = await warehousesOf(filter.pipeline);
    if (!name) throw new HttpProblem(404, `There is no pipeline ${filter.pipeline}`);
    const rows = await warehouseFor(await store.credentials(name)).rejectedCsv(filter);
    c.header("Content-Type", "text/csv; charset=utf-8");
    c.header(
      "Content-Disposition",
      `attachment; filename="rejected-${filter.pipeline.replace(/[^\w-]/g, "_")}-${filter.load.replace(/[^\w-]/g, "_")}.csv"`,
    );
    return stream(c, async (out) => {
      out.onAbort(() => void rows.destroy());
      for await (const chunk of rows) await out.write(chunk as Uint8Array);
    });
  });
