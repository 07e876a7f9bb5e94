import { chmodSync, mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { type Cluster, startCluster } from "@undercoat/server/cluster/cluster";
import type { TestProject } from "vitest/node";

declare module "vitest" {
  export interface ProvidedContext {
    cluster: { port: number; user: string; password: string };
  }
}

/** Settings under which a cluster that lives for one test run is fast rather than durable. */
export const fleeting = { fsync: "off", synchronous_commit: "off", full_page_writes: "off" };

/** A cluster in a folder of its own, gone with the tests. */
export async function fleetingCluster(): Promise<{ cluster: Cluster; end: () => Promise<void> }> {
  const folder = mkdtempSync(join(tmpdir(), "undercoat-test-"));
  chmodSync(folder, 0o755);
  const cluster = await startCluster(folder, fleeting);
  return {
    cluster,
    end: async () => {
      await cluster.stop();
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

export default async function setup(project: TestProject): Promise<() => Promise<void>> {
  const { cluster, end } = await fleetingCluster();
  const { port, user, password } = cluster;
  project.provide("cluster", { port, user, password });
  return end;
}
