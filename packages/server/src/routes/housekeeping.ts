import type { DraftView, VersionView } from "@undercoat/core/api/api";
import { changesBetween, changeWords } from "@undercoat/core/pipeline/changes";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { slug } from "@undercoat/core/pipeline/schema";
import { formatTableName, parseTableName } from "@undercoat/core/sql/identifier";
import Joi from "joi";
import { Op } from "sequelize";
import { requires, routes, signedIn, takes } from "../context.ts";
import { moveLoad, renamePipeline } from "../pipelines/address.ts";
import { savePipeline } from "../pipelines/save.ts";
import { effectsOf } from "../pipelines/touch.ts";
import { HttpProblem, notFound } from "../problem.ts";
import { DraftRow, FavouriteRow, PipelineRow, UserRow, VersionRow } from "../store/models.ts";
import { definitionProblems, refuseProblems } from "./definition.ts";

async function found(name: string): Promise<PipelineRow> {
  const row = await PipelineRow.findByPk(name);
  if (!row) throw notFound(`pipeline ${name}`);
  return row;
}

async function versionOf(name: string, number: string): Promise<VersionRow> {
  const row = await VersionRow.findOne({ where: { pipeline: name, number: Number(number) || 0 } });
  if (!row) throw notFound(`version ${number} of ${name}`);
  return row;
}

/** Versions that one answer lists. */
const listed = 200;
/** Steps of a draft that are kept; the earliest go first. */
const keptSteps = 50;

