import { setMaxListeners } from "node:events";
import { grouped } from "@undercoat/core/proof/decimal";
import { rehearsalWords } from "@undercoat/core/run/rehearsal";
import { isOpen, type Phase, type PhaseTime, type RunStatus } from "@undercoat/core/run/run";
import { Cancelled, failureOf, InDoubt, LoadFailure } from "@undercoat/engine/failure";
import { executeLoad, type LoadReport } from "@undercoat/engine/load/load";
import { executeRehearsal } from "@undercoat/engine/load/rehearse";
import { executeProof } from "@undercoat/engine/proof/prove";
import { sourceFor } from "@undercoat/engine/source/registry";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";
import { RunLineRow, RunLoadRow, RunRow } from "../store/models.ts";
import { isStoreError, type Store } from "../store/store.ts";
import { type Lease, LeaseLost, whileHeld } from "./lease.ts";
import { loadOrder } from "./order.ts";
import { leaveSeats, takeSeats } from "./seats.ts";
import { settleLoads } from "./settle.ts";
import { beginLoad, endLoad, endProof, endRun, finishLoad, holdLoad } from "./state.ts";

/** A run at work: who holds it, and how it is stopped. */
export interface Work {
  lease: Lease;
  signal: AbortSignal;
}

/** Why a run's signal was aborted; without a reason somebody asked to cancel it. */
export const workerStops = new LoadFailure({
  message: "The worker was stopped before the load was done",
  hint: "The warehouse is as it was before this load. Run again.",
});

/** Executes one run from its first load to its last; a load that fails does not stop the others. @throws LeaseLost */
export async function executeRun(store: Store, work: Work): Promise<void> {
  const run = await RunRow.findByPk(work.lease.run, { rejectOnEmpty: true });
  await store.tell({ kind: "run", run: run.id, pipeline: run.pipeline, status: "running" });
  const loads = await RunLoadRow.findAll({ where: { runId: run.id }, order: ["id"] });
  try {
    await executeLoads(store, run, loads, work);
  } finally {
    await leaveSeats(store, run.id);
  }
  await endRun(store, work.lease);
}

const notDone: Partial<Record<RunStatus, string>> = {
  failed: "failed",
  cancelled: "was cancelled",
  unknown: "may have committed or not, which is not known yet",
};

/** For how long a load waits before it asks for a seat again, in milliseconds. */
const seatPatience = 400;

/**
 * Executes a run's loads side by side, as many as their connections allow, and each after those that write what it reads.
 * One that fails stops only those that wait for it.
 */
async function executeLoads(store: Store, run: RunRow, loads: RunLoadRow[], work: Work): Promise<void> {
  const { lease, signal } = work;
  const definition = run.definition;
  const waits = await loadOrder(definition, (name) => store.credentials(name)).catch(() => new Map<string, string[]>());
  // Each session of each load hears the signal.
  setMaxListeners(0, signal);
  const running = new Map<string, Promise<void>>();
  const pending = new Map(loads.map((load) => [load.load, load]));
  const row = new Map(loads.map((load) => [load.load, load]));
  let trouble: unknown;
  const attempt = async (load: RunLoadRow) => {
    try {
      if (signal.aborted) await stopped(store, lease, load, signal);
      else await executeOne(store, run, load, work);
    } finally {
      await leaveSeats(store, run.id, load.load);
      running.delete(load.load);
    }
    // Each load's end is told, so that its tally stands on the page while others read.
    await store.tell({ kind: "run", run: run.id, pipeline: run.pipeline, status: "running" });
  };
  // What can't be written down ends the run's work here once the loads at work are done; whoever takes it over asks the warehouse.
  const start = (load: RunLoadRow) =>
    attempt(load).catch((error: unknown) => {
      trouble ??= error;
    });
  const steps = async () => {
    while (pending.size && trouble === undefined) {
      const full = new Set<string>();
      for (const [name, load] of [...pending]) {
        const before = (waits.get(name) ?? []).flatMap((other) => row.get(other) ?? []);
        const broken = before.find((other) => ["failed", "cancelled", "unknown"].includes(other.status));
        if (broken && !signal.aborted && run.kind !== "prove") {
          pending.delete(name);
          await endLoad(store, lease, load, {
            status: "failed",
            failure: {
              message: `Not run: ${broken.load}, whose table it reads, ${notDone[broken.status] ?? ""}`,
              hint: broken.status === "unknown" ? "Run again once that is known." : "Mend that load first.",
            },
          });
          continue;
        }
        if (!signal.aborted && before.some((other) => isOpen(other.status))) continue;
        const connections = [...new Set([definition.loads[name]?.from.connection ?? "", definition.warehouse])];
        if (!signal.aborted) {
          if (connections.some((connection) => full.has(connection))) continue;
          const taken = await takeSeats(store, lease, name, connections);
          if (taken !== null) {
            full.add(taken);
            await waitForSeat(store, lease, load, taken);
            continue;
          }
        }
        pending.delete(name);
        running.set(name, start(load));
      }
      const seat = full.size ? [new Promise<void>((done) => setTimeout(done, seatPatience))] : [];
      if (running.size || seat.length) await Promise.race([...running.values(), ...seat]);
      // Loads that wait for each other in a ring (a connection that was led elsewhere can close one) are tried in any order and say what they lack.
      else waits.clear();
    }
  };
  try {
    await steps();
  } finally {
    await Promise.all(running.values());
  }
  if (trouble !== undefined) throw trouble;
}

