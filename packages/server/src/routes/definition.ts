import { kindOf } from "@undercoat/core/connection/kinds";
import {
  type Given,
  givensOf,
  parameterProblems,
  placedBefore,
  placesOf,
  ResolveError,
  resolve,
} from "@undercoat/core/parameter/resolve";
import { findRing } from "@undercoat/core/pipeline/order";
import { type From, type MarkForm, type Pipeline, sweeps } from "@undercoat/core/pipeline/pipeline";
import { check, type Problem, pipelineSchema } from "@undercoat/core/pipeline/schema";
import { PlanError } from "@undercoat/core/plan/error";
import { scheduledGivens, schedulesOf } from "@undercoat/core/schedule/schedule";
import type { Credentials } from "@undercoat/engine/connection/credentials";
import { failureOf, LoadFailure, NoTable, NothingThere } from "@undercoat/engine/failure";
import { planFor } from "@undercoat/engine/load/planning";
import { sourceFor } from "@undercoat/engine/source/registry";
import type { Snapshot } from "@undercoat/engine/source/source";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";
import type { WarehouseSnapshot } from "@undercoat/engine/warehouse/warehouse";
import { loadOrder } from "../jobs/order.ts";
import { HttpProblem, problemAt } from "../problem.ts";
import { type Target, targetsOf } from "../store/store.ts";

/** Where a definition's connections are looked up: the store, or a project file laid over it. */
export interface ConnectionBook {
  connectionNames(): Promise<string[]>;
  credentials(name: string): Promise<Credentials>;
  /** all pipelines by name */
  pipelines(): Promise<Map<string, Pipeline>>;
}

/**
 * Everything that is wrong with a definition: its form, how it mentions parameters, the connections it names, two loads with
 * one target, and for each load whether its source has what it asks for, with the defaults and with every set of values. A
 * source that can't be reached can't be asked; its loads are checked when they run.
 */
export async function definitionProblems(
  book: ConnectionBook,
  name: string,
  definition: Pipeline,
  only?: string[],
): Promise<Problem[]> {
  const { problems } = check<Pipeline>(pipelineSchema, definition);
  if (problems.length) return problems;
  const now = Date.now();
  const mentioned = parameterProblems(definition, now);
  if (mentioned.length) return mentioned;
  const known = new Set(await book.connectionNames());
  const pipelines = new Map(await book.pipelines()).set(name, definition);
  const wrong = scheduleProblems(name, pipelines);
  if (wrong.length) return wrong;
  const written = [...pipelines].flatMap(([pipeline, entry]) => targetsOf(pipeline, entry));
  const seen = new Set<string>();
  const clashes = targetClashes(name, definition, written, now);
  if (clashes.length) return clashes;
  const desk = new Desk(book);
  try {
    for (const given of givensOf(definition)) {
      const found = await resolvedProblems({ book, desk, known, written, seen }, name, definition, given, only, now);
      if (found.length) return found;
    }
  } finally {
    await desk.close();
  }
  return [];
}

/** @throws HttpProblem 422 with every problem, where there are any */
export function refuseProblems(problems: Problem[]): void {
  if (problems.length)
    throw new HttpProblem(
      422,
      problems.length === 1 ? (problems[0]?.message ?? "") : `${problems.length} things are wrong`,
      { problems },
    );
}

/** Schedules that could never start anything: after a pipeline that is not there, or that in the end waits for this one. */
function scheduleProblems(name: string, pipelines: ReadonlyMap<string, Pipeline>): Problem[] {
  const definition = pipelines.get(name);
  if (!definition) return [];
  const follows = new Map(
    [...pipelines].map(([pipeline, entry]) => [
      pipeline,
      schedulesOf(entry).flatMap((schedule) => ("after" in schedule ? [schedule.after] : [])),
    ]),
  );
  const path = definition.schedules ? ["schedules"] : ["schedule"];
  const listed = schedulesOf(definition);
  const unknown = listed
    .flatMap((schedule) => [...("after" in schedule ? [schedule.after] : []), ...(schedule.apart ?? [])])
    .find((other) => !pipelines.has(other));
  if (unknown !== undefined) return [{ path, message: `There is no pipeline ${unknown}` }];
  const ring = findRing(follows);
  if (ring?.includes(name))
    return [{ path, message: `${ring.join(", ")} run after each other, so they would never come to an end` }];
  if (listed.some((schedule) => schedule.do === "sweep") && !Object.values(definition.loads).some(sweeps))
    return [{ path, message: "No load of the pipeline looks for rows gone from the source; say so in its Into" }];
  for (const given of listed.filter(({ set }) => set).flatMap(scheduledGivens))
    try {
      resolve(definition, given, Date.now());
    } catch (error) {
      if (!(error instanceof ResolveError)) throw error;
      return [{ path, message: error.message }];
    }
  return [];
}

