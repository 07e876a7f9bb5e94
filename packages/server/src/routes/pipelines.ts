import type { PipelineSummary, PipelineView, SuggestedLoad } from "@undercoat/core/api/api";
import {
  type Given,
  givensOf,
  parameterProblems,
  placedBefore,
  ResolveError,
  resolve,
} from "@undercoat/core/parameter/resolve";
import { freeName, slugOf } from "@undercoat/core/pipeline/names";
import type { Load, Pipeline } from "@undercoat/core/pipeline/pipeline";
import { check, givenValues, loadSchema, pipelineSchema, scheduleSchema, slug } from "@undercoat/core/pipeline/schema";
import { suggestLoad } from "@undercoat/core/pipeline/suggest";
import { PlanError } from "@undercoat/core/plan/error";
import type { RunKind, Scope } from "@undercoat/core/run/run";
import { nextTimes } from "@undercoat/core/schedule/schedule";
import { parseTableName } from "@undercoat/core/sql/identifier";
import { sourceFor } from "@undercoat/engine/source/registry";
import type { Context } from "hono";
import Joi from "joi";
import { Op, type Transaction, UniqueConstraintError } from "sequelize";
import { type Env, requires, routes, signedIn, takes } from "../context.ts";
import { type RunRequest, requestRun, requestRuns } from "../jobs/runs.ts";
import { standingOf, verdicts } from "../jobs/standing.ts";
import { HttpProblem, notFound, problemAt } from "../problem.ts";
import { PipelineRow, RunRow, SliceRow, StandingRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { definitionProblems } from "./definition.ts";
import { columnsOfBoth, previewLoad } from "./preview.ts";
import { runView, summaries } from "./runs.ts";

async function found(name: string): Promise<PipelineRow> {
  const row = await PipelineRow.findByPk(name);
  if (!row) throw notFound(`pipeline ${name}`);
  return row;
}

/** Each pipeline's latest run that loads. */
async function lastRuns(store: Store): Promise<Map<string, RunRow>> {
  const ids = await store.query<{ id: number }>(
    "SELECT r.id FROM pipelines p, LATERAL (SELECT id FROM runs WHERE pipeline = p.name AND kind = 'load' ORDER BY id DESC LIMIT 1) r",
  );
  const rows = await RunRow.findAll({ where: { id: ids.map((row) => row.id) } });
  return new Map(rows.map((row) => [row.pipeline, row]));
}

function view(row: PipelineRow, lastRun: PipelineView["lastRun"]): PipelineView {
  const schedule = row.definition.schedule;
  return {
    name: row.name,
    definition: row.definition,
    nextTimes: schedule ? nextTimes(schedule, Date.now(), 5).map((at) => new Date(at).toISOString()) : [],
    lastRun,
    updatedAt: row.updatedAt.toISOString(),
    savedBy: row.savedBy,
  };
}

async function fullView(store: Store, row: PipelineRow): Promise<PipelineView> {
  const last = (await lastRuns(store)).get(row.name);
  return view(row, last ? ((await summaries([last]))[0] ?? null) : null);
}

/** How a definition is written: over the version that was read (`before`), as a new one (null), or over whatever stands there. */
interface Saving {
  by: string | null;
  transaction?: Transaction;
  before?: Date | null;
}

/** Writes a definition and reckons its next time; loads it no longer has lose their marks. @throws HttpProblem 409 where another came first */
export async function savePipeline(
  store: Store,
  name: string,
  definition: Pipeline,
  { by, transaction, before }: Saving,
): Promise<PipelineRow> {
  const next = definition.schedule ? nextTimes(definition.schedule, Date.now())[0] : undefined;
  // Two saves in one millisecond are still two versions.
  const updatedAt = new Date(Math.max(Date.now(), (before?.getTime() ?? 0) + 1));
  const values = {
    name,
    title: definition.title,
    definition,
    nextAt: next === undefined ? null : new Date(next),
    savedBy: by,
    updatedAt,
  };
  if (before) {
    const [saved] = await PipelineRow.update(values, { where: { name, updatedAt: before }, transaction });
    if (saved === 0)
      throw new HttpProblem(409, "Somebody else has changed this pipeline meanwhile", {
        hint: "Open it again; your change has not been saved.",
      });
  } else if (before === null) {
    await PipelineRow.create(values, { transaction }).catch((error: unknown) => {
      throw error instanceof UniqueConstraintError
        ? new HttpProblem(409, `A pipeline ${name} exists already`, {
            problems: [{ path: ["name"], message: "This name is taken" }],
          })
        : error;
    });
  } else await PipelineRow.upsert(values, { transaction });
  const row = await PipelineRow.findByPk(name, { transaction, rejectOnEmpty: true });
  const gone = { where: { pipeline: name, load: { [Op.notIn]: Object.keys(definition.loads) } }, transaction };
  await SliceRow.destroy(gone);
  await StandingRow.destroy(gone);
  await store.tell({ kind: "changed", what: "pipelines" });
  return row;
}

async function refuseProblems(store: Store, name: string, definition: Pipeline, only?: string[]): Promise<void> {
  const problems = await definitionProblems(store, name, definition, only);
  if (problems.length)
    throw new HttpProblem(
      422,
      problems.length === 1 ? (problems[0]?.message ?? "") : `${problems.length} things are wrong`,
      { problems },
    );
}

/** Loads whose definition differs between two versions; the others need no second look at their source. */
function changedLoads(before: Pipeline | null, after: Pipeline): string[] {
  if (!before || before.warehouse !== after.warehouse) return Object.keys(after.loads);
  return Object.keys(after.loads).filter(
    (name) => JSON.stringify(before.loads[name]) !== JSON.stringify(after.loads[name]),
  );
}

/** True where a definition asks of one load what the saved one does. */
function sameLook(saved: Pipeline, asked: Pipeline, load: string): boolean {
  return (
    saved.warehouse === asked.warehouse &&
    declares(saved) === declares(asked) &&
    JSON.stringify(saved.loads[load]) === JSON.stringify(asked.loads[load])
  );
}

/** Viewers look at what has been saved; SQL of somebody's own is an editor's. `name`: of the pipeline; any where null. */
async function refuseUnsaved(c: Context<Env>, name: string | null, same: (saved: Pipeline) => boolean): Promise<void> {
  if (signedIn(c).role !== "viewer") return;
  const saved = await PipelineRow.findAll({ where: name === null ? {} : { name } });
  if (!saved.some((row) => same(row.definition)))
    throw new HttpProblem(403, "What has not been saved is an editor's to look at", {
      hint: "Ask for the role editor.",
    });
}

/** A look at rows ends after so long. */
const lookSeconds = 30;
const looks = new Map<number, AbortController>();

/** The signal of a person's look: it ends when the page leaves, when time is up, and when the same person begins another. */
function looking(user: number, page: AbortSignal): { signal: AbortSignal; done(): void } {
  looks.get(user)?.abort();
  const own = new AbortController();
  looks.set(user, own);
  const done = () => void (looks.get(user) === own && looks.delete(user));
  return { signal: AbortSignal.any([own.signal, page, AbortSignal.timeout(lookSeconds * 1000)]), done };
}

/** An end of an interval: a date, a moment or a number. What PostgreSQL would take besides (`infinity`, `now`) is no place in a table. */
const place = Joi.string()
  .max(64)
  .pattern(/^-?\d[\dTZ :.+-]*( BC)?$/)
  .messages({ "string.pattern.base": "{{#label}} is a date, a moment or a number" });

const scope = Joi.alternatives(
  Joi.object({ kind: Joi.string().valid("due").required() }),
  Joi.object({ kind: Joi.string().valid("whole").required() }),
  Joi.object({
    kind: Joi.string().valid("rejected").required(),
    ids: Joi.array()
      .items(Joi.string().pattern(/^\d{1,18}$/))
      .min(1)
      .max(100_000)
      .allow(null)
      .required(),
  }),
  Joi.object({
    kind: Joi.string().valid("interval").required(),
    from: place.required(),
    to: place.required(),
  }),
  Joi.object({ kind: Joi.string().valid("slice").required(), slice: Joi.string().max(64).allow(null).required() }),
  Joi.object({
    kind: Joi.string().valid("keys").required(),
    keys: Joi.array()
      .items(Joi.array().items(Joi.string().allow("").max(10_000)))
      .min(1)
      .max(10_000)
      .required(),
  }),
);

/** The values that something is looked at or run with. */
const givenSchema = Joi.object({
  set: Joi.string().max(63).allow(null),
  file: givenValues,
  values: givenValues,
  settings: Joi.object().pattern(/^[\s\S]{1,300}$/, Joi.string().min(1).max(300)),
});

/** What a pipeline is resolved with where nobody says: its defaults, or its first set where they are incomplete. */
const usualGiven = (pipeline: Pipeline): Given => givensOf(pipeline)[0] ?? {};

/** What a pipeline declares besides its loads. */
type Declared = Pick<Pipeline, "parameters" | "values" | "zone">;
const noneDeclared: Declared = { parameters: undefined, values: undefined, zone: undefined };
const declares = ({ parameters, values, zone }: Declared) =>
  JSON.stringify([parameters ?? {}, values ?? {}, zone ?? ""]);

/** Viewers look with what was saved; values of their own could name any table. */
const isSavedGiven = ({ file = {}, values = {}, settings = {} }: Given) =>
  [file, values, settings].every((given) => Object.keys(given).length === 0);

const runRequest = Joi.object({
  kind: Joi.string().valid("load", "prove", "repair", "rehearse").default("load"),
  loads: Joi.array().items(slug).min(1),
  scope: scope.default({ kind: "due" }),
  rows: Joi.boolean().default(false),
  limit: Joi.number().integer().min(1).max(1_000_000_000),
  reason: Joi.string().max(200),
  /** a rehearsal may be of a definition that is not saved yet */
  definition: Joi.object().when("kind", { is: "rehearse", otherwise: Joi.forbidden() }),
  given: givenSchema,
});

interface RunAsked {
  kind?: RunKind;
  loads?: string[];
  scope?: Scope;
  rows?: boolean;
  limit?: number;
  reason?: string;
  definition?: Pipeline;
  given?: Given;
}

/** What is asked of a pipeline, with what goes without saying. */
function requested(pipeline: string, asked: RunAsked, by: string): RunRequest {
  return {
    pipeline,
    kind: asked.kind ?? "load",
    scope: asked.scope ?? { kind: "due" },
    loads: asked.loads,
    wantsRows: asked.rows,
    rowLimit: asked.limit,
    definition: asked.definition,
    given: asked.given,
    reason: asked.reason ?? "by hand",
    requestedBy: by,
  };
}

export const pipelines = routes()
  .use(requires("viewer"))
  .get("/", async (c) => {
    const rows = await PipelineRow.findAll({ order: ["title"] });
    const last = await lastRuns(c.get("house").store);
    const standings = await StandingRow.findAll();
    const proofs = await verdicts(c.get("house").store);
    const told = new Map((await summaries([...last.values()])).map((run) => [run.pipeline, run]));
    const list: PipelineSummary[] = rows.map((row) => ({
      name: row.name,
      title: row.title,
      warehouse: row.definition.warehouse,
      loads: Object.entries(row.definition.loads).map(([name, load]) => ({
        name,
        table: load.into.table,
        mode: load.into.mode,
        connection: load.from.connection,
      })),
      schedule: row.definition.schedule ?? null,
      nextAt: row.nextAt?.toISOString() ?? null,
      lastRun: told.get(row.name) ?? null,
      standing: standingOf(row, standings, proofs),
    }));
    return c.json(list);
  })
  .get("/:name", async (c) => c.json(await fullView(c.get("house").store, await found(c.req.param("name")))))
  .post(
    "/",
    requires("editor"),
    takes<{ name: string; definition: Pipeline }>(
      Joi.object({ name: slug.required(), definition: Joi.object().required() }),
    ),
    async (c) => {
      const { store } = c.get("house");
      const { name, definition } = c.req.valid("json");
      await refuseProblems(store, name, definition);
      return c.json(
        await fullView(store, await savePipeline(store, name, definition, { by: signedIn(c).name, before: null })),
        201,
      );
    },
  )
  .put(
    "/:name",
    requires("editor"),
    takes<{ definition: Pipeline; updatedAt?: string }>(
      Joi.object({ definition: Joi.object().required(), updatedAt: Joi.string() }),
    ),
    async (c) => {
      const { store } = c.get("house");
      const row = await found(c.req.param("name"));
      const { definition, updatedAt } = c.req.valid("json");
      if (updatedAt && updatedAt !== row.updatedAt.toISOString())
        throw new HttpProblem(409, "Somebody else has changed this pipeline meanwhile", {
          hint: "Open it again; your change has not been saved.",
        });
      await refuseProblems(store, row.name, definition, changedLoads(row.definition, definition));
      return c.json(
        await fullView(
          store,
          await savePipeline(store, row.name, definition, { by: signedIn(c).name, before: row.updatedAt }),
        ),
      );
    },
  )
  .put(
    "/:name/schedule",
    requires("editor"),
    takes<{ schedule: Pipeline["schedule"] | null }>(Joi.object({ schedule: scheduleSchema.allow(null).required() })),
    async (c) => {
      const { store } = c.get("house");
      const row = await found(c.req.param("name"));
      const { schedule } = c.req.valid("json");
      const { schedule: _, ...rest } = row.definition;
      return c.json(
        await fullView(
          store,
          await savePipeline(store, row.name, schedule ? { ...rest, schedule } : rest, {
            by: signedIn(c).name,
            before: row.updatedAt,
          }),
        ),
      );
    },
  )
  .post("/times", takes<NonNullable<Pipeline["schedule"]>>(scheduleSchema), async (c) => {
    const schedule = c.req.valid("json");
    return c.json(nextTimes(schedule, Date.now(), 5).map((at) => new Date(at).toISOString()));
  })
  .delete("/:name", requires("editor"), async (c) => {
    const row = await found(c.req.param("name"));
    const active = await RunRow.count({ where: { pipeline: row.name, status: ["queued", "running", "unknown"] } });
    if (active) throw new HttpProblem(409, `${row.title} is running`, { hint: "Cancel the run first." });
    await SliceRow.destroy({ where: { pipeline: row.name } });
    await StandingRow.destroy({ where: { pipeline: row.name } });
    await row.destroy();
    await c.get("house").store.tell({ kind: "changed", what: "pipelines" });
    return c.body(null, 204);
  })
  .post("/:name/run", requires("editor"), takes<RunAsked>(runRequest), async (c) => {
    const { store, queue } = c.get("house");
    const asked = c.req.valid("json");
    const name = c.req.param("name");
    if (asked.definition) await refuseProblems(store, name, asked.definition, asked.loads);
    const run = await requestRun(store, queue, requested(name, asked, signedIn(c).name));
    return c.json(await runView(run), 201);
  })
  /** One run for each set of values, under one heading. */
  .post(
    "/:name/runs",
    requires("editor"),
    takes<Omit<RunAsked, "given" | "definition"> & { givens: Given[] }>(
      runRequest.keys({
        given: Joi.forbidden(),
        definition: Joi.forbidden(),
        givens: Joi.array().items(givenSchema).min(1).max(1000).required(),
      }),
    ),
    async (c) => {
      const { store, queue } = c.get("house");
      const { givens, ...asked } = c.req.valid("json");
      const runs = await requestRuns(store, queue, requested(c.req.param("name"), asked, signedIn(c).name), givens);
      return c.json(await summaries(runs), 201);
    },
  )
  /** A definition with values in place, as a run would take it. */
  .post(
    "/:name/resolve",
    takes<{ definition: Pipeline; given?: Given }>(
      Joi.object({ definition: Joi.object().required(), given: givenSchema }),
    ),
    async (c) => {
      const { definition, given } = c.req.valid("json");
      const { problems } = check<Pipeline>(pipelineSchema, definition);
      if (problems.length) throw new HttpProblem(422, problems[0]?.message ?? "The pipeline is wrong", { problems });
      return c.json(resolve(definition, given ?? usualGiven(definition), Date.now()));
    },
  )
  .post(
    "/suggest",
    requires("editor"),
    takes<{ connection: string; tables: string[]; schema: string }>(
      Joi.object({
        connection: slug.required(),
        tables: Joi.array().items(Joi.string()).min(1).max(500).required(),
        schema: Joi.string().min(1).max(63).required(),
      }),
    ),
    async (c) => {
      const { store } = c.get("house");
      const { connection, tables, schema } = c.req.valid("json");
      const snapshot = await sourceFor(await store.credentials(connection)).snapshot("undercoat suggest");
      try {
        const suggested: SuggestedLoad[] = [];
        const [names, targets] = [new Set<string>(), new Set<string>()];
        for (const table of tables) {
          const dataset = await snapshot.describe({ connection, table });
          const from = parseTableName(table);
          const name = freeName(slugOf(from.table), names);
          const target = freeName(from.table, targets, "_");
          names.add(name);
          targets.add(target);
          suggested.push({ name, ...suggestLoad(connection, from, { schema, table: target }, dataset) });
        }
        return c.json(suggested);
      } finally {
        await snapshot.close();
      }
    },
  )
  .post(
    "/columns",
    requires("viewer"),
    takes<{ from: Load["from"]; warehouse: string; table: string; declared?: Declared; given?: Given }>(
      Joi.object({
        from: Joi.object().required(),
        warehouse: Joi.string().required(),
        table: Joi.string().required(),
        declared: Joi.object({ parameters: Joi.object(), values: Joi.object(), zone: Joi.string() }),
        given: givenSchema,
      }),
    ),
    async (c) => {
      const asked = c.req.valid("json");
      await refuseUnsaved(
        c,
        null,
        (saved) =>
          isSavedGiven(asked.given ?? {}) &&
          saved.warehouse === asked.warehouse &&
          declares(saved) === declares({ ...saved, ...noneDeclared, ...asked.declared }) &&
          Object.values(saved.loads).some(
            (load) => load.into.table === asked.table && JSON.stringify(load.from) === JSON.stringify(asked.from),
          ),
      );
      const pipeline: Pipeline = {
        title: "columns",
        warehouse: asked.warehouse,
        ...asked.declared,
        loads: { load: { from: asked.from, into: { table: asked.table, mode: "replace" } } },
      };
      const { definition } = resolve(pipeline, asked.given ?? usualGiven(pipeline), Date.now());
      const { from, into } = definition.loads.load as Load;
      return c.json(await columnsOfBoth(c.get("house").store, from, definition.warehouse, into.table));
    },
  )
  .post(
    "/preview",
    requires("viewer"),
    takes<{ pipeline: string; definition: Pipeline; load: string; limit?: number; given?: Given }>(
      Joi.object({
        pipeline: Joi.string().required(),
        definition: Joi.object().required(),
        load: slug.required(),
        limit: Joi.number().integer().min(1).max(200),
        given: givenSchema,
      }),
    ),
    async (c) => {
      const asked = c.req.valid("json");
      const { loads = {} } = asked.definition;
      const load = Object.hasOwn(loads, asked.load) ? loads[asked.load] : undefined;
      const problem = load
        ? loadSchema.validate(load, { convert: false }).error?.message
        : `There is no load ${asked.load}`;
      if (!load || problem) throw new HttpProblem(422, problem ?? "The load is wrong");
      const { title = asked.pipeline, warehouse, zone, parameters, values } = asked.definition;
      const checked = check<Pipeline>(pipelineSchema, {
        title,
        warehouse,
        zone,
        parameters,
        values,
        loads: { [asked.load]: load },
      });
      if (checked.problems.length)
        throw new HttpProblem(422, checked.problems[0]?.message ?? "The pipeline is wrong", {
          problems: checked.problems,
        });
      const template = checked.value;
      const given = asked.given ?? usualGiven(template);
      const now = Date.now();
      await refuseUnsaved(
        c,
        asked.pipeline,
        (saved) => isSavedGiven(given) && sameLook(saved, asked.definition, asked.load),
      );
      const { signal, done } = looking(signedIn(c).id, c.req.raw.signal);
      try {
        const mentioned = parameterProblems(template, now);
        if (mentioned.length) throw new ResolveError(mentioned);
        const { definition } = resolve(template, given, now);
        return c.json(
          await previewLoad(c.get("house").store, asked.pipeline, definition, asked.load, asked.limit ?? 30, signal),
        );
      } catch (error) {
        if (signal.aborted)
          throw new HttpProblem(503, "Looking at the rows took too long, or was ended by a newer look", {
            hint: `A look ends after ${lookSeconds} seconds. A filter that an index serves makes it shorter.`,
          });
        throw error instanceof PlanError
          ? new HttpProblem(422, error.message, {
              problems: [placedBefore(template, given, now, problemAt(error, ["loads", asked.load]))],
            })
          : error;
      } finally {
        done();
      }
    },
  );
