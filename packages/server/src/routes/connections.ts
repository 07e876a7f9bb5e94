import { Readable } from "node:stream";
import type { ReadableStream as NodeReadableStream } from "node:stream/web";
import type { ConnectionView } from "@undercoat/core/api/api";
import { kindOf, partedOf, sameAddress } from "@undercoat/core/connection/kinds";
import { connectionsOf } from "@undercoat/core/parameter/resolve";
import type { ConnectionSettings, From } from "@undercoat/core/pipeline/pipeline";
import type { GivenSecret } from "@undercoat/core/pipeline/project";
import { connectionSchema, fromSchema, slug } from "@undercoat/core/pipeline/schema";
import { formatTableName } from "@undercoat/core/sql/identifier";
import { failureOf, LoadFailure } from "@undercoat/engine/failure";
import { FileThere, TooLarge } from "@undercoat/engine/source/files/store";
import { sourceFor } from "@undercoat/engine/source/registry";
import type { Source } from "@undercoat/engine/source/source";
import type { Context } from "hono";
import { streamSSE } from "hono/streaming";
import Joi from "joi";
import { UniqueConstraintError } from "sequelize";
import { askConsent, asksConsent } from "../account/consent.ts";
import { hiddenOf, withoutHidden } from "../account/hidden.ts";
import { asks, type Env, numberOf, requires, routes, signedIn, takes } from "../context.ts";
import { HttpProblem, notFound } from "../problem.ts";
import { seal, unseal } from "../secret.ts";
import { ConnectionRow, PipelineRow } from "../store/models.ts";

type Given = ConnectionSettings & { password?: string; name?: string };

/** On a screen a password is typed in; naming an environment variable belongs to the project file. */
const given = (more: Joi.SchemaMap) => connectionSchema(Joi.string().allow("").max(1024), more);

export async function usersOf(name: string): Promise<ConnectionView["usedBy"]> {
  const pipelines = await PipelineRow.findAll({ order: ["title"] });
  return pipelines.flatMap((row) => {
    const uses: ConnectionView["usedBy"] = [];
    const { sources, warehouses } = connectionsOf(row.definition, Date.now());
    if (sources.has(name)) uses.push({ pipeline: row.name, title: row.title, as: "source" });
    if (warehouses.has(name)) uses.push({ pipeline: row.name, title: row.title, as: "warehouse" });
    return uses;
  });
}

const view = async ({ name, settings, secret, consent }: ConnectionRow): Promise<ConnectionView> => {
  const { title, warehouse, asks: asked, takes: taken, told, lists, place, manner } = kindOf(settings);
  return {
    name,
    ...settings,
    about: {
      title,
      place: place(settings),
      manner: manner(settings),
      warehouse,
      asks: asked,
      takes: taken,
      told: told(settings),
      lists,
    },
    hasPassword: secret !== null,
    consent: asksConsent(settings) ? (consent === null || consent === undefined ? "missing" : "given") : null,
    usedBy: await usersOf(name),
  };
};

async function found(name: string): Promise<ConnectionRow> {
  const row = await ConnectionRow.findByPk(name);
  if (!row) throw notFound(`connection ${name}`);
  return row;
}

function parts({ name: _, ...given }: Given): { settings: ConnectionSettings; password: string | undefined } {
  const { settings, password } = partedOf(given as ConnectionSettings & { password?: GivenSecret });
  // On a screen a password is typed in; naming an environment variable belongs to the project file.
  if (typeof password === "object")
    throw new HttpProblem(422, "Type the secret: only a project file names an environment variable");
  return { settings, password };
}

async function create(name: string, settings: ConnectionSettings, secret: string | null): Promise<ConnectionRow> {
  return ConnectionRow.create({ name, settings, secret }).catch((error: unknown) => {
    throw error instanceof UniqueConstraintError
      ? new HttpProblem(409, `A connection ${name} exists already`, {
          problems: [{ path: ["name"], message: "This name is taken" }],
        })
      : error;
  });
}

/** Which functions queries may call, which hosts a module may ask and what is written to is an administrator's to say. An editor who leaves a list of functions out keeps it. */
function refuseReserved(c: Context<Env>, settings: ConnectionSettings, before: ConnectionSettings | undefined): void {
  if (settings.kind === "postgres" && before?.kind === "postgres") settings.functions ??= before.functions;
  const reserved = (of: ConnectionSettings | undefined) => JSON.stringify(of ? kindOf(of).reserved(of) : []);
  if (reserved(settings) !== reserved(before) && signedIn(c).role !== "administrator")
    throw new HttpProblem(
      403,
      settings.kind === "module"
        ? "Only an administrator lists the hosts that a module may ask"
        : "Only an administrator lists the functions that queries may call, and lets loads write marks",
    );
}