/** Loads that would write one table, or one part of one, without knowing of each other. */
function targetClashes(name: string, definition: Pipeline, written: readonly Target[], now: number): Problem[] {
  const places = placesOf(definition, now);
  const found: Problem[] = [];
  const told = (load: string, message: string) => {
    const path = ["loads", load, "into", "table"];
    if (!found.some((problem) => problem.path.join() === path.join())) found.push({ path, message });
  };
  /** two that share a table must each own a part of it */
  const apart = (a: { part: string | null }, b: { part: string | null }) =>
    a.part !== null && b.part !== null && a.part !== b.part;
  places.forEach((place, at) => {
    for (const other of places.slice(0, at)) {
      if (other.warehouse !== place.warehouse || other.table !== place.table || apart(place, other)) continue;
      // A set that says what the defaults say is the defaults.
      if (other.load === place.load && (other.set === null || other.set === place.set)) continue;
      told(
        place.load,
        other.load === place.load
          ? `${place.table} is written with the values ${other.set} and with ${place.set}; put a parameter into its name, or give the load a part`
          : `${place.table} is written by ${other.load} too; one table has one load, or a part for each`,
      );
    }
    const elsewhere = written.find(
      (entry) =>
        entry.pipeline !== name &&
        entry.warehouse === place.warehouse &&
        entry.table === place.table &&
        !apart(entry, place),
    );
    if (elsewhere)
      told(
        place.load,
        `${place.table} is written by the pipeline ${elsewhere.pipeline} too; one table has one load, or a part for each`,
      );
  });
  return found;
}

/** What checks of several sets of values share: looks at sources, and which loads have been looked at as they are. */
interface Looking {
  book: ConnectionBook;
  desk: Desk;
  known: ReadonlySet<string>;
  written: readonly Target[];
  seen: Set<string>;
}

async function resolvedProblems(
  { book, desk, known, written, seen }: Looking,
  name: string,
  pipeline: Pipeline,
  given: Given,
  only: string[] | undefined,
  now: number,
): Promise<Problem[]> {
  const whose = given.set == null ? "" : `With the values ${given.set}: `;
  let definition: Pipeline;
  try {
    ({ definition } = resolve(pipeline, given, now));
  } catch (error) {
    if (!(error instanceof ResolveError)) throw error;
    // What has no value yet is given one when it runs.
    return error.problems
      .filter(({ path }) => path[0] !== "parameters")
      .map((one) => ({ ...one, message: whose + one.message }));
  }
  const found: Problem[] = [];
  if (!known.has(definition.warehouse))
    found.push({ path: ["warehouse"], message: `${whose}There is no connection ${definition.warehouse}` });
  for (const [load, { from }] of Object.entries(definition.loads))
    if (!known.has(from.connection))
      found.push({
        path: ["loads", load, "from", "connection"],
        message: `${whose}There is no connection ${from.connection}`,
      });
  for (const [load, { from, report }] of Object.entries(definition.loads))
    if (report)
      found.push(
        ...(await reportProblems(book, known, load, from, report)).map((one) => ({
          ...one,
          message: whose + one.message,
        })),
      );
  if (found.length) return found;
  const waits = await loadOrder(definition, (connection) => book.credentials(connection));
  const ring = findRing(waits);
  if (ring)
    return [
      {
        path: ["loads", ring[0] ?? "", "from"],
        message: `${ring.join(", ")} read what each other write, so none of them could be the first`,
      },
    ];
  const toCome = new Set([
    ...written.map((entry) => entry.table),
    ...Object.values(definition.loads).map(({ into }) => into.table),
  ]);
  for (const [load, entry] of Object.entries(definition.loads)) {
    const looked = JSON.stringify([definition.warehouse, load, entry]);
    if ((only && !only.includes(load)) || seen.has(looked)) continue;
    seen.add(looked);
    const problem = await loadProblem(desk, name, definition, load, entry.from.connection, toCome);
    if (!problem) continue;
    const placed = placedBefore(pipeline, given, now, { ...problem, path: ["loads", load, ...problem.path] });
    found.push({ ...placed, message: whose + placed.message });
  }
  return found;
}

