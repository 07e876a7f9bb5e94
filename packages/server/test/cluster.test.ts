import { chmodSync, mkdtempSync, readFileSync, rmSync, statSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { freePort, startCluster } from "@undercoat/server/cluster/cluster";
import pg from "pg";
import { expect, test } from "vitest";

async function ask(url: string, sql: string): Promise<unknown> {
  const client = new pg.Client({ connectionString: url });
  await client.connect();
  try {
    return Object.values((await client.query(sql)).rows[0])[0];
  } finally {
    await client.end();
  }
}

test("a private cluster listens on loopback alone, is taken over while it runs, and keeps its rows and its port", async () => {
  const folder = mkdtempSync(join(tmpdir(), "undercoat-cluster-"));
  chmodSync(folder, 0o755);
  const first = await startCluster(folder);
  try {
    await ask(first.url("postgres"), "CREATE TABLE kept AS SELECT 1; SELECT 1").catch(() => undefined);
    expect(
      await ask(
        first.url("postgres"),
        "SELECT current_setting('listen_addresses') || current_setting('unix_socket_directories')",
      ),
    ).toBe("127.0.0.1");
    expect(await ask(first.url("postgres"), "SELECT current_setting('fsync')")).toBe("on");
    await expect(ask(first.url("postgres").replace(first.password, "guess"), "SELECT 1")).rejects.toThrow(/password/);
    const again = await startCluster(folder);
    expect(again.port).toBe(first.port);
    await again.stop();
    const later = await startCluster(folder);
    expect(later.port).toBe(first.port);
    expect(await ask(later.url("postgres"), "SELECT count(*)::int FROM kept")).toBe(1);
  } finally {
    await first.stop();
  }
  expect(statSync(join(folder, "postgres")).mode & 0o777).toBe(0o700);
  expect(readFileSync(join(folder, "postgres/password"), "utf8")).toBe(first.password);
  rmSync(folder, { recursive: true, force: true });
});

test.runIf(process.getuid?.() === 0)("a folder that the cluster's user can't enter is no obstacle", async () => {
  const closed = mkdtempSync(join(tmpdir(), "undercoat-closed-"));
  chmodSync(closed, 0o700);
  const cluster = await startCluster(join(closed, "data"));
  const files = (await ask(cluster.url("postgres"), "SELECT current_setting('data_directory')")) as string;
  await cluster.stop();
  expect(files).toMatch(/^\/var\/lib\/undercoat\/[0-9a-f]{12}\/data$/);
  rmSync(closed, { recursive: true });
  rmSync(join(files, ".."), { recursive: true });
});

test("a free port is the wanted one, or another where that is taken", async () => {
  const wanted = await freePort();
  expect(await freePort(wanted)).toBe(wanted);
});
