import type { Load, Pipeline } from "@undercoat/core/pipeline/pipeline";
import type { Rehearsal } from "@undercoat/core/run/rehearsal";
import type { Failure, Scope } from "@undercoat/core/run/run";
import type { Credentials, Row, ServerCredentials } from "@undercoat/engine/connection/credentials";
import { failureOf } from "@undercoat/engine/failure";
import { executeLoad, type LoadOutcome, type LoadReport } from "@undercoat/engine/load/load";
import { executeRehearsal } from "@undercoat/engine/load/rehearse";
import { Session } from "@undercoat/engine/postgres/session";
import { executeProof, type ProofOutcome } from "@undercoat/engine/proof/prove";
import { sourceFor } from "@undercoat/engine/source/registry";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";
import { inject } from "vitest";
import { quiet } from "./quiet.ts";

export { quiet };

/** What is done between a source and the pair's warehouse. */
export interface Between {
  run(
    load: Load,
    options?: { scope?: Scope; report?: LoadReport; signal?: AbortSignal; load?: string; inside?: boolean },
  ): Promise<LoadOutcome>;
  rehearse(load: Load, limit?: number, inside?: boolean): Promise<Rehearsal>;
  prove(load: Load, rows?: boolean): Promise<ProofOutcome>;
}

/** A source and a warehouse of a test file's own, and one load between them. */
export interface Pair extends Between {
  source: ServerCredentials;
  warehouse: ServerCredentials;
  atSource(sql: string): Promise<Row[]>;
  atWarehouse(sql: string): Promise<Row[]>;
  /** as this pair, from another source */
  between(source: Credentials): Between;
  /** a database of another locale, furnished by some SQL */
  inLocale(locale: string, sql: string): Promise<ServerCredentials>;
  /** the same pair, its source read as another user; `told`: what a load that fails says */
  as(user: { user: string; password: string }): {
    run(load: Load): Promise<LoadOutcome>;
    told(load: Load): Promise<Failure>;
  };
  close(): Promise<void>;
}

let runs = 0;

export function credentials(database: string): ServerCredentials {
  const { port, user, password } = inject("cluster");
  return {
    name: database,
    settings: { kind: "postgres", host: "127.0.0.1", port, database, user, tls: "off" },
    password,
  };
}

export async function makePair(name: string): Promise<Pair> {
  const admin = await Session.open(credentials("postgres"), { application: "test" });
  const names = { source: `${name}_source`, warehouse: `${name}_warehouse` };
  for (const database of Object.values(names)) await admin.query(`CREATE DATABASE ${database}`);
  await admin.close();
  const source = credentials(names.source);
  const warehouse = credentials(names.warehouse);
  const [left, right] = [
    await Session.open(source, { application: "test" }),
    await Session.open(warehouse, { application: "test" }),
  ];
  // What a test makes without a schema belongs to public.
  for (const session of [left, right]) await session.script("RESET search_path");
  const order = (load: Load, loadName = "load") => {
    const pipeline: Pipeline = { title: "Test", warehouse: names.warehouse, loads: { [loadName]: load } };
    return { pipelineName: "test", pipeline, load: loadName, run: { id: ++runs, uid: crypto.randomUUID() } };
  };
  const between = (from: Credentials): Between => ({
    run: (load, options = {}) =>
      executeLoad(
        { ...order(load, options.load), scope: options.scope ?? { kind: "due" } },
        sourceFor(options.inside ? warehouse : from),
        warehouseFor(warehouse),
        options.report ?? quiet,
        options.signal ?? new AbortController().signal,
      ),
    rehearse: (load, limit, inside) =>
      executeRehearsal(
        { ...order(load), scope: { kind: "due" }, limit: limit ?? null },
        sourceFor(inside ? warehouse : from),
        warehouseFor(warehouse),
        quiet,
        new AbortController().signal,
      ),
    prove: (load, rows = true) =>
      executeProof(
        { ...order(load), slices: "all", rows },
        sourceFor(from),
        warehouseFor(warehouse),
        quiet,
        new AbortController().signal,
      ),
  });
  return {
    source,
    warehouse,
    atSource: (sql) => left.script(sql),
    atWarehouse: (sql) => right.script(sql),
    ...between(source),
    between,
    async inLocale(locale, sql) {
      const database = `${name}_locale_${locale.toLowerCase()}`;
      const admin = await Session.open(credentials("postgres"), { application: "test" });
      await admin.query(
        `CREATE DATABASE ${database} ${locale === "icu" ? "LOCALE_PROVIDER icu ICU_LOCALE 'en'" : `LOCALE '${locale}'`} ENCODING 'UTF8' TEMPLATE template0`,
      );
      await admin.close();
      const session = await Session.open(credentials(database), { application: "test" });
      await session.script(`RESET search_path; ${sql}`);
      await session.close();
      return credentials(database);
    },
    as: ({ user, password }) => {
      const other = { ...source, settings: { ...source.settings, user }, password };
      const { run } = between(other);
      return {
        run,
        told: (load) =>
          run(load).then(
            () => ({ message: "it did not fail" }),
            (error: unknown) => failureOf(error),
          ),
      };
    },
    async close() {
      await left.close();
      await right.close();
    },
  };
}
