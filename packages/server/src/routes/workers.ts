import Joi from "joi";
import { requires, routes, takes } from "../context.ts";
import { mostParallel, workersView } from "../jobs/workers.ts";
import { notFound } from "../problem.ts";
import { WorkerRow } from "../store/models.ts";

/** Who takes runs, and what may be used at a time. */
export const workers = routes()
  .use(requires("viewer"))
  .get("/", async (c) => c.json(await workersView(c.get("house").store)))
  /** A worker takes no more runs, or takes them again, or other numbers of them at a time; it hears of it with its next beat. */
  .put(
    "/:name",
    requires("administrator"),
    takes<{ parallel?: number; resting?: boolean }>(
      Joi.object({
        parallel: Joi.number().integer().min(1).max(mostParallel),
        resting: Joi.boolean(),
      }).min(1),
    ),
    async (c) => {
      const { store } = c.get("house");
      const row = await WorkerRow.findByPk(c.req.param("name"));
      if (!row) throw notFound(`worker ${c.req.param("name")}`);
      await row.update(c.req.valid("json"));
      await store.tell({ kind: "changed", what: "workers" });
      return c.json(await workersView(store));
    },
  );
