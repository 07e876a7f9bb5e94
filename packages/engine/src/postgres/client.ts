import { once } from "node:events";
import * as sql from "@undercoat/core/sql/session";
import pg from "pg";
import type { Row, ServerCredentials } from "../connection/credentials.ts";
import { allowed } from "../http/egress.ts";

const asText = { getTypeParser: () => (value: string) => value };

/** A signed-in connection, and the number of its process at the server. */
export interface Backend {
  client: pg.Client;
  pid: string;
}

/** How a connection is to be. */
export interface Wanted {
  /** its name at the server */
  application: string;
  /** refuses every write */
  readOnly: boolean;
  /** milliseconds to wait for the server's answer */
  timeout: number;
  /** signs in anew, whatever connection may be there */
  fresh: boolean;
}

/** A connection waits so long for its next work, in milliseconds: many small loads sign in a few times rather than for each. */
const idleFor = 1500;
const mostIdle = 8;

interface Idle extends Backend {
  timer: NodeJS.Timeout;
}

const waiting = new Map<string, Idle[]>();

const keyOf = ({ settings, password }: ServerCredentials) => JSON.stringify([settings, password]);

function take(key: string): Backend | undefined {
  const found = waiting.get(key)?.pop();
  if (found) clearTimeout(found.timer);
  return found;
}

function forget(key: string, client: pg.Client): void {
  const list = waiting.get(key) ?? [];
  for (const entry of list) if (entry.client === client) clearTimeout(entry.timer);
  const left = list.filter((entry) => entry.client !== client);
  if (left.length) waiting.set(key, left);
  else waiting.delete(key);
}

/** Makes a connection what is wanted: its name, its settings, what it may do. */
async function settle(client: pg.Client, { application, readOnly }: Wanted): Promise<string> {
  const results = (await client.query<Row>(
    [
      sql.setSession("off"),
      sql.readOnlySession(readOnly),
      sql.named(application),
      sql.builtInFirst,
      sql.noticeLostClient,
      sql.backend,
    ].join("; "),
  )) as unknown as pg.QueryResult<Row>[];
  return results.at(-1)?.rows[0]?.pid ?? "";
}

/** A connection that waits for work, or a new one. @throws what pg throws where it can't be had */
export async function acquire(credentials: ServerCredentials, wanted: Wanted): Promise<Backend> {
  const key = keyOf(credentials);
  for (let found = wanted.fresh ? undefined : take(key); found; found = take(key)) {
    try {
      await settle(found.client, wanted);
      return found;
    } catch {
      // The server ended it while it waited.
      found.client.end().catch(() => undefined);
    }
  }
  const { settings } = credentials;
  await allowed(settings);
  const client = new pg.Client({
    host: settings.host,
    port: settings.port,
    database: settings.database,
    user: settings.user,
    password: credentials.password,
    ssl: settings.tls === "off" ? false : { rejectUnauthorized: settings.tls === "verify" },
    application_name: wanted.application,
    connectionTimeoutMillis: wanted.timeout,
    keepAlive: true,
    types: asText,
  });
  // An idle connection's loss arrives as an event; the next query reports it.
  client.on("error", () => forget(key, client));
  client.on("end", () => forget(key, client));
  try {
    await client.connect();
    return { client, pid: await settle(client, wanted) };
  } catch (error) {
    client.end().catch(() => undefined);
    throw error;
  }
}

/** Ends a connection. */
export async function end(client: pg.Client): Promise<void> {
  const ended = once(client, "end");
  client.end().catch(() => undefined);
  await Promise.race([ended, new Promise((resolve) => setTimeout(resolve, 1000).unref())]);
}

/** Undoes what a connection's work has left, and lets it wait for the next; where that fails it ends. */
export async function release(credentials: ServerCredentials, { client, pid }: Backend): Promise<void> {
  const key = keyOf(credentials);
  try {
    await client.query(sql.forgetWork);
  } catch {
    return end(client);
  }
  const list = waiting.get(key) ?? [];
  if (list.length >= mostIdle) return end(client);
  const timer = setTimeout(() => {
    forget(key, client);
    client.end().catch(() => undefined);
  }, idleFor);
  waiting.set(key, [...list, { client, pid, timer }]);
}
