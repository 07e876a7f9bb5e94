import { Readable } from "node:stream";
import {
  beginSnapshot,
  kill,
  letWrite,
  serverFacts,
  settledSession,
  settleSession,
} from "@undercoat/core/sql/mariadb/catalog";
import type mysql from "mysql2";
import type { CredentialsOf, Row } from "../../connection/credentials.ts";
import { Cancelled, LoadFailure } from "../../failure.ts";
import { allowed } from "../../http/egress.ts";

/** A column of a result as the protocol tells it. */
export interface Field {
  name: string;
  type: number;
  length: number;
  binary: boolean;
  unsigned: boolean;
  decimals: number;
  flags: number;
}

/** Bytes of a piece of the stream, at least. */
const pieceBytes = 64 * 1024;

/** One connection to a MariaDB server, all values text, ended at once when its signal aborts. It only reads, but where it is opened to write. */
export class MariaSession {
  /** true where author's SQL runs in it, so that its settings are verified before each statement */
  private guarded = false;

  private constructor(
    private readonly connection: mysql.Connection,
    private readonly credentials: CredentialsOf<"mariadb">,
    readonly id: string,
    private readonly signal: AbortSignal | undefined,
  ) {}

  /** Signs in. @throws LoadFailure saying what could not be done */
  static async open(
    credentials: CredentialsOf<"mariadb">,
    signal?: AbortSignal,
    use: "reads" | "writes" = "reads",
  ): Promise<MariaSession> {
    signal?.throwIfAborted();
    const { settings, password } = credentials;
    // Only who reads such a source holds its driver.
    const { default: driver } = await import("mysql2");
    await allowed(settings);
    const connection = driver.createConnection({
      host: settings.host,
      port: settings.port,
      user: settings.user,
      password,
      database: settings.database,
      connectTimeout: 10_000,
      enableKeepAlive: true,
      // Words between client and server that could bring in files or other statements are off.
      multipleStatements: false,
      infileStreamFactory: () => {
        throw new Error("The server asked for a file");
      },
      ...(settings.tls === "off" ? {} : { ssl: { rejectUnauthorized: settings.tls === "verify" } }),
    });
    // A lost connection arrives as an event; the next statement reports it.
    connection.on("error", () => undefined);
    const open = new MariaSession(connection, credentials, "", signal);
    try {
      await new Promise<void>((resolve, reject) => connection.connect((error) => (error ? reject(error) : resolve())));
      for (const text of settleSession) await open.query(text);
      if (use === "writes") await open.query(letWrite);
      const { id = "" } = await open.one(serverFacts);
      const session = new MariaSession(connection, credentials, id ?? "", signal);
      signal?.addEventListener("abort", session.stop, { once: true });
      if (signal?.aborted) session.stop();
      return session;
    } catch (error) {
      connection.destroy();
      throw signal?.aborted ? new Cancelled("Cancelled") : explained(error, credentials);
    }
  }

  /** Ends the session at the server, its statement with it, and the connection here. */
  private readonly stop = () => {
    MariaSession.open(this.credentials)
      .then(async (killer) => {
        await killer.query(kill(this.id)).catch(() => undefined);
        await killer.close();
      })
      .catch(() => undefined)
      .finally(() => this.connection.destroy());
  };

  /** From here on statements hold SQL that an author wrote. */
  async guard(): Promise<void> {
    this.guarded = true;
    await this.verify();
  }

  private async verify(): Promise<void> {
    const [row] = await this.send(settledSession);
    if (row?.settled !== "1")
      throw new LoadFailure({
        message: `${this.credentials.name}: the session's settings are not what they were set to`,
        hint: "Nothing was written. The query may call a function that changes them.",
      });
  }

  async begin(): Promise<void> {
    for (const text of beginSnapshot) await this.query(text);
  }

  private send(sql: string): Promise<Row[]> {
    return new Promise((resolve, reject) => {
      const asked = { sql, typeCast: (field: { string(): string | null }) => field.string() };
      this.connection.query(asked as mysql.QueryOptions, (error, rows) =>
        error ? reject(error) : resolve(Array.isArray(rows) ? (rows as unknown as Row[]) : []),
      );
    });
  }

  async query(sql: string): Promise<Row[]> {
    try {
      if (this.signal?.aborted) throw new Cancelled("Cancelled");
      if (this.guarded) await this.verify();
      return await this.send(sql);
    } catch (error) {
      throw this.signal?.aborted ? new Cancelled("Cancelled") : explained(error, this.credentials);
    }
  }

  /** The one row of a statement that gives one. */
  async one(sql: string): Promise<Row> {
    return (await this.query(sql))[0] ?? {};
  }

  /** Runs a statement that writes, its values bound; how many rows it changed. */
  run(sql: string, values: (string | null)[]): Promise<number> {
    return new Promise((resolve, reject) => {
      this.connection.execute(sql, values, (error, told) =>
        error ? reject(error) : resolve(Number((told as { affectedRows?: number }).affectedRows ?? 0)),
      );
    });
  }

  /** The columns of a statement's result. */
  async fields(sql: string): Promise<Field[]> {
    if (this.guarded) await this.verify();
    return new Promise((resolve, reject) => {
      this.connection.query(sql, (error, _rows, fields) => {
        if (error) return reject(explained(error, this.credentials));
        resolve(
          (fields ?? []).map((field) => {
            const { name, columnType, columnLength, characterSet, flags, decimals } = field as unknown as {
              name: string;
              columnType: number;
              columnLength: number;
              characterSet: number;
              flags: number;
              decimals: number;
            };
            return {
              name,
              type: columnType,
              length: columnLength,
              binary: characterSet === 63,
              unsigned: (Number(flags) & 32) > 0,
              decimals,
              flags: Number(flags),
            };
          }),
        );
      });
    });
  }

