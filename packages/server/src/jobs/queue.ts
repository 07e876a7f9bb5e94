import PgBoss from "pg-boss";
import type { Store } from "../store/store.ts";

const name = "run";

/** The queue of runs, in the product's own database; any process may send, any worker may take. */
export class Queue {
  private constructor(
    private readonly boss: PgBoss,
    private readonly store: Store,
  ) {}

  /** `tends` is true for the process that also clears out old jobs. */
  static async open(store: Store, tends: boolean): Promise<Queue> {
    const boss = new PgBoss({ connectionString: store.url, schema: "jobs", max: 3, supervise: tends, schedule: false, application_name: "undercoat queue" });
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

  /** Takes runs, `parallel` at a time, until closed; the returned function makes it look for one at once. */
  async take(parallel: number, work: (run: number) => Promise<void>): Promise<() => void> {
    const takers = await Promise.all(
      Array.from({ length: parallel }, () =>
        this.boss.work<{ run: number }>(name, { batchSize: 1, pollingIntervalSeconds: 2 }, async ([job]) => {
          if (job) await work(job.data.run);
        }),
      ),
    );
    return () => {
      for (const taker of takers) this.boss.notifyWorker(taker);
    };
  }

  async close(): Promise<void> {
    await this.boss.stop({ graceful: false, timeout: 1000 });
  }
}
