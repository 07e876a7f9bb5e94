import { type ChildProcess, spawn } from "node:child_process";
import { chmodSync, createWriteStream, existsSync, readFileSync, rmSync } from "node:fs";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { serve as listen, type ServerType } from "@hono/node-server";
import pino from "pino";
import { makeApp } from "../app.ts";
import { type Cluster, startCluster } from "../cluster/cluster.ts";
import type { House } from "../context.ts";
import { releaseRuns } from "../jobs/lease.ts";
import { prune } from "../jobs/prune.ts";
import { Queue } from "../jobs/queue.ts";
import { recoverRuns } from "../jobs/recover.ts";
import { startScheduler } from "../jobs/scheduler.ts";
import { workerName } from "../jobs/worker.ts";
import { startPostman } from "../messages/postman.ts";
import { noteAddress } from "../messages/tell.ts";
import { broadcast, closeStreams } from "../routes/events.ts";
import { SettingError, type Settings, writePrivate } from "../settings.ts";
import { Store } from "../store/store.ts";
import { openDatabase } from "./database.ts";
import { settleReach } from "./reach.ts";

export interface Serving {
  address: string;
  house: House;
  /** the private cluster's database addresses, where there is one */
  databaseUrl: ((database: string) => string) | null;
  clusterPort: number | null;
  /** has something closed when the server stops */
  closes(close: () => Promise<unknown>): void;
  stop(): Promise<void>;
}

const entry = fileURLToPath(new URL("../main.ts", import.meta.url));

/** A worker process beside the server; one that dies has its runs ended and is started again. */
function keepWorker(
  store: Store,
  settings: Settings,
  url: string,
  failed: (error: unknown) => void,
): { stop: () => Promise<void> } {
  let stopping = false;
  let child: ChildProcess | undefined;
  const log = createWriteStream(join(settings.data, "worker.log"), { flags: "a", mode: 0o600 });
  const start = () => {
    // Its own group, so that Ctrl-C reaches it through the server, after requests have ended.
    const started = spawn(process.execPath, ["--import", "tsx", entry, "worker"], {
      detached: true,
      stdio: ["ignore", "pipe", "pipe", "ipc"],
      env: {
        ...process.env,
        UNDERCOAT_DATA: settings.data,
        UNDERCOAT_DATABASE_URL: url,
        UNDERCOAT_SECRET_KEY: settings.key.toString("base64"),
      },
    });
    child = started;
    started.stdout?.pipe(log, { end: false });
    started.stderr?.pipe(log, { end: false });
    started.once("exit", async () => {
      if (stopping) return;
      if (started.pid)
        await releaseRuns(store, workerName(started.pid))
          .then(() => recoverRuns(store, workerName(process.pid), failed))
          .catch(failed);
      setTimeout(() => !stopping && start(), 500);
    });
  };
  start();
  return {
    async stop() {
      stopping = true;
      const running = child;
      if (!running || running.exitCode !== null || running.signalCode !== null) {
        log.end();
        return;
      }
      const ended = new Promise((done) => running.once("exit", done));
      running.kill("SIGTERM");
      const late = setTimeout(() => running.kill("SIGKILL"), 8000);
      await ended;
      clearTimeout(late);
      log.end();
    },
  };
}

/** How often what has been kept long enough is taken away, in milliseconds. */
const pruneEvery = 3_600_000;

/** How often the private cluster is looked at, in milliseconds. */
const clusterLook = 2000;

/** Starts the private cluster again when it has died, on the port that it had. */
function keepCluster(data: string, cluster: Cluster, failed: (error: unknown) => void): { stop: () => Promise<void> } {
  let looking: Promise<void> | null = null;
  const look = async () => {
    if (await cluster.answers()) return;
    failed(new Error("the private database does not answer; it is started again"));
    const { port } = await startCluster(data);
    if (port !== cluster.port)
      failed(new Error(`the private database is at port ${port} now; stop Undercoat and start it again`));
  };
  const timer = setInterval(() => {
    looking ??= look()
      .catch(failed)
      .finally(() => {
        looking = null;
      });
  }, clusterLook);
  return {
    async stop() {
      clearInterval(timer);
      await looking;
    },
  };
}

