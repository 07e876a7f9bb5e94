import { hostname } from "node:os";
import { RunRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { executeRun } from "./execute.ts";
import { Queue } from "./queue.ts";
import { recoverRuns } from "./recover.ts";

/** How often a worker says that it lives, in milliseconds. */
const heartbeat = 3000;

export const workerName = (pid: number) => `${hostname()}:${pid}`;

/** Takes runs off the queue until stopped, several at a time. Several workers, on any machine, share the queue. */
export async function startWorker(store: Store, parallel: number): Promise<{ stop: () => Promise<void> }> {
  const worker = workerName(process.pid);
  const running = new Map<number, AbortController>();
  const queue = await Queue.open(store, false);
  const look = queue.take(parallel, async (run) => {
    const abort = new AbortController();
    running.set(run, abort);
    try {
      await executeRun(store, run, worker, abort.signal);
    } finally {
      running.delete(run);
    }
  });
  const deafen = await store.listen({ job: look, cancel: (run) => running.get(run)?.abort() });
  const beat = setInterval(() => {
    if (running.size)
      RunRow.update({ seenAt: new Date() }, { where: { id: [...running.keys()], worker } }).catch(() => undefined);
    recoverRuns(store).catch(() => undefined);
  }, heartbeat);
  return {
    async stop() {
      clearInterval(beat);
      for (const abort of running.values()) abort.abort();
      await deafen();
      await queue.close();
      await recoverRuns(store, worker);
    },
  };
}