/** What a pipeline's keepers do with it: its versions, drafts, names and loads. */
export const housekeeping = routes()
  .get("/:name/versions", async (c) => {
    const rows = await VersionRow.findAll({
      where: { pipeline: c.req.param("name") },
      order: [["number", "DESC"]],
      limit: listed + 1,
    });
    if (rows.length === 0) throw notFound(`pipeline ${c.req.param("name")}`);
    const list = rows.slice(0, listed).map(
      (row, at): VersionView => ({
        number: row.number,
        author: row.author,
        note: row.note,
        name: row.name,
        at: row.at.toISOString(),
        changes: rows[at + 1]
          ? changeWords(changesBetween((rows[at + 1] as VersionRow).definition, row.definition))
          : null,
      }),
    );
    return c.json(list);
  })
  .get("/:name/versions/:number", async (c) => {
    const { definition, modules } = await versionOf(c.req.param("name"), c.req.param("number"));
    // What a module is made of is for those who write pipelines.
    return c.json({ definition, modules: signedIn(c).role === "viewer" ? {} : (modules ?? {}) });
  })
  .patch(
    "/:name/versions/:number",
    requires("editor"),
    takes<{ name: string | null }>(Joi.object({ name: Joi.string().min(1).max(80).allow(null).required() })),
    async (c) => {
      const row = await versionOf(c.req.param("name"), c.req.param("number"));
      await row.update({ name: c.req.valid("json").name });
      return c.body(null, 204);
    },
  )
  .post("/:name/versions/:number/restore", requires("editor"), async (c) => {
    const { store } = c.get("house");
    const row = await found(c.req.param("name"));
    const { definition, number } = await versionOf(row.name, c.req.param("number"));
    refuseProblems(await definitionProblems(store, row.name, definition));
    const saved = await savePipeline(store, row.name, definition, {
      by: signedIn(c).name,
      note: `version ${number} again`,
      before: row.updatedAt,
    });
    return c.json({ version: saved.version });
  })
  /** What saving a definition would bring about. */
  .post(
    "/:name/effects",
    takes<{ definition: Pipeline }>(Joi.object({ definition: Joi.object().required() })),
    async (c) => c.json(await effectsOf(c.get("house").store, c.req.param("name"), c.req.valid("json").definition)),
  )
  .get("/:name/draft", async (c) => {
    const rows = await DraftRow.findAll({ where: { pipeline: c.req.param("name") } });
    const me = signedIn(c);
    const users = new Map(
      (await UserRow.findAll({ where: { id: rows.map((row) => row.userId) } })).map((user) => [user.id, user.name]),
    );
    const mine = rows.find((row) => row.userId === me.id);
    const view: DraftView = {
      mine: mine
        ? { origin: mine.origin, base: mine.base.toISOString(), steps: mine.steps, at: mine.at.toISOString() }
        : null,
      others: rows
        .filter((row) => row.userId !== me.id)
        .map((row) => ({ user: users.get(row.userId) ?? "", at: row.at.toISOString(), steps: row.steps.length })),
    };
    return c.json(view);
  })
  .put(
    "/:name/draft",
    requires("editor"),
    takes<{ origin: Pipeline; base: string; steps: Pipeline[] }>(
      Joi.object({
        origin: Joi.object().required(),
        base: Joi.string().isoDate().required(),
        steps: Joi.array().items(Joi.object()).min(1).max(500).required(),
      }),
    ),
    async (c) => {
      const { origin, base, steps } = c.req.valid("json");
      const row = await found(c.req.param("name"));
      await DraftRow.upsert({
        pipeline: row.name,
        userId: signedIn(c).id,
        origin,
        base: new Date(base),
        steps: steps.slice(-keptSteps),
        at: new Date(),
      });
      return c.body(null, 204);
    },
  )
  .delete("/:name/draft", requires("editor"), async (c) => {
    await DraftRow.destroy({ where: { pipeline: c.req.param("name"), userId: signedIn(c).id } });
    return c.body(null, 204);
  })
  /** A pipeline like another one, whose loads write into another schema. */
  .post(
    "/:name/duplicate",
    requires("editor"),
    takes<{ name: string; title: string; schema: string }>(
      Joi.object({
        name: slug.required(),
        title: Joi.string().min(1).max(120).required(),
        schema: Joi.string().min(1).max(63).required(),
      }),
    ),
    async (c) => {
      const { store } = c.get("house");
      const { definition } = await found(c.req.param("name"));
      const { name, title, schema } = c.req.valid("json");
      const { schedule: _, schedules: __, ...rest } = definition;
      const loads = Object.fromEntries(
        Object.entries(definition.loads).map(([load, entry]) => [
          load,
          {
            ...entry,
            into: { ...entry.into, table: formatTableName({ ...parseTableName(entry.into.table), schema }) },
          },
        ]),
      );
      const copy: Pipeline = { ...rest, title, loads };
      refuseProblems(await definitionProblems(store, name, copy));
      await savePipeline(store, name, copy, {
        by: signedIn(c).name,
        note: `made like ${c.req.param("name")}`,
        before: null,
      });
      return c.json({ name }, 201);
    },
  )
  .post(
    "/:name/rename",
    requires("editor"),
    takes<{ name: string }>(Joi.object({ name: slug.required() })),
    async (c) => {
      const row = await found(c.req.param("name"));
      const { name } = c.req.valid("json");
      if (name !== row.name) await renamePipeline(c.get("house").store, row.name, name);
      return c.json({ name });
    },
  )
  .post(
    "/:name/loads/:load/move",
    requires("editor"),
    takes<{ to: string }>(Joi.object({ to: slug.required() })),
    async (c) => {
      const { to } = c.req.valid("json");
      if (to === c.req.param("name")) throw new HttpProblem(422, "It is there already");
      await moveLoad(c.get("house").store, c.req.param("name"), c.req.param("load"), to, signedIn(c).name);
      return c.body(null, 204);
    },
  )
  .put(
    "/:name/favourite",
    takes<{ favourite: boolean }>(Joi.object({ favourite: Joi.boolean().required() })),
    async (c) => {
      const row = await found(c.req.param("name"));
      const mine = { userId: signedIn(c).id, pipeline: row.name };
      if (c.req.valid("json").favourite) await FavouriteRow.upsert(mine);
      else await FavouriteRow.destroy({ where: { ...mine, pipeline: { [Op.eq]: row.name } } });
      return c.body(null, 204);
    },
  );
