import type { Given } from "@undercoat/core/parameter/resolve";
import { slug } from "@undercoat/core/pipeline/schema";
import type { IntervalUnit } from "@undercoat/core/schedule/intervals";
import Joi from "joi";
import { asks, requires, routes, signedIn, takes } from "../context.ts";
import {
  advanceBackfill,
  type BackfillRequest,
  backfillView,
  beginBackfill,
  cancelBackfill,
  resumeBackfill,
} from "../jobs/backfill.ts";
import { cancelRun } from "../jobs/state.ts";
import { HttpProblem, notFound } from "../problem.ts";
import { BackfillRow } from "../store/models.ts";
import { givenSchema } from "./given.ts";

async function found(id: string): Promise<BackfillRow> {
  const row = await BackfillRow.findByPk(Number(id) || 0);
  if (!row) throw notFound(`backfill ${id}`);
  return row;
}

const listed = 5;
const asked = Joi.object({
  pipeline: slug.required(),
  loads: Joi.array().items(slug).min(1).allow(null).default(null),
  given: givenSchema.default({}),
  from: Joi.string().max(30).required(),
  to: Joi.string().max(30).required(),
  by: Joi.string().valid("day", "week", "month").default("day"),
  order: Joi.string().valid("newest", "oldest").default("newest"),
  parallel: Joi.number().integer().min(1).max(16).default(1),
});

interface Asked {
  pipeline: string;
  loads?: string[] | null;
  given?: Given;
  from: string;
  to: string;
  by?: IntervalUnit;
  order?: "newest" | "oldest";
  parallel?: number;
}

/** Earlier intervals, loaded slice by slice. */
export const backfills = routes()
  .use(requires("viewer"))
  .get("/", asks("pipeline"), async (c) => {
    const { pipeline } = c.req.valid("query");
    const rows = await BackfillRow.findAll({
      where: pipeline ? { pipeline } : {},
      order: [["id", "DESC"]],
      limit: listed,
    });
    return c.json(await Promise.all(rows.map(backfillView)));
  })
  .get("/:id", async (c) => c.json(await backfillView(await found(c.req.param("id")))))
  .post("/", requires("editor"), takes<Asked>(asked), async (c) => {
    const { store, queue } = c.get("house");
    const request = { ...(c.req.valid("json") as BackfillRequest), requestedBy: signedIn(c).name };
    return c.json(await backfillView(await beginBackfill(store, queue, request)), 201);
  })
  .post("/:id/pause", requires("editor"), async (c) => {
    const row = await found(c.req.param("id"));
    if (row.status !== "open") throw new HttpProblem(409, `Backfill ${row.id} is ${row.status}`);
    await row.update({ status: "paused" });
    return c.json(await backfillView(row));
  })
  /** Goes on, and tries again what has failed. */
  .post("/:id/resume", requires("editor"), async (c) => {
    const { store, queue } = c.get("house");
    const row = await found(c.req.param("id"));
    if (row.status === "finished") throw new HttpProblem(409, `Backfill ${row.id} is finished`);
    await resumeBackfill(store, row);
    await advanceBackfill(store, queue, row.id);
    return c.json(await backfillView(await found(c.req.param("id"))));
  })
  .post("/:id/cancel", requires("editor"), async (c) => {
    const { store } = c.get("house");
    const row = await found(c.req.param("id"));
    if (row.status === "finished" || row.status === "cancelled")
      throw new HttpProblem(409, `Backfill ${row.id} is ${row.status}`);
    for (const run of await cancelBackfill(store, row)) await cancelRun(store, run, signedIn(c).name);
    return c.json(await backfillView(row));
  });
