import { readFileSync } from "node:fs";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import { executeLoad, type LoadReport } from "@undercoat/engine/load/load";
import { executeProof } from "@undercoat/engine/proof/prove";
import type { Credentials } from "@undercoat/engine/session";
import { sourceFor } from "@undercoat/engine/source/registry";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";

/** One piece of work for a process of its own, given on standard input. */
export interface Task {
  kind: "load" | "prove";
  source: Credentials;
  warehouse: Credentials;
  load: Load;
}

export interface TaskResult {
  /** from the first connection to the commit */
  seconds: number;
  /** peak resident memory of this process, in bytes */
  memory: number;
  told: string;
  bytes?: number;
}

const quiet: LoadReport = { line: () => undefined, phase: () => undefined, progress: () => undefined, waiting: () => undefined };

async function main(): Promise<TaskResult> {
  const { kind, source, warehouse, load }: Task = JSON.parse(readFileSync(0, "utf8"));
  const order = { pipelineName: "bench", pipeline: { title: "Bench", warehouse: "warehouse", loads: { load } }, load: "load", run: { id: process.pid, uid: crypto.randomUUID() } };
  const signal = new AbortController().signal;
  // A worker has been running for a while when it takes a run; its code is loaded and compiled.
  await Promise.all([sourceFor(source).datasets(), sourceFor(warehouse).datasets()]);
  const started = performance.now();
  const took = () => ({ seconds: (performance.now() - started) / 1000, memory: process.resourceUsage().maxRSS * 1024 });
  if (kind === "load") {
    const { tally, proof } = await executeLoad({ ...order, scope: { kind: "due" } }, sourceFor(source), warehouseFor(warehouse), quiet, signal);
    return { ...took(), told: `${tally.read} = ${tally.new} + ${tally.changed} + ${tally.same} + ${tally.rejected}, ${proof.verdict}` };
  }
  const { rows } = await executeProof({ ...order, slices: "all", rows: true }, sourceFor(source), warehouseFor(warehouse), quiet, signal);
  return { ...took(), told: `${rows?.missing} missing, ${rows?.extra} extra, ${rows?.different} different; ${rows?.checksums} checksums, ${rows?.keysRead} keys`, bytes: rows?.bytes };
}

console.log(JSON.stringify(await main()));
