import { setMaxListeners } from "node:events";
import { grouped } from "@undercoat/core/proof/decimal";
import { rehearsalWords } from "@undercoat/core/run/rehearsal";
import type { Phase, PhaseTime, RunStatus } from "@undercoat/core/run/run";
import { Cancelled, failureOf } from "@undercoat/engine/failure";
import { executeLoad, type LoadOutcome, type LoadReport } from "@undercoat/engine/load/load";
import { executeRehearsal } from "@undercoat/engine/load/rehearse";
import { executeProof } from "@undercoat/engine/proof/prove";
import { sourceFor } from "@undercoat/engine/source/registry";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";
import type { InferAttributes } from "sequelize";
import { RunLineRow, RunLoadRow, RunRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { loadOrder } from "./order.ts";
import { keepProof } from "./proofs.ts";

/** Executes one run from its first load to its last; a load that fails does not stop the others. */
export async function executeRun(store: Store, id: number, worker: string, signal: AbortSignal): Promise<void> {
  const [taken] = await RunRow.update(
    { status: "running", worker, startedAt: new Date(), seenAt: new Date() },
    { where: { id, status: "queued" } },
  );
  if (!taken) return;
  const run = await RunRow.findByPk(id, { rejectOnEmpty: true });
  const told = (status: RunStatus) => store.tell({ kind: "run", run: id, pipeline: run.pipeline, status });
  await told("running");
  const loads = await RunLoadRow.findAll({ where: { runId: id }, order: ["id"] });
  await executeLoads(store, run, loads, signal, () => told("running"));
  const statuses = loads.map((load) => load.status);
  const status: RunStatus = statuses.includes("failed")
    ? "failed"
    : statuses.includes("cancelled")
      ? "cancelled"
      : "finished";
  const failed = loads.find((load) => load.status === "failed");
  await run.update({ status, finishedAt: new Date(), failure: failed?.failure ?? null });
  await told(status);
}

/** Loads that one connection takes part in at a time, where it does not say. */
const usualParallel = 4;

/**
 * Executes a run's loads side by side, as many as their connections allow, and each after those that write what it reads.
 * One that fails stops only those that wait for it.
 */
async function executeLoads(
  store: Store,
  run: RunRow,
  loads: RunLoadRow[],
  signal: AbortSignal,
  told: () => Promise<void>,
): Promise<void> {
  const definition = run.definition;
  const waits = await loadOrder(definition, (name) => store.credentials(name)).catch(() => new Map<string, string[]>());
  // Each session of each load hears the signal.
  setMaxListeners(0, signal);
  const rooms = new Map<string, number>();
  const room = async (name: string) =>
    rooms.get(name) ??
    (await store.credentials(name).then(
      (found) => found.settings.parallel ?? usualParallel,
      () => 1,
    ));
  const running = new Map<string, Promise<void>>();
  const pending = new Map(loads.map((load) => [load.load, load]));
  const row = new Map(loads.map((load) => [load.load, load]));
  const start = async (load: RunLoadRow, connections: string[]) => {
    if (signal.aborted) await endLoad(load, { status: "cancelled" });
    else await executeOne(store, run, load, signal);
    for (const name of connections) rooms.set(name, (rooms.get(name) ?? 0) + 1);
    running.delete(load.load);
    // Each load's end is told, so that its tally stands on the page while others read.
    await told();
  };
  while (pending.size) {
    for (const [name, load] of [...pending]) {
      const before = (waits.get(name) ?? []).flatMap((other) => row.get(other) ?? []);
      const broken = before.find((other) => other.status === "failed" || other.status === "cancelled");
      if (broken && !signal.aborted && run.kind !== "prove") {
        pending.delete(name);
        await endLoad(load, {
          status: "failed",
          failure: {
            message: `Not run: ${broken.load}, whose table it reads, ${broken.status === "failed" ? "failed" : "was cancelled"}`,
            hint: "Mend that load first.",
          },
        });
        continue;
      }
      if (!signal.aborted && before.some((other) => other.status !== "finished" && other.status !== "failed")) continue;
      const connections = [...new Set([definition.loads[name]?.from.connection ?? "", definition.warehouse])];
      for (const connection of connections) rooms.set(connection, await room(connection));
      if (connections.some((connection) => (rooms.get(connection) ?? 0) < 1)) continue;
      for (const connection of connections) rooms.set(connection, (rooms.get(connection) ?? 1) - 1);
      pending.delete(name);
      running.set(name, start(load, connections));
    }
    if (running.size) await Promise.race(running.values());
    // Loads that wait for each other in a ring (a connection that was led elsewhere can close one) are tried in any order and say what they lack.
    else waits.clear();
  }
  await Promise.all(running.values());
}

/** Ends a load with values that are written whatever this process last knew of the row. */
export async function endLoad(row: RunLoadRow, values: Partial<InferAttributes<RunLoadRow>>): Promise<void> {
  const ended = { ...values, phase: null, waitingFor: null, finishedAt: new Date() };
  await RunLoadRow.update(ended, { where: { id: row.id } });
  row.set(ended);
}

async function executeOne(store: Store, run: RunRow, row: RunLoadRow, signal: AbortSignal): Promise<void> {
  const definition = run.definition.loads[row.load];
  const report = new StoreReport(store, run.id, row.load);
  await row.update({ status: "running", startedAt: new Date() });
  try {
    const sourceCredentials = await store.credentials(definition?.from.connection ?? "");
    const warehouseCredentials = await store.credentials(run.definition.warehouse);
    const [source, warehouse] = [sourceFor(sourceCredentials), warehouseFor(warehouseCredentials)];
    const order = {
      pipelineName: run.pipeline,
      pipeline: run.definition,
      load: row.load,
      run: { id: run.id, uid: run.uid },
    };
    if (run.kind === "rehearse") {
      const rehearsal = await executeRehearsal(
        { ...order, scope: run.scope, limit: run.rowLimit },
        source,
        warehouse,
        report,
        signal,
      );
      report.line(`nothing was written; a run ${rehearsalWords(rehearsal, grouped)}`);
      await endLoad(row, {
        status: "finished",
        tally: rehearsal.tally,
        watermark: rehearsal.watermark,
        findings: rehearsal.findings,
        rehearsal,
      });
    } else if (run.kind === "prove") {
      const slices =
        run.scope.kind === "slice"
          ? [run.scope.slice]
          : run.scope.kind === "slices"
            ? run.scope.slices
            : ("all" as const);
      const { proof, rows } = await executeProof(
        { ...order, slices, rows: run.wantsRows },
        source,
        warehouse,
        report,
        signal,
      );
      const kept = await keepProof(store, run, row, proof, rows);
      await endLoad(row, { status: "finished", proofId: kept.id });
    } else {
      await finishLoad(
        store,
        run,
        row,
        await executeLoad({ ...order, scope: run.scope }, source, warehouse, report, signal),
      );
    }
  } catch (error) {
    const status = error instanceof Cancelled ? "cancelled" : "failed";
    const failure =
      status === "failed" ? failureOf(error, { name: definition?.from.connection ?? "The source" }) : null;
    report.line(status === "cancelled" ? "cancelled; the warehouse is as it was" : `failed: ${failure?.message}`);
    await endLoad(row, { status, failure });
  } finally {
    await report.flush();
  }
}

/** Notes a load that has committed. Done again for the same load it changes nothing. */
export async function finishLoad(
  store: Store,
  run: RunRow,
  row: RunLoadRow,
  outcome: Omit<LoadOutcome, "phases" | "bytes"> & Partial<LoadOutcome>,
): Promise<void> {
  const proof = await keepProof(store, run, row, outcome.proof, null);
  await endLoad(row, {
    status: "finished",
    tally: outcome.tally,
    watermark: outcome.watermark,
    findings: outcome.findings,
    bytes: String(outcome.bytes ?? 0),
    phases: outcome.phases ?? [],
    proofId: proof.id,
  });
}

/** How often what a load tells reaches the store, in milliseconds. */
const flushEvery = 250;

/** Writes a load's lines and progress to the store in batches, in their order, and tells the pages. */
class StoreReport implements LoadReport {
  private lines: { runId: number; load: string; at: Date; message: string; sql: string | null }[] = [];
  private writing: Promise<void> = Promise.resolve();
  private timer: NodeJS.Timeout | undefined;
  private state: { phase: string; rows: string; bytes: number; rate: number; waitingFor: string | null } = {
    phase: "wait",
    rows: "0",
    bytes: 0,
    rate: 0,
    waitingFor: null,
  };
  private readonly born = performance.now();
  private readonly phases: PhaseTime[] = [];
  private began = 0;
  private moved = true;

  constructor(
    private readonly store: Store,
    private readonly run: number,
    private readonly load: string,
  ) {}

  readonly line = (message: string, sql?: string): void => {
    this.lines.push({ runId: this.run, load: this.load, at: new Date(), message, sql: sql ?? null });
    this.soon();
  };

  /** The open phase lasts until now. */
  private clock(): number {
    const now = Math.round(performance.now() - this.born);
    const open = this.phases.at(-1);
    if (open) open.to = now;
    return now;
  }

  phase(phase: Phase): void {
    if (phase === "read") this.began = performance.now();
    const now = this.clock();
    this.phases.push({ phase, from: now, to: now });
    this.state = { ...this.state, phase };
    this.moved = true;
    this.soon();
  }

  progress(rows: string, bytes: number): void {
    const seconds = (performance.now() - this.began) / 1000;
    this.state = { ...this.state, rows, bytes, rate: seconds > 0 ? Math.round(Number(rows) / seconds) : 0 };
    this.moved = true;
    this.soon();
  }

  waiting(holder: string | null): void {
    if (this.state.waitingFor === holder) return;
    this.state = { ...this.state, waitingFor: holder };
    this.moved = true;
    this.soon();
  }

  private soon(): void {
    this.timer ??= setTimeout(() => {
      this.timer = undefined;
      this.writing = this.writing.then(() => this.write()).catch(() => undefined);
    }, flushEvery);
  }

  private async write(): Promise<void> {
    const lines = this.lines;
    this.lines = [];
    if (lines.length) await RunLineRow.bulkCreate(lines);
    if (!this.moved) return this.store.tell({ kind: "line", run: this.run });
    this.moved = false;
    const { phase, waitingFor, rows, bytes, rate } = this.state;
    this.clock();
    const phases = this.phases;
    await RunLoadRow.update(
      { phase, waitingFor, bytes: String(bytes), phases },
      { where: { runId: this.run, load: this.load, status: "running" } },
    );
    await this.store.tell({
      kind: "progress",
      run: this.run,
      load: this.load,
      phase,
      rows,
      bytes,
      rate,
      waitingFor,
      phases,
    });
  }

  async flush(): Promise<void> {
    clearTimeout(this.timer);
    this.timer = undefined;
    this.moved = false;
    this.writing = this.writing.then(() => this.write()).catch(() => undefined);
    await this.writing;
  }
}
