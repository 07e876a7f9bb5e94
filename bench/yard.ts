import { spawn } from "node:child_process";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import type { ServerCredentials } from "@undercoat/engine/connection/credentials";
import { type Cluster, startCluster } from "@undercoat/server/cluster/cluster";
import type { Task, TaskResult } from "./task.ts";

/** What measures: two servers, psql by hand, tasks in processes of their own. */
export interface Server {
  cluster: Cluster;
  credentials: ServerCredentials;
}

/** A line of the table that is printed. */
export interface Line {
  work: string;
  ours: number;
  theirs: number | null;
  aim: string;
  memory: number;
  note: string;
}

export async function startServer(folder: string, name: string): Promise<Server> {
  const cluster = await startCluster(join(folder, name));
  const { port, user, password } = cluster;
  return {
    cluster,
    credentials: {
      name,
      settings: { kind: "postgres", host: "127.0.0.1", port, database: "postgres", user, tls: "off" },
      password,
    },
  };
}

/** Runs a shell line with psql reaching both servers as $SOURCE and $WAREHOUSE; its seconds. */
export function shell(source: Server, warehouse: Server, line: string): Promise<{ seconds: number; output: string }> {
  return new Promise((done, fail) => {
    const started = performance.now();
    const child = spawn("bash", ["-c", `set -euo pipefail\n${line}`], {
      stdio: ["ignore", "pipe", "inherit"],
      env: {
        ...process.env,
        SOURCE: source.cluster.url("postgres"),
        WAREHOUSE: warehouse.cluster.url("postgres"),
        LC_ALL: "C",
      },
    });
    let output = "";
    child.stdout.on("data", (chunk) => {
      output += chunk;
    });
    child.on("exit", (status) =>
      status === 0
        ? done({ seconds: (performance.now() - started) / 1000, output })
        : fail(new Error(`psql failed: ${line.slice(0, 120)}`)),
    );
  });
}

/** Runs one task in a process of its own, as a worker would, and reads its peak memory. */
export function task(work: Task): Promise<TaskResult> {
  return new Promise((done, fail) => {
    const child = spawn(process.execPath, ["--import", "tsx", fileURLToPath(new URL("./task.ts", import.meta.url))], {
      stdio: ["pipe", "pipe", "inherit"],
    });
    let output = "";
    child.stdout.on("data", (chunk) => {
      output += chunk;
    });
    child.on("exit", (status) =>
      status === 0 ? done(JSON.parse(output)) : fail(new Error(`the task ${work.kind} failed`)),
    );
    child.stdin.end(JSON.stringify(work));
  });
}

export const median = (values: number[]) => [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)] ?? 0;
/** psql, for a shell line. */
export const q = "PGOPTIONS='-c client_min_messages=warning' psql -X -q -v ON_ERROR_STOP=1";

/** Both ways in turn, `repeat` times, each after `before`; their medians. */
export async function compared(
  repeat: number,
  before: () => Promise<unknown>,
  ours: () => Promise<TaskResult>,
  theirs: () => Promise<{ seconds: number }>,
): Promise<{ ours: number; theirs: number; memory: number; result: TaskResult }> {
  const [mine, hand]: [number[], number[]] = [[], []];
  let result: TaskResult | undefined;
  for (let time = 0; time < repeat; time++) {
    await before();
    hand.push((await theirs()).seconds);
    await before();
    result = await ours();
    mine.push(result.seconds);
  }
  if (!result) throw new Error("nothing was measured");
  return { ours: median(mine), theirs: median(hand), memory: result.memory, result };
}

/** Where a part of the benchmark works. */
export interface Yard {
  repeat: number;
  rows: number;
  atSource(sql: string): Promise<unknown>;
  atWarehouse(sql: string): Promise<unknown>;
  /** empties the warehouse */
  reset(): Promise<unknown>;
  /** a shell line by hand */
  hand(line: string): Promise<{ seconds: number; output: string }>;
  sides: { source: ServerCredentials; warehouse: ServerCredentials };
}
