import { once } from "node:events";
import type { Readable, Writable } from "node:stream";
import type { ConnectionSettings } from "@undercoat/core/pipeline/pipeline";
import { sessionSettings } from "@undercoat/core/sql/read";
import { backend, cancelBackend } from "@undercoat/core/sql/warehouse";
import pg from "pg";
import { type CopyStreamQuery, type CopyToStreamQuery, from as copyFrom, to as copyTo } from "pg-copy-streams";
import { Cancelled, failureOf, LoadFailure, type Place } from "./failure.ts";

/** A connection with its password: what it takes to sign in. Lives only as long as the session. */
export interface Credentials {
  name: string;
  settings: ConnectionSettings;
  password: string;
}

/** A row as text: values never become JavaScript numbers or Dates. */
export type Row = Record<string, string | null>;

const asText = { getTypeParser: () => (value: string) => value };

/** One connection to a PostgreSQL server, all values text, ended at once when its signal aborts. */
export class Session {
  private constructor(
    private readonly client: pg.Client,
    readonly credentials: Credentials,
    readonly pid: string,
    private readonly signal: AbortSignal | undefined,
  ) {}

  get place(): Place {
    return { name: this.credentials.name, ...this.credentials.settings };
  }

  /**
   * Signs in. `application` is the session's name at the server; `readOnly` refuses every write.
   * @throws LoadFailure saying what could not be done.
   */
  static async open(credentials: Credentials, options: { application: string; readOnly?: boolean; signal?: AbortSignal; timeout?: number }): Promise<Session> {
    const { settings } = credentials;
    const client = new pg.Client({
      host: settings.host,
      port: settings.port,
      database: settings.database,
      user: settings.user,
      password: credentials.password,
      ssl: settings.tls === "off" ? false : { rejectUnauthorized: settings.tls === "verify" },
      application_name: options.application,
      connectionTimeoutMillis: options.timeout ?? 10_000,
      keepAlive: true,
      types: asText,
    });
    // An idle connection's loss arrives as an event; the next query reports it.
    client.on("error", () => undefined);
    try {
      options.signal?.throwIfAborted();
      await client.connect();
      await client.query(`${sessionSettings}; SET default_transaction_read_only = ${options.readOnly ? "on" : "off"}`);
      const { rows } = await client.query(`${backend}, current_setting('server_version_num')::int >= 140000 AS checks`);
      // A statement at work whose client is gone ends by itself and frees its locks.
      if (rows[0].checks === "t") await client.query("SET client_connection_check_interval = '2s'");
      const session = new Session(client, credentials, rows[0].pid, options.signal);
      options.signal?.addEventListener("abort", session.stop, { once: true });
      return session;
    } catch (error) {
      client.end().catch(() => undefined);
      if (options.signal?.aborted) throw new Cancelled("Cancelled");
      throw new LoadFailure(failureOf(error, { name: credentials.name, ...settings }));
    }
  }

  /** Ends the session's statement at the server and the connection here. */
  private readonly stop = () => {
    const killer = Session.open(this.credentials, { application: "undercoat cancel", timeout: 2000 });
    killer
      .then(async (session) => {
        await session.query(cancelBackend, [this.pid]);
        await session.close();
      })
      .catch(() => undefined)
      .finally(() => this.destroy());
  };

  private destroy(): void {
    (this.client as unknown as { connection?: { stream?: { destroy(): void } } }).connection?.stream?.destroy();
  }

  private last: Promise<unknown> = Promise.resolve();

  /** One statement after another, in the order they are asked for. */
  private attempt<T>(work: () => Promise<T>): Promise<T> {
    const turn = this.last.then(() => this.unlessCancelled(work));
    this.last = turn.catch(() => undefined);
    return turn;
  }

  private async unlessCancelled<T>(work: () => Promise<T>): Promise<T> {
    if (this.signal?.aborted) throw new Cancelled("Cancelled");
    try {
      return await work();
    } catch (error) {
      if (this.signal?.aborted) throw new Cancelled("Cancelled");
      throw error;
    }
  }

  /** Runs a statement; values are bound. */
  query(sql: string, values: (string | null)[] = []): Promise<Row[]> {
    return this.attempt(async () => (values.length ? await this.client.query<Row>(sql, values) : await this.client.query<Row>(sql)).rows);
  }

  /** The one row of a statement that gives one. */
  async one(sql: string, values: (string | null)[] = []): Promise<Row> {
    return (await this.query(sql, values))[0] ?? {};
  }

  /** Runs a statement that writes; the number of rows it wrote, as text. */
  run(sql: string, values: (string | null)[] = []): Promise<string> {
    return this.attempt(async () => String((await this.client.query(sql, values)).rowCount ?? 0));
  }

  /** The columns of a result without its rows: name, type oid and modifier. */
  async columns(sql: string): Promise<{ name: string; type: number; modifier: number }[]> {
    const result = await this.attempt(() => this.client.query(sql));
    return result.fields.map((field) => ({ name: field.name, type: field.dataTypeID, modifier: field.dataTypeModifier }));
  }

  /** A COPY … TO STDOUT as a byte stream; `rowCount` is known at its end. */
  copyOut(sql: string): Readable & { rowCount: number } {
    return this.client.query(copyTo(sql)) as CopyToStreamQuery as unknown as Readable & { rowCount: number };
  }

  /** A COPY … FROM STDIN as a byte sink; `rowCount` is known when it has finished. */
  copyIn(sql: string): Writable & { rowCount: number } {
    return this.client.query(copyFrom(sql)) as CopyStreamQuery;
  }

  async close(): Promise<void> {
    this.signal?.removeEventListener("abort", this.stop);
    if (this.signal?.aborted) {
      this.destroy();
      return;
    }
    const ended = once(this.client, "end");
    this.client.end().catch(() => undefined);
    await Promise.race([ended, new Promise((resolve) => setTimeout(resolve, 1000).unref())]);
  }
}