/** What is wrong with whom a load tells of rows that were turned away. */
async function reportProblems(
  book: ConnectionBook,
  known: ReadonlySet<string>,
  load: string,
  { connection: source }: From,
  { connection = source, sql }: MarkForm,
): Promise<Problem[]> {
  const path = ["loads", load, "report", "connection"];
  if (!known.has(connection)) return [{ path, message: `There is no connection ${connection}` }];
  const { settings } = await book.credentials(connection);
  const { title, told: toldOf, asks } = kindOf(settings);
  const told = toldOf(settings);
  const asked = sql === undefined ? "requests" : "statements";
  if (told === asked) return [];
  const takes = { requests: "requests: say a path", statements: "SQL statements: say sql" };
  return [
    {
      path,
      message: `${connection} (${title}) takes ${told === null ? (asks ? "no marks of rows: an administrator lets it be written to, on its page" : "no marks of rows") : takes[told]}`,
    },
  ];
}

/** Snapshots of sources and warehouses, one a connection for as many questions as are asked; null where one can't be reached. */
class Desk {
  private readonly sources = new Map<string, Promise<Snapshot | null>>();
  private readonly warehouses = new Map<string, Promise<WarehouseSnapshot | null>>();

  constructor(private readonly book: ConnectionBook) {}

  private opened<T>(
    kept: Map<string, Promise<T | null>>,
    name: string,
    open: (credentials: Credentials) => Promise<T>,
  ): Promise<T | null> {
    const found =
      kept.get(name) ??
      this.book
        .credentials(name)
        .then(open)
        .catch(() => null);
    kept.set(name, found);
    return found;
  }

  source(name: string): Promise<Snapshot | null> {
    return this.opened(this.sources, name, (credentials) => sourceFor(credentials).snapshot("undercoat check"));
  }

  warehouse(name: string): Promise<WarehouseSnapshot | null> {
    return this.opened(this.warehouses, name, (credentials) => warehouseFor(credentials).snapshot("undercoat check"));
  }

  /** Ends all snapshots; a statement that failed leaves its own unusable. */
  async close(): Promise<void> {
    const all = await Promise.all([...this.sources.values(), ...this.warehouses.values()]);
    this.sources.clear();
    this.warehouses.clear();
    await Promise.all(all.map((snapshot) => snapshot?.close()));
  }
}

/** The table that a statement named and the server lacks; null for any other error. */
function absentTable(error: unknown): string | null {
  const told = ((error as { cause?: unknown }).cause ?? error) as { code?: string; message?: string };
  return told.code === "42P01" ? (/relation "(.+)" does not exist/.exec(told.message ?? "")?.[1] ?? null) : null;
}

async function loadProblem(
  desk: Desk,
  name: string,
  definition: Pipeline,
  load: string,
  connection: string,
  toCome: ReadonlySet<string>,
): Promise<Problem | null> {
  const from = definition.loads[load]?.from;
  if (!from) return null;
  const [source, warehouse] = await Promise.all([desk.source(connection), desk.warehouse(definition.warehouse)]);
  if (!source) return null;
  try {
    const { plan } = await planFor({ pipelineName: name, pipeline: definition, load }, { source, warehouse });
    await source.answers(plan)?.preview(plan, { kind: "all" }, 0);
    return null;
  } catch (error) {
    await desk.close();
    // What another load is yet to make can't be looked at before it has.
    if (error instanceof NothingThere) return null;
    const absent = absentTable(error) ?? (error instanceof NoTable && from.table ? from.table : null);
    if (absent !== null && toCome.has(absent)) return null;
    if (error instanceof PlanError) return problemAt(error);
    if (error instanceof LoadFailure) return { path: ["from"], message: error.failure.message };
    return {
      path: ["from", from.where ? "where" : from.query ? "query" : "table"],
      message: failureOf(error, { name: connection }).message,
    };
  }
}
