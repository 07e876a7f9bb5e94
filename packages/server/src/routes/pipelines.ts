import type { PipelineSummary, PipelineView, SuggestedLoad } from "@undercoat/core/api/api";
import { bareName, fromItem } from "@undercoat/core/dataset/item";
import {
  type Given,
  givensOf,
  parameterProblems,
  placedBefore,
  ResolveError,
  resolve,
} from "@undercoat/core/parameter/resolve";
import { freeName, slugOf } from "@undercoat/core/pipeline/names";
import type { Load, Pipeline, Schedule } from "@undercoat/core/pipeline/pipeline";
import { check, loadSchema, pipelineSchema, scheduleSchema, slug } from "@undercoat/core/pipeline/schema";
import { pipelineSentence } from "@undercoat/core/pipeline/sentence";
import { suggestLoad } from "@undercoat/core/pipeline/suggest";
import { PlanError } from "@undercoat/core/plan/error";
import type { RunKind, Scope } from "@undercoat/core/run/run";
import { nextTimes, schedulesOf, schedulesWords, scheduleWords } from "@undercoat/core/schedule/schedule";
import { parseTableName } from "@undercoat/core/sql/identifier";
import { sourceFor } from "@undercoat/engine/source/registry";
import type { Context } from "hono";
import Joi from "joi";
import { type Env, requires, routes, signedIn, takes } from "../context.ts";
import { type RunRequest, requestRun, requestRuns } from "../jobs/runs.ts";
import { standingOf, verdicts } from "../jobs/standing.ts";
import { savePipeline } from "../pipelines/save.ts";
import { HttpProblem, notFound, problemAt } from "../problem.ts";
import {
  BackfillRow,
  DraftRow,
  FavouriteRow,
  PipelineRow,
  RunRow,
  SliceRow,
  StandingRow,
  TimerRow,
  TroubleRow,
  type UserRow,
} from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { definitionProblems, refuseProblems } from "./definition.ts";
import { givenSchema } from "./given.ts";
import { housekeeping } from "./housekeeping.ts";
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

async function fullView(store: Store, user: UserRow, row: PipelineRow): Promise<PipelineView> {
  const last = (await lastRuns(store)).get(row.name);
  const now = Date.now();
  return {
    name: row.name,
    definition: row.definition,
    schedules: schedulesOf(row.definition).map((schedule) => ({
      words: scheduleWords(schedule),
      next: nextTimes(schedule, now, 10).map((at) => new Date(at).toISOString()),
    })),
    lastRun: last ? ((await summaries([last]))[0] ?? null) : null,
    updatedAt: row.updatedAt.toISOString(),
    savedBy: row.savedBy,
    version: row.version,
    favourite: (await FavouriteRow.count({ where: { userId: user.id, pipeline: row.name } })) > 0,
    sentence: pipelineSentence(row.definition),
  };
}

async function refuseWrong(store: Store, name: string, definition: Pipeline, only?: string[]): Promise<void> {
  refuseProblems(await definitionProblems(store, name, definition, only));
}

