import type { ClientBase } from "pg";
import PgBoss from "pg-boss";
import { DatabaseError, QueryTypes, type Transaction } from "sequelize";
import type { Store } from "../store/store.ts";
import { claimRun, type Lease } from "./lease.ts";

const name = "run";

/** The queue's own statements, run in a transaction of the store's. */
function within(transaction: Transaction): PgBoss.Db {
  const { connection } = transaction as unknown as { connection: ClientBase };
  return {
    executeSql: (text, values) =>
      connection.query(text, values).catch((error: Error & { sql: string }) => {
        throw new DatabaseError(error);
      }),
  };
}

/** The queue of runs, in the product's own database; any process may send, any worker may take. */
export class Queue {
  private closed = false;

  private constructor(
    private readonly boss: PgBoss,
    private readonly store: Store,
  ) {}

  /** `tends` is true for the process that also clears out old jobs. */
  static async open(store: Store, tends: boolean, failed: (error: unknown) => void = () => undefined): Promise<Queue> {
    const boss = new PgBoss({
      connectionString: store.url,
      schema: "jobs",
      max: 3,
      supervise: tends,
      schedule: false,
      application_name: "undercoat queue",
    });
    // A lost database connection is reported here and made again by the next poll.
    boss.on("error", failed);
    await boss.start();
    await boss.createQueue(name, { name, policy: "standard", retryLimit: 0, expireInSeconds: 23 * 3600 });
    return new Queue(boss, store);
  }

  /** Puts a run in the queue, in the transaction that writes it down; workers are woken when it commits. */
  async send(run: number, transaction: Transaction, priority = 0): Promise<void> {
    await this.boss.send(name, { run }, { db: within(transaction), priority });
    await this.store.wakeWorkers(transaction);
  }

  /** Takes the next run off the queue and claims it, both or neither. @returns null where none waits, `undefined` where one came off that nobody wants any more */
  next(worker: string): Promise<Lease | null | undefined> {
    return this.store.sequelize.transaction(async (transaction) => {
      const db = within(transaction);
      const [job] = await this.boss.fetch<{ run: number }>(name, { db });
      if (!job) return null;
      const lease = await claimRun(this.store, job.data.run, worker, transaction);
      await this.boss.complete(name, job.id, {}, { db });
      return lease ?? undefined;
    });
  }

  /** Sends runs again that are queued by their own account and stand in no queue. */
  async resend(): Promise<void> {
    await this.store.sequelize.transaction(async (transaction) => {
      const lost = await this.store.sequelize.query<{ id: number }>(
        `SELECT r.id FROM runs r WHERE r.status = 'queued' AND r.created_at < now() - interval '1 minute'
         AND NOT EXISTS (SELECT 1 FROM jobs.job j WHERE j.name = '${name}' AND j.state < 'active' AND (j.data ->> 'run')::int = r.id) FOR UPDATE SKIP LOCKED`,
        { transaction, type: QueryTypes.SELECT },
      );
      for (const { id } of lost) await this.send(id, transaction);
    });
  }

  /**
   * Takes runs, one straight after another, until closed: as many at a time as `parallel` says whenever it is asked, `most`
   * at most. The returned function makes one idle taker look at once, and each that finds something the next; without it
   * they look every `idle` milliseconds.
   */
  take(
    { parallel, most }: { parallel: () => number; most: number },
    worker: string,
    work: (lease: Lease) => Promise<void>,
    failed: (error: unknown) => void,
    idle = 2000,
  ): () => void {
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
    /** Those beyond the limit are woken by nobody. */
    const rest = () => new Promise<void>((resolve) => void setTimeout(resolve, idle).unref());
    // Of many takers that look at once all but one would look in vain.
    const wakeOne = () => {
      const [next] = sleepers;
      next?.();
    };
    const taker = async (number: number) => {
      while (!this.closed) {
        if (number >= parallel()) {
          await rest();
          continue;
        }
        const lease = await this.next(worker).catch((error: unknown) => {
          if (!this.closed) failed(error);
          return null;
        });
        if (lease) {
          wakeOne();
          await work(lease).catch(failed);
        } else if (lease === null) await sleep();
      }
    };
    for (let number = 0; number < most; number++) taker(number);
    return wakeOne;
  }

  async close(): Promise<void> {
    this.closed = true;
    await this.boss.stop({ graceful: false, timeout: 1000 });
  }
}