/** The source that the address names. */
async function sourceOf(c: Context<Env>): Promise<Source> {
  const { name } = await found(c.req.param("name") ?? "");
  return sourceFor(await c.get("house").store.credentials(name));
}

/** What a source says no to, in its words. */
function refused(error: unknown): never {
  if (!(error instanceof LoadFailure)) throw error;
  throw new HttpProblem(422, error.failure.message, { detail: error.failure.detail, hint: error.failure.hint });
}

/** A table by its two names of the query. */
const tableOf = ({ schema = "", table = "" }: { schema?: string; table?: string }) => ({ schema, table });

export const connections = routes()
  .use(requires("viewer"))
  .get("/", async (c) => c.json(await Promise.all((await ConnectionRow.findAll({ order: ["name"] })).map(view))))
  .get("/:name", async (c) => c.json(await view(await found(c.req.param("name")))))
  .post("/", requires("editor"), takes<Given & { name: string }>(given({ name: slug.required() })), async (c) => {
    const { store, settings: house } = c.get("house");
    const asked = c.req.valid("json");
    const { settings, password } = parts(asked);
    refuseReserved(c, settings, undefined);
    const row = await create(
      asked.name,
      settings,
      password === undefined ? null : seal(house.key, password, asked.name),
    );
    await store.tell({ kind: "changed", what: "connections" });
    return c.json(await view(row), 201);
  })
  .put("/:name", requires("editor"), takes<Given>(given({ name: slug })), async (c) => {
    const { store, settings: house } = c.get("house");
    const row = await found(c.req.param("name"));
    const { settings, password } = parts(c.req.valid("json"));
    // Another place must not receive the stored password by mere editing.
    if (!sameAddress(settings, row.settings) && password === undefined && row.secret !== null)
      throw new HttpProblem(422, "Type the password again: where it goes has changed", {
        problems: [{ path: ["password"], message: "Type it again: the address, database, user or TLS has changed" }],
      });
    refuseReserved(c, settings, row.settings);
    // Consent was given to what it was, where it was.
    const moved = !sameAddress(settings, row.settings);
    await row.update({
      settings,
      ...(moved ? { consent: null } : {}),
      ...(password === undefined ? {} : { secret: seal(house.key, password, row.name) }),
    });
    await store.tell({ kind: "changed", what: "connections" });
    return c.json(await view(row));
  })
  .post(
    "/:name/duplicate",
    requires("editor"),
    takes<{ name: string }>(Joi.object({ name: slug.required() })),
    async (c) => {
      const { store, settings: house } = c.get("house");
      const row = await found(c.req.param("name"));
      const { name } = c.req.valid("json");
      const secret = row.secret === null ? null : seal(house.key, unseal(house.key, row.secret, row.name), name);
      const copy = await create(name, row.settings, secret);
      await store.tell({ kind: "changed", what: "connections" });
      return c.json(await view(copy), 201);
    },
  )
  .delete("/:name", requires("editor"), async (c) => {
    const row = await found(c.req.param("name"));
    const used = await usersOf(row.name);
    if (used.length)
      throw new HttpProblem(409, `${row.name} is in use by ${[...new Set(used.map((use) => use.title))].join(", ")}`, {
        hint: "Change or delete those pipelines first.",
      });
    await row.destroy();
    await c.get("house").store.tell({ kind: "changed", what: "connections" });
    return c.body(null, 204);
  })
  /** Checks settings step by step as they stand in the form; an absent password means the stored one. */
  .post(
    "/check",
    requires("editor"),
    takes<Given & { warehouse: boolean }>(given({ name: slug, warehouse: Joi.boolean().default(true) })),
    async (c) => {
      const asked = c.req.valid("json");
      const { warehouse, ...rest } = asked;
      const { settings, password } = parts(rest);
      const stored = asked.name ? await ConnectionRow.findByPk(asked.name) : null;
      const known =
        password === undefined && stored?.secret && sameAddress(stored.settings, settings)
          ? unseal(c.get("house").settings.key, stored.secret, stored.name)
          : "";
      const source = sourceFor({ name: asked.name ?? "The server", settings, password: password ?? known });
      return streamSSE(c, async (stream) => {
        let telling: Promise<void> = Promise.resolve();
        const passed = await source.check(warehouse, (step) => {
          telling = telling.then(() => stream.writeSSE({ event: "step", data: JSON.stringify(step) }));
        });
        await telling;
        await stream.writeSSE({ event: "done", data: JSON.stringify({ passed }) });
      });
    },
  )
  /** How an application's description says that it is signed in to, as the form's address stands. */
  .post("/sign-in", requires("editor"), takes<Given>(given({ name: slug })), async (c) => {
    const { name, ...rest } = c.req.valid("json");
    const { settings } = parts({ name, ...rest });
    const source = sourceFor({ name: name ?? "The application", settings, password: "" });
    if (!source.signIn) throw new HttpProblem(422, "This kind of connection has no description");
    return c.json(await source.signIn().catch(refused));
  })
  /** Where somebody is sent who is to consent that an application is read in their name. */
  .post("/:name/consent", requires("editor"), async (c) => {
    const row = await found(c.req.param("name"));
    const { settings } = c.get("house");
    const at = settings.address ?? new URL(c.req.url).origin;
    return c.json({ address: await askConsent(settings.key, row, signedIn(c).id, `${at}/api/consent`) });
  })
  /** Looks at an answer of an application for where its records are and how its pages follow each other, and tries it. */
  .post(
    "/:name/propose",
    requires("editor"),
    takes<{ from: From }>(Joi.object({ from: fromSchema.required() })),
    async (c) => {
      const source = await sourceOf(c);
      if (!source.propose) throw new HttpProblem(422, `${c.req.param("name")} is not asked by address`);
      const proposal = await source.propose(c.req.valid("json").from, c.req.raw.signal).catch(refused);
      return c.json(proposal);
    },
  )
  /** The beginning of a file as it stands, beside what becomes of it as it is said to be written. */
  .post(
    "/:name/glance",
    requires("editor"),
    takes<{ from: From }>(Joi.object({ from: fromSchema.required() })),
    async (c) => {
      const source = await sourceOf(c);
      if (!source.glance) throw new HttpProblem(422, `${c.req.param("name")} has no files to look at`);
      const glance = await source.glance(c.req.valid("json").from).catch(refused);
      return c.json(glance);
    },
  )
  /** Reads all of what a load names, for the types that every value fits; tells how far it is. */
  .post(
    "/:name/scan",
    requires("editor"),
    takes<{ from: From }>(Joi.object({ from: fromSchema.required() })),
    async (c) => {
      const source = await sourceOf(c);
      const { scan } = source;
      if (!scan) throw new HttpProblem(422, `${c.req.param("name")} says itself what its columns are`);
      const { from } = c.req.valid("json");
      return streamSSE(c, async (stream) => {
        let telling: Promise<void> = Promise.resolve();
        const tell = (event: string, data: object) => {
          telling = telling.then(() => stream.writeSSE({ event, data: JSON.stringify(data) }));
        };
        try {
          tell("done", await scan.call(source, from, (progress) => tell("progress", progress), c.req.raw.signal));
        } catch (error) {
          tell("failed", failureOf(error));
        }
        await telling;
      });
    },
  )
  /** Takes a file as it comes, under the name of the query; `replace` for one that is there. */
  .put("/:name/files", requires("editor"), asks("file", "replace"), async (c) => {
    const { file = "", replace } = c.req.valid("query");
    const { store, settings } = c.get("house");
    const source = await sourceOf(c);
    if (!source.receive) throw new HttpProblem(422, `${c.req.param("name")} takes no files`);
    const stored = await source
      .receive(file, Readable.fromWeb(c.req.raw.body as NodeReadableStream<Uint8Array>), {
        most: settings.fileLimit,
        replace: replace === "yes",
        signal: c.req.raw.signal,
      })
      .catch((error: unknown) => {
        if (!(error instanceof LoadFailure)) throw error;
        const status = error instanceof TooLarge ? 413 : error instanceof FileThere ? 409 : 422;
        throw new HttpProblem(status, error.failure.message, { hint: error.failure.hint });
      });
    await store.tell({ kind: "changed", what: "connections" });
    return c.json(stored, 201);
  })
  .get("/:name/datasets", async (c) => c.json(await (await sourceOf(c)).datasets()))
  .get("/:name/dataset", asks("schema", "table"), async (c) =>
    c.json(await (await sourceOf(c)).dataset(tableOf(c.req.valid("query")))),
  )
  .get("/:name/rows", asks("schema", "table", "limit"), async (c) => {
    const query = c.req.valid("query");
    const table = tableOf(query);
    const rows = await (await sourceOf(c)).firstRows(table, Math.min(numberOf(query, "limit", 100), 200));
    const hidden = await hiddenOf(signedIn(c), c.req.param("name"), formatTableName(table));
    return c.json(rows.map((row) => withoutHidden(row, hidden)));
  })
  .get("/:name/time", asks("schema", "table"), async (c) =>
    c.json(await (await sourceOf(c)).timeColumns(tableOf(c.req.valid("query")))),
  );