async function waitForSeat(store: Store, lease: Lease, load: RunLoadRow, connection: string): Promise<void> {
  const waitingFor = `a place at ${connection}`;
  if (load.waitingFor === waitingFor) return;
  await holdLoad(store, lease, load, waitingFor);
  await store.tell({ kind: "line", run: load.runId });
}

/** Ends a load that was stopped, by somebody who cancelled it or with its worker; nothing of it has been written. */
function stopped(store: Store, lease: Lease, load: RunLoadRow, { reason }: AbortSignal): Promise<void> {
  return endLoad(
    store,
    lease,
    load,
    reason === workerStops ? { status: "failed", failure: workerStops.failure } : { status: "cancelled" },
  );
}

async function executeOne(store: Store, run: RunRow, row: RunLoadRow, { lease, signal }: Work): Promise<void> {
  const definition = run.definition.loads[row.load];
  const report = new StoreReport(store, lease, row.load);
  await beginLoad(store, lease, row);
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
      await endLoad(store, lease, row, {
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
      await endProof(store, lease, run, row, proof, rows);
    } else {
      const { report: marks } = definition ?? {};
      const told = marks ? (marks.connection ? sourceFor(await store.credentials(marks.connection)) : source) : null;
      const outcome = await executeLoad({ ...order, scope: run.scope, told }, source, warehouse, report, signal);
      await finishLoad(store, lease, run, row, outcome);
    }
  } catch (error) {
    if (error instanceof InDoubt) {
      report.line("the warehouse did not answer whether it has committed; it is asked");
      await settleLoads(store, lease, run, [row], (load) =>
        signal.aborted
          ? stopped(store, lease, load, signal)
          : endLoad(store, lease, load, {
              status: "failed",
              failure: failureOf(error.cause, { name: run.definition.warehouse }),
            }),
      );
    } else if (error instanceof Cancelled) {
      report.line(
        signal.reason === workerStops
          ? "stopped with its worker; the warehouse is as it was"
          : "cancelled; the warehouse is as it was",
      );
      await stopped(store, lease, row, signal);
    } else if (error instanceof LeaseLost || isStoreError(error)) {
      // What became of the load is for whoever holds the run; the warehouse knows.
      throw error;
    } else {
      const failure = failureOf(error, { name: definition?.from.connection ?? "The source" });
      report.line(`failed: ${failure.message}`);
      await endLoad(store, lease, row, { status: "failed", failure });
    }
  } finally {
    await report.flush();
  }
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

  private readonly run: number;

  constructor(
    private readonly store: Store,
    private readonly lease: Lease,
    private readonly load: string,
  ) {
    this.run = lease.run;
  }

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
    // Lines that could not be written are tried again with the next ones.
    if (lines.length)
      await RunLineRow.bulkCreate(lines).catch((error: unknown) => {
        this.lines = [...lines, ...this.lines];
        throw error;
      });
    if (!this.moved) return this.store.tell({ kind: "line", run: this.run });
    this.moved = false;
    const { phase, waitingFor, rows, bytes, rate } = this.state;
    this.clock();
    const phases = this.phases;
    await whileHeld(this.store, this.lease, (transaction) =>
      RunLoadRow.update(
        { phase, waitingFor, bytes: String(bytes), phases },
        { where: { runId: this.run, load: this.load, status: "running" }, transaction },
      ),
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