  /** The lines of a statement that gives one column of them, as bytes; how many at the end. Memory does not grow with them. */
  async lines(sql: string): Promise<Readable & { counted: Promise<number> }> {
    if (this.guarded) await this.verify();
    const asked = { sql, rowsAsArray: true, typeCast: (field: { buffer(): Buffer | null }) => field.buffer() };
    const rows = this.connection.query(asked as mysql.QueryOptions).stream({ highWaterMark: 512 });
    // What cuts the connection is told to it, not to the rows.
    const cut = (error: unknown) => rows.destroy(error as Error);
    const ended = () => cut(Object.assign(new Error("It ended"), { code: "PROTOCOL_CONNECTION_LOST" }));
    this.connection.once("error", cut);
    this.connection.once("end", ended);
    rows.once("close", () => {
      this.connection.removeListener("error", cut);
      this.connection.removeListener("end", ended);
    });
    let tell: (count: number) => void = () => undefined;
    const { credentials, signal } = this;
    const pieces = async function* (): AsyncGenerator<Buffer> {
      let count = 0;
      let held: Buffer[] = [];
      let bytes = 0;
      try {
        for await (const [line] of rows as AsyncIterable<[Buffer | null]>) {
          count++;
          if (line === null)
            throw new LoadFailure({
              message: `Row ${count} of ${credentials.name} is longer than the server's max_allowed_packet`,
              hint: "Raise max_allowed_packet there, or leave out the long column.",
            });
          held.push(line, newline);
          bytes += line.length + 1;
          if (bytes < pieceBytes) continue;
          yield textual(Buffer.concat(held, bytes), credentials.name);
          held = [];
          bytes = 0;
        }
        if (bytes) yield textual(Buffer.concat(held, bytes), credentials.name);
        tell(count);
      } catch (error) {
        throw signal?.aborted ? new Cancelled("Cancelled") : explained(error, credentials);
      }
    };
    const stream = Readable.from(pieces(), { objectMode: true });
    const counted = new Promise<number>((resolve, reject) => {
      tell = resolve;
      stream.once("error", reject);
    });
    counted.catch(() => undefined);
    return Object.assign(stream, { counted });
  }

  async close(): Promise<void> {
    this.signal?.removeEventListener("abort", this.stop);
    if (this.signal?.aborted) return this.connection.destroy();
    await new Promise<void>((resolve) => {
      this.connection.end(() => resolve());
      setTimeout(resolve, 1000).unref();
    });
    this.connection.destroy();
  }
}

const newline = Buffer.from("\n");

/** Bytes that PostgreSQL takes as text. @throws LoadFailure for a zero among them */
function textual(bytes: Buffer, name: string): Buffer {
  if (!bytes.includes(0)) return bytes;
  throw new LoadFailure({
    message: `A text of ${name} holds a zero byte, which no text of the warehouse can`,
    hint: "Nothing was written. Take it out in a query: REPLACE(column, CHAR(0), '').",
  });
}

/** An error of the server's or the driver's in words; its own codes are told by MariaDB's list of them. */
export function explained(error: unknown, { name, settings }: CredentialsOf<"mariadb">): unknown {
  if (error instanceof LoadFailure || error instanceof Cancelled || !(error instanceof Error)) return error;
  const { code = "", sqlMessage: said = error.message } = error as Error & { code?: string; sqlMessage?: string };
  const failure = ((): { message: string; detail?: string; hint?: string } | null => {
    switch (code) {
      case "ER_ACCESS_DENIED_ERROR":
      case "ER_DBACCESS_DENIED_ERROR":
        return {
          message: `${name} did not sign in ${settings.user}: ${said}`,
          hint: "Check the user, the password, the database and the host from which the user may come.",
        };
      case "ER_BAD_DB_ERROR":
        return { message: `${name} has no database ${settings.database}`, hint: "Check the database's name." };
      case "ER_TABLEACCESS_DENIED_ERROR":
      case "ER_COLUMNACCESS_DENIED_ERROR":
        return { message: `${name}: ${said}`, hint: `Grant ${settings.user} the right to read, or use another user.` };
      case "ER_CON_COUNT_ERROR":
      case "ER_TOO_MANY_USER_CONNECTIONS":
        return {
          message: `${name} takes no more connections`,
          detail: said,
          hint: "Wait, or raise max_connections there.",
        };
      case "ER_TABLE_DEF_CHANGED":
        return {
          message: `A table of ${name} was changed or emptied while it was read`,
          detail: said,
          hint: "Nothing was written; run again.",
        };
      case "PROTOCOL_CONNECTION_LOST":
      case "ER_SERVER_SHUTDOWN":
      case "ER_CONNECTION_KILLED":
      case "ECONNRESET":
      case "EPIPE":
        return {
          message: `${name} closed the connection`,
          detail: said,
          hint: "The server was stopped or restarted. Nothing was changed; run again.",
        };
      case "HANDSHAKE_NO_SSL_SUPPORT":
        return { message: `${name} does not speak TLS`, hint: "Set tls to off, or turn TLS on at the server." };
      case "HANDSHAKE_SSL_ERROR":
        return {
          message: `${name}'s certificate was not accepted: ${said}`,
          hint: "Set tls to require to encrypt without checking the certificate.",
        };
      default:
        return code.startsWith("ER_") ? { message: `${name}: ${said}` } : null;
    }
  })();
  return failure
    ? Object.assign(new LoadFailure(failure), { code, cause: error })
    : Object.assign(error, { place: { name, ...settings } });
}
