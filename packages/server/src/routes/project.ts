import { connectionsOf } from "@undercoat/core/parameter/resolve";
import { connectionDefaults, sameAddress } from "@undercoat/core/pipeline/address";
import { changesBetween, changeWords } from "@undercoat/core/pipeline/changes";
import { orderedPipeline } from "@undercoat/core/pipeline/ordered";
import type { ConnectionSettings, Pipeline } from "@undercoat/core/pipeline/pipeline";
import {
  locateAmong,
  type Project,
  type ProjectFile,
  readProjects,
  writeProject,
} from "@undercoat/core/pipeline/project";
import type { Problem } from "@undercoat/core/pipeline/schema";
import Joi from "joi";
import { asks, requires, routes, signedIn, takes } from "../context.ts";
import { savePipeline } from "../pipelines/save.ts";
import { HttpProblem, notFound } from "../problem.ts";
import { seal } from "../secret.ts";
import { ConnectionRow, PipelineRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { type ConnectionBook, definitionProblems } from "./definition.ts";

interface Change {
  what: "connection" | "pipeline";
  name: string;
  change: "created" | "updated" | "unchanged";
  /** of a pipeline that is updated, what about it */
  says?: string;
}

interface GivenConnection {
  name: string;
  settings: ConnectionSettings;
  /** undefined where the file gives none, so that the stored one stays */
  password: string | undefined;
}

/** The file's connections with their passwords, taken from the caller's environment where the file says so. */
function givenConnections(
  project: Project,
  environment: Record<string, string>,
): { given: GivenConnection[]; problems: Problem[] } {
  const problems: Problem[] = [];
  const given = Object.entries(project.connections ?? {}).map(([name, { password, ...rest }]) => {
    const settings = { ...connectionDefaults, ...rest };
    if (password === undefined || typeof password === "string") return { name, settings, password };
    if (environment[password.env] === undefined)
      problems.push({
        path: ["connections", name, "password"],
        message: `The environment variable ${password.env} is not set`,
      });
    return { name, settings, password: environment[password.env] };
  });
  return { given, problems };
}

/** The stored connections with the file's laid over them. */
async function laidOver(
  store: Store,
  given: GivenConnection[],
  definitions: readonly [string, Pipeline][],
): Promise<{ book: ConnectionBook; problems: Problem[]; changes: Change[] }> {
  const problems: Problem[] = [];
  const changes: Change[] = [];
  const known = new Map<string, { name: string; settings: ConnectionSettings; password: string }>();
  for (const { name, settings, password } of given) {
    const row = await ConnectionRow.findByPk(name);
    const stored = row ? await store.credentials(name) : null;
    known.set(name, { name, settings, password: password ?? stored?.password ?? "" });
    if (!row || !stored) {
      changes.push({ what: "connection", name, change: "created" });
      continue;
    }
    if (!sameAddress(row.settings, settings) && password === undefined && row.secret !== null)
      problems.push({
        path: ["connections", name],
        message: "The address, database, user or TLS changes, so the password must be given again",
      });
    const same =
      canonical(row.settings) === canonical(settings) && (password === undefined || password === stored.password);
    changes.push({ what: "connection", name, change: same ? "unchanged" : "updated" });
  }
  const book: ConnectionBook = {
    connectionNames: async () => [...(await store.connectionNames()), ...known.keys()],
    credentials: async (name) => known.get(name) ?? store.credentials(name),
    pipelines: async () => new Map([...(await store.pipelines()), ...definitions]),
  };
  return { book, problems, changes };
}

/** The project file: applied whole or not at all, and exported. */
export const project = routes()
  .use(requires("viewer"))
  .post(
    "/",
    requires("editor"),
    takes<{ text?: string; files?: ProjectFile[]; environment?: Record<string, string>; check?: boolean }>(
      Joi.object({
        check: Joi.boolean(),
        text: Joi.string().max(5_000_000),
        files: Joi.array()
          .items(
            Joi.object({
              file: Joi.string().max(1000).required(),
              text: Joi.string().allow("").max(5_000_000).required(),
            }),
          )
          .min(1)
          .max(1000),
        environment: Joi.object().pattern(Joi.string(), Joi.string().allow("")),
      }).xor("text", "files"),
    ),
    async (c) => {
      const { store, settings } = c.get("house");
      const asked = c.req.valid("json");
      const files = asked.files ?? [{ file: "", text: asked.text ?? "" }];
      const { project: read, problems } = readProjects(files);
      const refuse = (wrong: Problem[]) => {
        if (wrong.length)
          throw new HttpProblem(422, files.length > 1 ? "The files are wrong" : "The file is wrong", {
            problems: locateAmong(files, wrong),
          });
      };
      if (!read)
        throw new HttpProblem(422, files.length > 1 ? "The files are wrong" : "The file is wrong", { problems });
      const { given, problems: unset } = givenConnections(read, asked.environment ?? {});
      refuse(unset);
      const definitions = Object.entries(read.pipelines ?? {}).map(([name, entry]): [string, Pipeline] => [
        name,
        { ...entry, title: entry.title ?? name },
      ]);
      const { book, problems: misplaced, changes } = await laidOver(store, given, definitions);
      refuse(misplaced);
      if (signedIn(c).role !== "administrator") {
        const rows = new Map((await ConnectionRow.findAll()).map((row) => [row.name, row.settings.functions ?? []]));
        const listing = given.find(
          ({ name, settings: { functions = [] } }) =>
            JSON.stringify(functions) !== JSON.stringify(rows.get(name) ?? []),
        );
        if (listing)
          throw new HttpProblem(
            403,
            `Only an administrator lists the functions that queries may call (${listing.name})`,
          );
      }
      for (const [name, definition] of definitions)
        refuse(
          (await definitionProblems(book, name, definition)).map((problem) => ({
            ...problem,
            path: ["pipelines", name, ...problem.path],
          })),
        );
      await store.sequelize.transaction(async (transaction) => {
        for (const { name, settings: connection, password } of asked.check ? [] : given)
          await ConnectionRow.upsert(
            {
              name,
              settings: connection,
              ...(password === undefined ? {} : { secret: seal(settings.key, password, name) }),
            } as ConnectionRow,
            { transaction, ...(password === undefined ? { fields: ["name", "settings"] } : {}) },
          );
        for (const [name, definition] of definitions) {
          const row = await PipelineRow.findByPk(name, { transaction });
          const same =
            row !== null &&
            JSON.stringify(orderedPipeline(row.definition)) === JSON.stringify(orderedPipeline(definition));
          if (!same && !asked.check)
            await savePipeline(store, name, definition, {
              by: signedIn(c).name,
              transaction,
              before: row?.updatedAt ?? null,
            });
          changes.push({
            what: "pipeline",
            name,
            change: !row ? "created" : same ? "unchanged" : "updated",
            ...(row && !same ? { says: changeWords(changesBetween(row.definition, definition)) } : {}),
          });
        }
      });
      if (!asked.check) await store.tell({ kind: "changed", what: "connections" });
      return c.json({ changes });
    },
  )
  .get("/", asks("pipeline"), async (c) => {
    const { pipeline: only } = c.req.valid("query");
    const rows = await PipelineRow.findAll({ where: only ? { name: only } : {}, order: ["name"] });
    if (only && rows.length === 0) throw notFound(`pipeline ${only}`);
    const used = new Set(
      rows.flatMap((row) => {
        const { sources, warehouses } = connectionsOf(row.definition, Date.now());
        return [...sources, ...warehouses];
      }),
    );
    const kept = (await ConnectionRow.findAll({ order: ["name"] })).filter((row) => !only || used.has(row.name));
    return c.json({
      text: writeProject(
        Object.fromEntries(kept.map((row) => [row.name, row.settings])),
        Object.fromEntries(rows.map((row) => [row.name, row.definition])),
      ),
    });
  });

/** JSON with its names in order, so that two of one content are one text. */
function canonical(value: object): string {
  return JSON.stringify(Object.entries(value).sort(([a], [b]) => (a < b ? -1 : 1)));
}