function bind(app: ReturnType<typeof makeApp>, settings: Settings): Promise<ServerType> {
  return new Promise((done, fail) => {
    const server = listen({ fetch: app.fetch, port: settings.port, hostname: settings.host });
    server.once("listening", () => done(server));
    server.once("error", (error: NodeJS.ErrnoException) => {
      if (error.code === "EADDRINUSE")
        fail(
          new SettingError(
            `Port ${settings.port} is taken. Set UNDERCOAT_PORT to another one, or to 0 for any that is free.`,
          ),
        );
      else if (error.code === "EACCES")
        fail(
          new SettingError(`Port ${settings.port} may not be used by this user. Set UNDERCOAT_PORT to one above 1023.`),
        );
      else fail(new SettingError(`The server can't listen on ${settings.host}:${settings.port}: ${error.message}.`));
    });
  });
}

/** Another server on this data folder, if one lives. */
export function otherServer(settings: Settings): number | null {
  const file = join(settings.data, "pid");
  if (!existsSync(file)) return null;
  const pid = Number(readFileSync(file, "utf8"));
  try {
    if (pid === process.pid) return null;
    process.kill(pid, 0);
    return readFileSync(`/proc/${pid}/cmdline`, "utf8").includes("main.ts") ? pid : null;
  } catch {
    return null;
  }
}

/** Brings everything up: database, migrations, server, scheduler, worker. `passHour` is given by the demo. */
export async function serve(
  settings: Settings,
  passHour: ((url: (database: string) => string) => Promise<void>) | null,
): Promise<Serving> {
  const other = otherServer(settings);
  if (other !== null)
    throw new SettingError(
      `Undercoat runs already on ${settings.data} (process ${other}). Stop it with ./undercoat stop.`,
    );
  const database = await openDatabase(settings);
  const undo: (() => Promise<unknown> | unknown)[] = [];
  const stop = async () => {
    for (const step of undo.reverse()) await step();
    undo.length = 0;
  };
  if (database.cluster) undo.push(() => database.cluster?.stop());
  try {
    const store = await Store.open(database.url, settings.key);
    undo.push(() => store.close());
    if (existsSync(join(settings.data, "server.log"))) chmodSync(join(settings.data, "server.log"), 0o600);
    const log = pino(
      pino.destination({ dest: join(settings.data, "server.log"), mkdir: true, sync: false, mode: 0o600 }),
    );
    const failed = (error: unknown) =>
      log.error({ error: error instanceof Error ? (error.stack ?? error.message) : String(error) }, "unforeseen");
    if (database.cluster) {
      const keeper = keepCluster(settings.data, database.cluster, failed);
      undo.push(() => keeper.stop());
    }
    const queue = await Queue.open(store, true, failed);
    undo.push(() => queue.close());
    const cluster = database.cluster;
    const house: House = {
      store,
      queue,
      settings,
      passHour: passHour && cluster ? () => passHour(cluster.url) : null,
      standins: null,
    };
    const server = await bind(makeApp(house, log), settings);
    const bound = server.address() as { port: number };
    const address = `http://${settings.host.includes(":") ? `[${settings.host}]` : settings.host}:${bound.port}`;
    writePrivate(settings.data, "address", address);
    settleReach(settings, database.url);
    undo.push(
      () =>
        new Promise((done) => {
          server.close(done);
          (server as { closeAllConnections?: () => void }).closeAllConnections?.();
        }),
    );
    const deafen = await store.listen({ event: broadcast, back: () => closeStreams(() => true) });
    undo.push(deafen);
    await recoverRuns(store, workerName(process.pid), failed);
    const scheduler = startScheduler(store, queue, failed);
    undo.push(() => scheduler.stop());
    const postman = startPostman(store, settings.key, failed);
    undo.push(() => postman.stop());
    const tidy = setInterval(() => prune(store, settings.keeping, failed).catch(failed), pruneEvery);
    undo.push(() => clearInterval(tidy));
    const worker = keepWorker(store, settings, database.url, failed);
    undo.push(() => worker.stop());
    writePrivate(settings.data, "pid", String(process.pid));
    await noteAddress(settings.address ?? address);
    undo.push(() => rmSync(join(settings.data, "pid"), { force: true }));
    return {
      address,
      house,
      databaseUrl: cluster?.url ?? null,
      clusterPort: cluster?.port ?? null,
      closes: (close) => void undo.push(close),
      stop,
    };
  } catch (error) {
    await stop();
    throw error;
  }
}
