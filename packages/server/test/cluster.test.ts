import { chmodSync, mkdtempSync, readFileSync, rmSync, statSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { freePort, startCluster } from "@undercoat/server/cluster/cluster";
import pg from "pg";
import { expect, test } from "vitest";

async function ask(url: string, sql: string): Promise<unknown> {
  const client = new pg.Client({ connectionString: url });
  // A server that is killed tells it beside the answer.
  client.on("error", () => undefined);
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

test("a cluster that was killed starts again, whatever it left: its children, its note, a number that is another's now", async () => {
  const folder = mkdtempSync(join(tmpdir(), "undercoat-killed-"));
  chmodSync(folder, 0o755);
  const first = await startCluster(folder);
  const note = join(folder, "postgres/data/postmaster.pid");
  const kill = () => {
    const kept = readFileSync(note, "utf8");
    process.kill(Number(kept.split("\n")[0]), "SIGKILL");
    return kept;
  };
  try {
    // A statement at work holds the memory of the server that is gone.
    const busy = ask(first.url("postgres"), "SELECT pg_sleep(600)").catch(() => undefined);
    await ask(first.url("postgres"), "SELECT count(*) FROM pg_stat_activity WHERE query LIKE '%pg_sleep%'");
    kill();
    const second = await startCluster(folder);
    await busy;
    expect(second.port).toBe(first.port);
    expect(await second.answers()).toBe(true);
    const kept = kill();
    await startCluster(folder).then((third) => third.stop());
    expect(await second.answers()).toBe(false);
    // After a restart of the machine that number may be anybody's: here it is this process.
    writeFileSync(note, kept.replace(/^\d+/, String(process.pid)));
    const last = await startCluster(folder);
    expect(await ask(last.url("postgres"), "SELECT 1")).toBe(1);
  } finally {
    await first.stop();
  }
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
