import { hostname } from "node:os";
import type { Logger } from "pino";
import type { Store } from "../store/store.ts";
import { advanceBackfills } from "./backfill.ts";
import { executeRun, workerStops } from "./execute.ts";
import { type Lease, LeaseLost, releaseRuns, renewLeases } from "./lease.ts";
import { Queue } from "./queue.ts";
import { recoverRuns } from "./recover.ts";
import { forgetWorker, mostParallel, noteWorker } from "./workers.ts";

/** How often a worker says that it lives, in milliseconds; a lease outlasts several beats. */
const heartbeat = 3000;
/** How long a worker that stops waits for its loads to be undone, in milliseconds. */
const farewell = 6000;

export const workerName = (pid: number) => `${hostname()}:${pid}`;

interface Running {
  lease: Lease;
  abort: AbortController;
  done: Promise<void>;
}

/** Takes runs off the queue until stopped, several at a time. Several workers, on any machine, share the queue. */
export async function startWorker(store: Store, parallel: number, log: Logger): Promise<{ stop: () => Promise<void> }> {
  const worker = workerName(process.pid);
  const running = new Map<number, Running>();
  const failed = (error: unknown) => {
    if (error instanceof LeaseLost) log.warn(error.message);
    else log.error({ error: error instanceof Error ? (error.stack ?? error.message) : String(error) }, "unforeseen");
  };
  const queue = await Queue.open(store, false, failed);
  const work = async (lease: Lease) => {
    const abort = new AbortController();
    const done = executeRun(store, { lease, signal: abort.signal });
    running.set(lease.run, { lease, abort, done });
    log.info({ run: lease.run }, "begins");
    try {
      await done;
    } finally {
      running.delete(lease.run);
      log.info({ run: lease.run }, "ends");
    }
    // A backfill's next slice follows at once, rather than with the next look at the clock.
    await advanceBackfills(store, queue);
  };
  let wanted = await noteWorker(store, worker, parallel);
  const look = queue.take(
    { parallel: () => (wanted.resting ? 0 : wanted.parallel), most: mostParallel },
    worker,
    work,
    failed,
  );
  const deafen = await store.listen({ job: look, cancel: (run) => running.get(run)?.abort.abort() });

  const beat = async () => {
    // Of what begins meanwhile nothing is known yet.
    const asked = [...running.values()];
    const held = await renewLeases(
      store,
      asked.map(({ lease }) => lease),
    );
    for (const { lease, abort } of asked) {
      const cancelled = held.get(lease.run);
      // One that was taken over is another's; one that somebody cancelled while nobody heard is cancelled now.
      if (cancelled === undefined) abort.abort(new LeaseLost(lease.run));
      else if (cancelled) abort.abort();
    }
    wanted = await noteWorker(store, worker, parallel);
    await recoverRuns(store, worker, failed);
    await queue.resend();
  };
  let beating: Promise<void> | null = null;
  const timer = setInterval(() => {
    beating ??= beat()
      .catch(failed)
      .finally(() => {
        beating = null;
      });
  }, heartbeat);
  return {
    async stop() {
      clearInterval(timer);
      const closing = queue.close();
      for (const { abort } of running.values()) abort.abort(workerStops);
      const late = new Promise<void>((done) => setTimeout(done, farewell).unref());
      await Promise.race([Promise.allSettled([...running.values()].map(({ done }) => done)), late]);
      await beating;
      await deafen();
      await closing;
      await releaseRuns(store, worker);
      await forgetWorker(worker);
    },
  };
}
