import type { Readable, Writable } from "node:stream";
import * as sql from "@undercoat/core/sql/session";
import type pg from "pg";
import { type CopyStreamQuery, from as copyFrom, to as copyTo } from "pg-copy-streams";
import type { Row, ServerCredentials } from "../connection/credentials.ts";
import { Cancelled, failureOf, LoadFailure, type Place } from "../failure.ts";
import { acquire, end, release } from "./client.ts";

export interface SessionOptions {
  /** the session's name at the server */
  application: string;
  /** refuses every write */
  readOnly?: boolean;
  signal?: AbortSignal;
  /** milliseconds to wait for the server's answer */
  timeout?: number;
  /** signs in anew, though a connection may be there that has ended its work */
  fresh?: boolean;
}

/** One connection to a PostgreSQL server, all values text, ended at once when its signal aborts. */
export class Session {
  /** true where author's SQL runs in it, so that its settings are verified before each statement */
  private guarded = false;
  private rows: sql.RowSecurity = "off";
  /** true while a COPY may be under way */
  private busy = false;

  private constructor(
    private readonly client: pg.Client,
    readonly credentials: ServerCredentials,
    readonly pid: string,
    private readonly signal: AbortSignal | undefined,
  ) {}

  get place(): Place {
    return { name: this.credentials.name, ...this.credentials.settings };
  }

  /** Signs in. @throws LoadFailure saying what could not be done. */
  static async open(credentials: ServerCredentials, options: SessionOptions): Promise<Session> {
    try {
      options.signal?.throwIfAborted();
      const backend = await acquire(credentials, {
        application: options.application,
        readOnly: options.readOnly ?? false,
        timeout: options.timeout ?? 10_000,
        fresh: options.fresh ?? false,
      });
      const session = new Session(backend.client, credentials, backend.pid, options.signal);
      options.signal?.addEventListener("abort", session.stop, { once: true });
      if (options.signal?.aborted) session.stop();
      return session;
    } catch (error) {
      if (options.signal?.aborted) throw new Cancelled("Cancelled");
      throw new LoadFailure(failureOf(error, { name: credentials.name, ...credentials.settings }));
    }
  }

  /** Ends the session at the server, its statement with it, and the connection here. */
  private readonly stop = () => {
    const killer = Session.open(this.credentials, { application: "undercoat cancel", timeout: 2000, fresh: true });
    killer
      .then(async (session) => {
        await session.query(sql.terminateBackend, [this.pid]);
        await session.close();
      })
      .catch(() => undefined)
      .finally(() => this.destroy());
  };

  private destroy(): void {
    (this.client as unknown as { connection?: { stream?: { destroy(): void } } }).connection?.stream?.destroy();
  }

  /** From here on statements hold SQL that an author wrote. */
  async guard(rows: sql.RowSecurity = "off"): Promise<void> {
    this.guarded = true;
    this.rows = rows;
    await this.settle();
  }

  private async settle(): Promise<void> {
    await this.client.query(sql.setSession(this.rows));
    const { rows } = await this.client.query(sql.settledSession(this.rows));
    if (rows[0].settled !== "t")
      throw new LoadFailure({
        message: `${this.credentials.name}: the session's settings are not what they were set to`,
        hint: "Nothing was written. The query may call a function that changes them.",
      });
  }

  private last: Promise<unknown> = Promise.resolve();

  /** One statement after another, in the order they are asked for; an error of the server's names this connection. */
  private attempt<T>(work: () => Promise<T>, verified = true): Promise<T> {
    const turn = this.last.then(async () => {
      if (this.signal?.aborted) throw new Cancelled("Cancelled");
      try {
        if (this.guarded && verified) await this.settle();
        return await work();
      } catch (error) {
        if (this.signal?.aborted) throw new Cancelled("Cancelled");
        throw named(error, this.place);
      }
    });
    this.last = turn.catch(() => undefined);
    return turn;
  }

  private send(text: string, values: (string | null)[]): Promise<pg.QueryResult<Row>> {
    // The extended protocol takes one statement a message, whatever its text holds.
    return this.client.query<Row>({ text, values, queryMode: "extended" } as pg.QueryConfig);
  }

  /** Runs a statement; values are bound. */
  query(text: string, values: (string | null)[] = []): Promise<Row[]> {
    // In a transaction that has failed nothing can be asked before it is undone.
    return this.attempt(async () => (await this.send(text, values)).rows, !text.startsWith("ROLLBACK"));
  }

  /** The one row of a statement that gives one. */
  async one(text: string, values: (string | null)[] = []): Promise<Row> {
    return (await this.query(text, values))[0] ?? {};
  }

  /** Runs a statement that writes; the number of rows it wrote, as text. */
  run(text: string, values: (string | null)[] = []): Promise<string> {
    return this.attempt(async () => String((await this.send(text, values)).rowCount ?? 0));
  }

  /** Runs several statements of our own, one after another; the last one's rows. */
  script(text: string): Promise<Row[]> {
    return this.attempt(async () => {
      const results = (await this.client.query<Row>(text)) as pg.QueryResult<Row> | pg.QueryResult<Row>[];
      return (Array.isArray(results) ? results.at(-1) : results)?.rows ?? [];
    });
  }

  /** The columns of a result without its rows: name, type oid and modifier. */
  async columns(text: string): Promise<{ name: string; type: number; modifier: number }[]> {
    const result = await this.attempt(() => this.send(text, []));
    return result.fields.map((field) => ({
      name: field.name,
      type: field.dataTypeID,
      modifier: field.dataTypeModifier,
    }));
  }

  /** A COPY … TO STDOUT as a byte stream; `counted` is the server's own number of its rows. */
  async copyOut(text: string): Promise<Readable & { counted: Promise<number> }> {
    return this.attempt(async () => {
      const copy = copyTo(text);
      // The stream ends with the last row; the number of rows comes after it, and may come a packet later.
      const counted = new Promise<number>((resolve, reject) => {
        Object.assign(copy, { handleReadyForQuery: () => resolve(copy.rowCount) });
        copy.once("error", reject);
      });
      counted.catch(() => undefined);
      return Object.assign(this.placed(this.client.query(copy)), { counted });
    });
  }

  /** A COPY … FROM STDIN as a byte sink; `rowCount` is known when it has finished. */
  copyIn(text: string): Writable & { rowCount: number } {
    return this.placed(this.client.query(copyFrom(text)) as CopyStreamQuery);
  }

  /** A stream whose errors name this connection. */
  private placed<S extends Readable | Writable>(stream: S): S {
    this.busy = true;
    const done = () => {
      this.busy = false;
    };
    return stream
      .once("end", done)
      .once("finish", done)
      .on("error", (error) => named(error, this.place)) as S;
  }

  async close(): Promise<void> {
    this.signal?.removeEventListener("abort", this.stop);
    if (this.signal?.aborted) {
      this.destroy();
      return;
    }
    // One in which author's SQL has run, or whose work is not done, serves nobody else.
    const reusable = !this.guarded && !this.busy;
    await (reusable ? release(this.credentials, { client: this.client, pid: this.pid }) : end(this.client));
  }
}

/** An error with the place where it happened, for whoever tells it. */
function named(error: unknown, place: Place): unknown {
  return error instanceof Error ? Object.assign(error, { place }) : error;
}
