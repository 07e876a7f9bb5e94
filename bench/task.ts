import { setMaxListeners } from "node:events";
import { readFileSync } from "node:fs";
import { join } from "node:path";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import type { Credentials, ServerCredentials } from "@undercoat/engine/connection/credentials";
import { executeLoad, type LoadReport } from "@undercoat/engine/load/load";
import { planFor } from "@undercoat/engine/load/planning";
import { executeRehearsal } from "@undercoat/engine/load/rehearse";
import { executeProof } from "@undercoat/engine/proof/prove";
import { goneKeys } from "@undercoat/engine/proof/rows";
import { allowFolders } from "@undercoat/engine/source/files/folder";
import { spoolInto } from "@undercoat/engine/source/http/spool";
import { sourceFor } from "@undercoat/engine/source/registry";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";

/** One piece of work for a process of its own, given on standard input. */
export interface Task {
  kind: "load" | "loads" | "prove" | "gone" | "rehearse";
  source: Credentials;
  /** for files: the folder that is allowed */
  folder?: string;
  warehouse: ServerCredentials;
  load: Load;
  /** for `loads`: several, four at a time as a run has them */
  loads?: Record<string, Load>;
}

export interface TaskResult {
  /** from the first connection to the commit */
  seconds: number;
  /** peak resident memory of this process, in bytes */
  memory: number;
  told: string;
  bytes?: number;
}

const quiet: LoadReport = {
  line: () => undefined,
  phase: () => undefined,
  progress: () => undefined,
  waiting: () => undefined,
};

async function main(): Promise<TaskResult> {
  const { kind, source, warehouse, folder, load, loads = {} }: Task = JSON.parse(readFileSync(0, "utf8"));
  if (folder) {
    allowFolders([folder]);
    spoolInto(join(folder, "pages"));
  }
  const order = {
    pipelineName: "bench",
    pipeline: { title: "Bench", warehouse: "warehouse", loads: { load } },
    load: "load",
    run: { id: process.pid, uid: crypto.randomUUID() },
  };
  const signal = new AbortController().signal;
  setMaxListeners(0, signal);
  // A worker has been running for a while when it takes a run; its code is loaded and compiled.
  await Promise.all([sourceFor(source).datasets(), sourceFor(warehouse).datasets()]);
  const started = performance.now();
  const took = () => ({ seconds: (performance.now() - started) / 1000, memory: process.resourceUsage().maxRSS * 1024 });
  if (kind === "load") {
    const { tally, proof } = await executeLoad(
      { ...order, scope: { kind: "due" } },
      sourceFor(source),
      warehouseFor(warehouse),
      quiet,
      signal,
    );
    return {
      ...took(),
      told: `${tally.read} = ${tally.new} + ${tally.changed} + ${tally.same} + ${tally.rejected}, ${proof.verdict}`,
    };
  }
  if (kind === "loads") {
    const pipeline = { ...order.pipeline, loads };
    const waiting = Object.keys(loads);
    const verdicts: string[] = [];
    const taker = async () => {
      for (let name = waiting.pop(); name !== undefined; name = waiting.pop()) {
        const { proof } = await executeLoad(
          { ...order, pipeline, load: name, scope: { kind: "due" } },
          sourceFor(source),
          warehouseFor(warehouse),
          quiet,
          signal,
        );
        verdicts.push(proof.verdict);
      }
    };
    await Promise.all([taker(), taker(), taker(), taker()]);
    return {
      ...took(),
      told: `${verdicts.filter((verdict) => verdict === "proved").length} of ${verdicts.length} proved`,
    };
  }
  if (kind === "gone") {
    const [from, into] = await Promise.all([
      sourceFor(source).snapshot("bench"),
      warehouseFor(warehouse).snapshot("bench"),
    ]);
    const { plan } = await planFor(order, { source: from, warehouse: into });
    const answers = from.answers(plan);
    if (!answers) throw new Error("The source answers nothing");
    const found = await goneKeys(answers.keys(plan, null), into.keys(plan, null, null), 1_000_000);
    const done = took();
    await Promise.all([from.close(), into.close()]);
    return { ...done, told: `${found.keys.length} gone; ${found.checksums} checksums, ${found.keysRead} keys` };
  }
  if (kind === "rehearse") {
    const { tally } = await executeRehearsal(
      { ...order, scope: { kind: "due" }, limit: null },
      sourceFor(source),
      warehouseFor(warehouse),
      quiet,
      signal,
    );
    return { ...took(), told: `${tally.read} = ${tally.new} + ${tally.changed} + ${tally.same} + ${tally.rejected}` };
  }
  const { rows } = await executeProof(
    { ...order, slices: "all", rows: true },
    sourceFor(source),
    warehouseFor(warehouse),
    quiet,
    signal,
  );
  return {
    ...took(),
    told: `${rows?.missing} missing, ${rows?.extra} extra, ${rows?.different} different; ${rows?.checksums} checksums, ${rows?.keysRead} keys`,
    bytes: rows?.bytes,
  };
}

console.log(JSON.stringify(await main()));
