import PgBoss from "pg-boss";
import type { Store } from "../store/store.ts";

const name = "run";

/** The queue of runs, in the product's own database; any process may send, any worker may take. */
export class Queue {
  private closed = false;

  private constructor(
    private readonly boss: PgBoss,
    private readonly store: Store,
  ) {}

  /** `tends` is true for the process that also clears out old jobs. */
  static async open(store: Store, tends: boolean): Promise<Queue> {
    const boss = new PgBoss({
      connectionString: store.url,
      schema: "jobs",
      max: 3,
      supervise: tends,
      schedule: false,
      application_name: "undercoat queue",
    });
    // A lost database connection is reported here and made again by the next poll.
    boss.on("error", () => undefined);
    await boss.start();
    await boss.createQueue(name, { name, policy: "standard", retryLimit: 0, expireInSeconds: 23 * 3600 });
    return new Queue(boss, store);
  }

  async send(run: number): Promise<void> {
    await this.boss.send(name, { run });
    await this.store.wakeWorkers();
  }

  /**
   * Takes runs, `parallel` at a time and one straight after another, until closed. The returned function makes idle
   * takers look at once; without it they look every `idle` milliseconds.
   */
  take(parallel: number, work: (run: number) => Promise<void>, idle = 2000): () => void {
    const sleepers = new Set<() => void>();
    const sleep = () =>
      new Promise<void>((resolve) => {
        const wake = () => {
          clearTimeout(timer);
          sleepers.delete(wake);
          resolve();
        };
        const timer = setTimeout(wake, idle);
        sleepers.add(wake);
      });
    const taker = async () => {
      while (!this.closed) {
        const [job] = await this.boss.fetch<{ run: number }>(name).catch(() => []);
        if (!job) {
          await sleep();
          continue;
        }
        await work(job.data.run).catch(() => undefined);
        await this.boss.complete(name, job.id).catch(() => undefined);
      }
    };
    for (let number = 0; number < parallel; number++) taker();
    return () => {
      for (const wake of [...sleepers]) wake();
    };
  }

  async close(): Promise<void> {
    this.closed = true;
    await this.boss.stop({ graceful: false, timeout: 1000 });
  }
}
