import type { Load } from "@undercoat/core/pipeline/pipeline";
import type { Credentials } from "@undercoat/engine/connection/credentials";
import { executeLoad } from "@undercoat/engine/load/load";
import { sourceFor } from "@undercoat/engine/source/registry";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";
import { quiet } from "./quiet.ts";

/** Runs one load in a process of its own, so that a test can kill it. */
const { source, warehouse, load } = JSON.parse(process.argv[2] ?? "{}") as {
  source: Credentials;
  warehouse: Credentials;
  load: Load;
};
const pipeline = { title: "Test", warehouse: "warehouse", loads: { load } };
await executeLoad(
  {
    pipelineName: "test",
    pipeline,
    load: "load",
    scope: { kind: "due" },
    run: { id: process.pid, uid: crypto.randomUUID() },
  },
  sourceFor(source),
  warehouseFor(warehouse),
  quiet,
  new AbortController().signal,
);
