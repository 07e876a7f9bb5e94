import { findRing } from "@undercoat/core/pipeline/order";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { check, type Problem, pipelineSchema } from "@undercoat/core/pipeline/schema";
import { PlanError } from "@undercoat/core/plan/plan";
import { plainName } from "@undercoat/core/sql/identifier";
import type { Credentials } from "@undercoat/engine/connection/credentials";
import { failureOf, LoadFailure, NoTable } from "@undercoat/engine/failure";
import { planFor } from "@undercoat/engine/load/planning";
import { sourceFor } from "@undercoat/engine/source/registry";
import type { Snapshot } from "@undercoat/engine/source/source";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";
import type { WarehouseSnapshot } from "@undercoat/engine/warehouse/warehouse";
import { loadOrder } from "../jobs/order.ts";
import { problemAt } from "../problem.ts";

/** Where a definition's connections are looked up: the store, or a project file laid over it. */
export interface ConnectionBook {
  connectionNames(): Promise<string[]>;
  credentials(name: string): Promise<Credentials>;
  /** the tables that all pipelines write, those not run yet too */
  targets(): Promise<{ pipeline: string; warehouse: string; table: string }[]>;
}

/**
 * Everything that is wrong with a definition: its form, the connections it names, two loads with one target, and for
 * each load whether its source has what it asks for. A source that can't be reached can't be asked; its loads are checked when they run.
 */
export async function definitionProblems(
  book: ConnectionBook,
  name: string,
  definition: Pipeline,
  only?: string[],
): Promise<Problem[]> {
  const { problems } = check<Pipeline>(pipelineSchema, definition);
  if (problems.length) return problems;
  const known = new Set(await book.connectionNames());
  const found: Problem[] = [];
  if (!known.has(definition.warehouse))
    found.push({ path: ["warehouse"], message: `There is no connection ${definition.warehouse}` });
  const targets = new Map<string, string>();
  const written = await book.targets();
  const others = new Map(
    written
      .filter((entry) => entry.pipeline !== name && entry.warehouse === definition.warehouse)
      .map((entry) => [plainName(entry.table), entry.pipeline]),
  );
  for (const [load, { from, into }] of Object.entries(definition.loads)) {
    if (!known.has(from.connection))
      found.push({ path: ["loads", load, "from", "connection"], message: `There is no connection ${from.connection}` });
    const table = plainName(into.table);
    const other = targets.get(table);
    if (other)
      found.push({
        path: ["loads", load, "into", "table"],
        message: `${into.table} is written by ${other} too; one table has one load`,
      });
    const elsewhere = others.get(table);
    if (elsewhere)
      found.push({
        path: ["loads", load, "into", "table"],
        message: `${into.table} is written by the pipeline ${elsewhere} too; one table has one load`,
      });
    targets.set(table, load);
  }
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
  const desk = new Desk(book);
  try {
    for (const [load, { from }] of Object.entries(definition.loads)) {
      if (only && !only.includes(load)) continue;
      const problem = await loadProblem(desk, name, definition, load, from.connection, toCome);
      if (problem) found.push({ ...problem, path: ["loads", load, ...problem.path] });
    }
  } finally {
    await desk.close();
  }
  return found;
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
    await source.preview(plan, { kind: "all" }, 0);
    return null;
  } catch (error) {
    await desk.close();
    // What another load is yet to make can't be looked at before it has.
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