/** Loads whose definition differs between two versions; the others need no second look at their source. */
function changedLoads(before: Pipeline | null, after: Pipeline): string[] {
  if (!before || before.warehouse !== after.warehouse || declares(before) !== declares(after))
    return Object.keys(after.loads);
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
/** Looks under way of one person; the oldest ends where there are more. */
const mostLooks = 8;
const looks = new Map<number, Map<string, AbortController>>();

/** The signal of a person's look: it ends when the page leaves, when time is up, and when the same part of the page begins another. */
function looking(
  user: number,
  part: string,
  page: AbortSignal,
): { signal: AbortSignal; done(): void; isOvertaken(): boolean } {
  const own = new AbortController();
  const others = looks.get(user) ?? new Map<string, AbortController>();
  looks.set(user, others);
  const [oldest] = others.keys();
  for (const ended of [part, ...(others.size >= mostLooks && oldest !== undefined ? [oldest] : [])]) {
    others.get(ended)?.abort();
    others.delete(ended);
  }
  others.set(part, own);
  const done = () => void (others.get(part) === own && others.delete(part));
  const signal = AbortSignal.any([own.signal, page, AbortSignal.timeout(lookSeconds * 1000)]);
  return { signal, done, isOvertaken: () => own.signal.aborted };
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
  .route("/", housekeeping)
  .get("/", async (c) => {
    const rows = await PipelineRow.findAll({ order: ["title"] });
    const last = await lastRuns(c.get("house").store);
    const standings = await StandingRow.findAll();
    const proofs = await verdicts(c.get("house").store);
    const told = new Map((await summaries([...last.values()])).map((run) => [run.pipeline, run]));
    const favourites = new Set(
      (await FavouriteRow.findAll({ where: { userId: signedIn(c).id } })).map((row) => row.pipeline),
    );
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
      runs: schedulesWords(schedulesOf(row.definition)),
      labels: row.definition.labels ?? [],
      owner: row.definition.owner ?? null,
      favourite: favourites.has(row.name),
      sentence: pipelineSentence(row.definition),
      nextAt: row.nextAt?.toISOString() ?? null,
      lastRun: told.get(row.name) ?? null,
      standing: standingOf(row, standings, proofs),
    }));
    return c.json(list);
  })
  .get("/:name", async (c) =>
    c.json(await fullView(c.get("house").store, signedIn(c), await found(c.req.param("name")))),
  )
  .post(
    "/",
    requires("editor"),
    takes<{ name: string; definition: Pipeline }>(
      Joi.object({ name: slug.required(), definition: Joi.object().required() }),
    ),
    async (c) => {
      const { store } = c.get("house");
      const { name, definition } = c.req.valid("json");
      await refuseWrong(store, name, definition);
      return c.json(
        await fullView(
          store,
          signedIn(c),
          await savePipeline(store, name, definition, { by: signedIn(c).name, before: null }),
        ),
        201,
      );
    },
  )
  .put(
    "/:name",
    requires("editor"),
    takes<{ definition: Pipeline; updatedAt?: string; note?: string }>(
      Joi.object({
        definition: Joi.object().required(),
        updatedAt: Joi.string(),
        note: Joi.string().allow("").max(1000),
      }),
    ),
    async (c) => {
      const { store } = c.get("house");
      const row = await found(c.req.param("name"));
      const { definition, updatedAt, note } = c.req.valid("json");
      if (updatedAt && updatedAt !== row.updatedAt.toISOString())
        throw new HttpProblem(409, "Somebody else has changed this pipeline meanwhile", {
          hint: "Open it again; your change has not been saved.",
        });
      await refuseWrong(store, row.name, definition, changedLoads(row.definition, definition));
      return c.json(
        await fullView(
          store,
          signedIn(c),
          await savePipeline(store, row.name, definition, {
            by: signedIn(c).name,
            note: note?.trim() || null,
            before: row.updatedAt,
          }),
        ),
      );
    },
  )
  .put(
    "/:name/schedules",
    requires("editor"),
    takes<{ schedules: Schedule[] }>(Joi.object({ schedules: Joi.array().items(scheduleSchema).max(50).required() })),
    async (c) => {
      const { store } = c.get("house");
      const row = await found(c.req.param("name"));
      const { schedules } = c.req.valid("json");
      const { schedule: _, schedules: __, ...rest } = row.definition;
      const [only] = schedules;
      const definition = { ...rest, ...(schedules.length > 1 ? { schedules } : only ? { schedule: only } : {}) };
      await refuseWrong(store, row.name, definition, []);
      return c.json(
        await fullView(
          store,
          signedIn(c),
          await savePipeline(store, row.name, definition, { by: signedIn(c).name, before: row.updatedAt }),
        ),
      );
    },
  )
  .post("/times", takes<Schedule>(scheduleSchema), async (c) => {
    const schedule = c.req.valid("json");
    return c.json(nextTimes(schedule, Date.now(), 10).map((at) => new Date(at).toISOString()));
  })
  .delete("/:name", requires("editor"), async (c) => {
    const row = await found(c.req.param("name"));
    const active = await RunRow.count({ where: { pipeline: row.name, status: ["queued", "running", "unknown"] } });
    if (active) throw new HttpProblem(409, `${row.title} is running`, { hint: "Cancel the run first." });
    const where = { pipeline: row.name };
    await SliceRow.destroy({ where });
    await StandingRow.destroy({ where });
    await TimerRow.destroy({ where });
    await DraftRow.destroy({ where });
    await FavouriteRow.destroy({ where });
    await BackfillRow.destroy({ where });
    await TroubleRow.destroy({ where });
    await row.destroy();
    await c.get("house").store.tell({ kind: "changed", what: "pipelines" });
    return c.body(null, 204);
  })
  .post("/:name/run", requires("editor"), takes<RunAsked>(runRequest), async (c) => {
    const { store, queue } = c.get("house");
    const asked = c.req.valid("json");
    const name = c.req.param("name");
    if (asked.definition) await refuseWrong(store, name, asked.definition, asked.loads);
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
      const credentials = await store.credentials(connection);
      const { kind } = credentials.settings;
      const source = sourceFor(credentials);
      const snapshot = await source.snapshot("undercoat suggest");
      try {
        const suggested: SuggestedLoad[] = [];
        const [names, targets] = [new Set<string>(), new Set<string>()];
        for (const table of tables) {
          const item = parseTableName(table);
          const listed = fromItem(connection, kind, item);
          const from = (await source.completed?.(listed)) ?? listed;
          const dataset = await snapshot.describe(from);
          const bare = bareName(from, item);
          const name = freeName(slugOf(bare), names);
          const target = freeName(
            from.files === undefined && from.path === undefined ? bare : slugOf(bare).replaceAll("-", "_"),
            targets,
            "_",
          );
          names.add(name);
          targets.add(target);
          suggested.push({ name, ...suggestLoad(from, { schema, table: target }, dataset) });
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
    takes<{ pipeline: string; definition: Pipeline; load: string; limit?: number; given?: Given; look?: string }>(
      Joi.object({
        pipeline: Joi.string().required(),
        definition: Joi.object().required(),
        load: slug.required(),
        limit: Joi.number().integer().min(1).max(200),
        given: givenSchema,
        // which part of which page looks
        look: Joi.string().max(60),
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
      const { signal, done, isOvertaken } = looking(signedIn(c).id, asked.look ?? "", c.req.raw.signal);
      try {
        const mentioned = parameterProblems(template, now);
        if (mentioned.length) throw new ResolveError(mentioned);
        const { definition } = resolve(template, given, now);
        return c.json(
          await previewLoad(c.get("house").store, asked.pipeline, definition, asked.load, asked.limit ?? 30, signal),
        );
      } catch (error) {
        // Two looks of one page may arrive in another order than they were asked for; the page then asks again.
        if (isOvertaken()) throw new HttpProblem(409, "A newer look at the rows has ended this one");
        if (signal.aborted)
          throw new HttpProblem(503, "Looking at the rows took too long", {
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
