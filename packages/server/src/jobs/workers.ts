import { hostname } from "node:os";
import type { WorkersView } from "@undercoat/core/api/api";
import { Op, QueryTypes } from "sequelize";
import manifest from "../../package.json" with { type: "json" };
import { ConnectionRow, RunLoadRow, RunRow, WorkerRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { leaseSeconds } from "./lease.ts";
import { usualParallel } from "./seats.ts";

/** More runs than this one worker never takes at a time. */
export const mostParallel = 32;

/** What is wanted of a worker: so many runs at a time, none where it is to rest. */
export interface Wanted {
  parallel: number;
  resting: boolean;
}

/** Says that a worker lives, since when and with how much memory; what is wanted of it comes back, as somebody may have changed it. */
export async function noteWorker(store: Store, name: string, parallel: number): Promise<Wanted> {
  const [wanted = { parallel, resting: false }] = await store.sequelize.query<Wanted>(
    `INSERT INTO workers (name, host, pid, version, parallel, resting, memory, started_at, seen_at)
     VALUES (:name, :host, :pid, :version, :parallel, false, :memory, now(), now())
     ON CONFLICT (name) DO UPDATE SET seen_at = now(), memory = EXCLUDED.memory RETURNING parallel, resting`,
    {
      replacements: {
        name,
        host: hostname(),
        pid: process.pid,
        version: manifest.version,
        parallel,
        memory: process.memoryUsage().rss,
      },
      type: QueryTypes.SELECT,
    },
  );
  return wanted;
}

/** Takes a worker off the list that has stopped. */
export const forgetWorker = (name: string) => WorkerRow.destroy({ where: { name } });

/** Who works, at what, and how much of what may be used at a time is in use. */
export async function workersView(store: Store): Promise<WorkersView> {
  const rows = await store.query<{
    name: string;
    host: string;
    pid: number;
    version: string;
    parallel: number;
    resting: boolean;
    memory: string;
    startedAt: Date;
    seenAt: Date;
    lost: boolean;
  }>(
    `SELECT name, host, pid, version, parallel, resting, memory, started_at AS "startedAt", seen_at AS "seenAt",
       seen_at < now() - make_interval(secs => ${leaseSeconds}) AS lost FROM workers ORDER BY host, started_at`,
  );
  const running = await RunRow.findAll({
    where: { status: "running" },
    attributes: ["id", "pipeline", "title", "kind", "worker", "startedAt"],
    order: ["id"],
  });
  const loads = await RunLoadRow.findAll({
    where: { runId: running.map(({ id }) => id), status: "running" },
    attributes: ["runId", "load", "phase"],
  });
  const seats = await store.query<{ connection: string; taken: number }>(
    "SELECT s.connection, count(*)::int AS taken FROM seats s JOIN runs r ON r.id = s.run_id WHERE r.status = 'running' AND r.lease_until > now() GROUP BY s.connection",
  );
  return {
    workers: rows.map((row) => ({
      name: row.name,
      host: row.host,
      pid: row.pid,
      version: row.version,
      parallel: row.parallel,
      resting: row.resting,
      memory: row.memory,
      startedAt: row.startedAt.toISOString(),
      seenAt: row.seenAt.toISOString(),
      lost: row.lost,
      runs: running
        .filter(({ worker }) => worker === row.name)
        .map((run) => ({
          id: run.id,
          title: run.title,
          kind: run.kind,
          startedAt: run.startedAt?.toISOString() ?? null,
          loads: loads.filter(({ runId }) => runId === run.id).map(({ load, phase }) => ({ load, phase })),
        })),
    })),
    waiting: await RunRow.count({ where: { status: "queued" } }),
    connections: (await ConnectionRow.findAll({ order: ["name"] })).map(({ name, settings }) => ({
      name,
      parallel: settings.parallel ?? usualParallel,
      taken: seats.find((seat) => seat.connection === name)?.taken ?? 0,
    })),
  };
}

/** Takes workers off the list that have not been heard of for a day. */
export const forgetLost = () =>
  WorkerRow.destroy({ where: { seenAt: { [Op.lt]: new Date(Date.now() - 86_400_000) } } });
