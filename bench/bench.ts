import { spawn } from "node:child_process";
import { chmodSync, mkdtempSync, rmSync } from "node:fs";
import { cpus, tmpdir, totalmem } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import type { Credentials } from "@undercoat/engine/session";
import { type Cluster, startCluster } from "@undercoat/server/cluster/cluster";
import { columns, dataset, makeRows } from "./rows.ts";
import type { Task, TaskResult } from "./task.ts";

/**
 * Measures this product against hand-written psql in the same run, between two PostgreSQL servers, and prints ratios.
 * `./undercoat bench [--rows N] [--large N] [--repeat N]`
 */
const option = (name: string, otherwise: number) => {
  const at = process.argv.indexOf(`--${name}`);
  return at > 0 ? Number(process.argv[at + 1]) : otherwise;
};
const rows = option("rows", 1_000_000);
const large = option("large", 5_000_000);
const repeat = option("repeat", 3);
if (process.argv.includes("--help")) {
  console.log("./undercoat bench [--rows 1000000] [--large 5000000] [--repeat 3]");
  process.exit(0);
}

interface Server {
  cluster: Cluster;
  credentials: Credentials;
}

interface Line {
  work: string;
  ours: number;
  theirs: number | null;
  aim: string;
  memory: number;
  note: string;
}

async function startServer(folder: string, name: string): Promise<Server> {
  const cluster = await startCluster(join(folder, name));
  const { port, user, password } = cluster;
  return { cluster, credentials: { name, settings: { kind: "postgres", host: "127.0.0.1", port, database: "postgres", user, tls: "off" }, password } };
}

/** Runs a shell line with psql reaching both servers as $SOURCE and $WAREHOUSE; its seconds. */
function shell(source: Server, warehouse: Server, line: string): Promise<{ seconds: number; output: string }> {
  return new Promise((done, fail) => {
    const started = performance.now();
    const child = spawn("bash", ["-c", `set -euo pipefail\n${line}`], { stdio: ["ignore", "pipe", "inherit"], env: { ...process.env, SOURCE: source.cluster.url("postgres"), WAREHOUSE: warehouse.cluster.url("postgres"), LC_ALL: "C" } });
    let output = "";
    child.stdout.on("data", (chunk) => {
      output += chunk;
    });
    child.on("exit", (status) => (status === 0 ? done({ seconds: (performance.now() - started) / 1000, output }) : fail(new Error(`psql failed: ${line.slice(0, 120)}`))));
  });
}

/** Runs one task in a process of its own, as a worker would, and reads its peak memory. */
function task(work: Task): Promise<TaskResult> {
  return new Promise((done, fail) => {
    const child = spawn(process.execPath, ["--import", "tsx", fileURLToPath(new URL("./task.ts", import.meta.url))], { stdio: ["pipe", "pipe", "inherit"] });
    let output = "";
    child.stdout.on("data", (chunk) => {
      output += chunk;
    });
    child.on("exit", (status) => (status === 0 ? done(JSON.parse(output)) : fail(new Error(`the task ${work.kind} failed`))));
    child.stdin.end(JSON.stringify(work));
  });
}

const median = (values: number[]) => [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)] ?? 0;
const q = "PGOPTIONS='-c client_min_messages=warning' psql -X -q -v ON_ERROR_STOP=1";

/** Both ways in turn, `repeat` times, each after `before`; their medians. */
async function compared(before: () => Promise<unknown>, ours: () => Promise<TaskResult>, theirs: () => Promise<{ seconds: number }>): Promise<{ ours: number; theirs: number; memory: number; result: TaskResult }> {
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

const folder = mkdtempSync(join(tmpdir(), "undercoat-bench-"));
chmodSync(folder, 0o755);
const load: Load = {
  from: { connection: "source", table: "public.fact" },
  watermark: { column: "updated_at" },
  into: { table: "landing.fact", mode: "upsert", key: ["id"] },
  proof: { figures: ["rows", "sum(amount)", "max(updated_at)"] },
};
const lines: Line[] = [];
const [source, warehouse] = [await startServer(folder, "source"), await startServer(folder, "warehouse")];
const sides = { source: source.credentials, warehouse: warehouse.credentials, load };
const atSource = (sql: string) => shell(source, warehouse, `${q} "$SOURCE" <<'SQL'\n${sql}\nSQL`);
const atWarehouse = (sql: string) => shell(source, warehouse, `${q} "$WAREHOUSE" <<'SQL'\n${sql}\nSQL`);
const reset = () => atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE; DROP TABLE IF EXISTS hand; CHECKPOINT");
try {
  console.log(`${cpus().length} cores, ${Math.round(totalmem() / 2 ** 30)} GiB, two PostgreSQL servers on loopback, ${rows.toLocaleString("en")} rows × 12 columns, median of ${repeat}`);
  await atSource(`${dataset}; ${makeRows(rows)}`);

  const first = await compared(
    reset,
    () => task({ ...sides, kind: "load" }),
    () => shell(source, warehouse, `${q} "$WAREHOUSE" -c "CREATE TABLE hand (${columns}, PRIMARY KEY (id))"; ${q} "$SOURCE" -c "COPY fact TO STDOUT" | ${q} "$WAREHOUSE" -c "COPY hand FROM STDIN"`),
  );
  lines.push({ work: "first load into a new keyed table, tally and proof included", ...first, aim: "≤ 1.25", note: "against COPY (text) piped to COPY into a table with that primary key" });

  // The watermark's column moves for all 50,000, so it is left out of what is compared: 10,000 rows change.
  const { updated_at: _, ...rest } = Object.fromEntries(columns.split(", ").map((column) => [column.split(" ")[0] ?? "", column.split(" ")[0] ?? ""]));
  const narrow: Load = { ...load, columns: rest, proof: { figures: ["rows", "sum(amount)"] } };
  const narrowSides = { ...sides, load: narrow };
  const names = Object.keys(rest);
  const upsert = await compared(
    async () => {
      await reset();
      await atWarehouse(`CREATE TABLE hand (${columns}, PRIMARY KEY (id))`);
      await shell(source, warehouse, `${q} "$SOURCE" -c "COPY (SELECT * FROM fact) TO STDOUT" | ${q} "$WAREHOUSE" -c "COPY hand FROM STDIN"`);
      await task({ ...narrowSides, kind: "load" });
      await atSource("UPDATE fact SET amount = amount + 1 WHERE id <= 10000; UPDATE fact SET updated_at = (SELECT max(updated_at) FROM fact) + interval '1 second' WHERE id <= 50000; VACUUM ANALYZE fact");
      await atWarehouse("VACUUM ANALYZE; CHECKPOINT");
    },
    () => task({ ...narrowSides, kind: "load" }),
    () =>
      shell(
        source,
        warehouse,
        `since=$(psql -XAtc "SELECT max(updated_at) FROM hand" "$WAREHOUSE")
${q} "$SOURCE" -c "COPY (SELECT ${names.join(", ")} FROM fact WHERE updated_at >= '$since') TO STDOUT" | ${q} "$WAREHOUSE" -c "BEGIN" -c "CREATE TEMP TABLE fresh AS SELECT ${names.join(", ")} FROM hand LIMIT 0" -c "COPY fresh FROM STDIN" -c "INSERT INTO hand (${names.join(", ")}) SELECT * FROM fresh ON CONFLICT (id) DO UPDATE SET ${names.slice(1).map((name) => `${name} = excluded.${name}`).join(", ")} WHERE (${names.slice(1).map((name) => `hand.${name}`).join(", ")}) IS DISTINCT FROM (${names.slice(1).map((name) => `excluded.${name}`).join(", ")})" -c "COMMIT"`,
      ),
  );
  lines.push({ work: "incremental upsert of 50,000 rows, 10,000 of them changed", ...upsert, aim: "≤ 1.3", note: `tally ${upsert.result.told}; the hand-written way proves nothing` });

  await reset();
  // One row alone carries the highest watermark, as it does between two business moments.
  await atSource("UPDATE fact SET updated_at = updated_at + interval '1 second' WHERE id = 1");
  await task({ ...sides, kind: "load" });
  await atWarehouse("VACUUM ANALYZE");
  const idle: TaskResult[] = [];
  for (let time = 0; time < repeat; time++) idle.push(await task({ ...sides, kind: "load" }));
  lines.push({ work: "a run that finds nothing", ours: median(idle.map((one) => one.seconds)), theirs: null, aim: "≤ 0.4 s", memory: idle.at(-1)?.memory ?? 0, note: `tally ${idle.at(-1)?.told}; proves all ${rows.toLocaleString("en")} rows again` });

  await atWarehouse("UPDATE landing.fact SET amount = amount + 0.01 WHERE id IN (77, 500000, 999999)");
  const found = await compared(
    async () => undefined,
    () => task({ ...sides, kind: "prove" }),
    () => shell(source, warehouse, `${q} "$SOURCE" -c "COPY (SELECT * FROM fact ORDER BY id) TO STDOUT" > ${folder}/left & ${q} "$WAREHOUSE" -c "COPY (SELECT * FROM landing.fact ORDER BY id) TO STDOUT" > ${folder}/right; wait; diff ${folder}/left ${folder}/right > ${folder}/found || true; wc -c < ${folder}/left`),
  );
  const { output } = await shell(source, warehouse, `cat ${folder}/left ${folder}/right | wc -c`);
  const share = (100 * (found.result.bytes ?? 0)) / Number(output);
  lines.push({ work: `find 3 differing rows of ${rows.toLocaleString("en")}`, ...found, aim: "≤ 1.0, under 2 % of the bytes", note: `${found.result.told}; ${((found.result.bytes ?? 0) / 1000).toFixed(0)} kB of answers, ${share.toFixed(2)} % of ${(Number(output) / 1e6).toFixed(0)} MB` });

  if (large > 0) {
    await reset();
    await atSource(`${dataset}; ${makeRows(large)}`);
    const big = await task({ ...sides, kind: "load" });
    lines.push({ work: `memory of a ${large.toLocaleString("en")}-row load`, ours: big.seconds, theirs: null, aim: "≤ 200 MB", memory: big.memory, note: `tally ${big.told}` });
  }

  console.log(`\n${"work".padEnd(62)}${"this".padStart(8)}${"psql".padStart(8)}${"ratio".padStart(7)}${"memory".padStart(9)}  aim`);
  for (const { work, ours, theirs, aim, memory, note } of lines) {
    console.log(`${work.padEnd(62)}${`${ours.toFixed(2)} s`.padStart(8)}${(theirs === null ? "" : `${theirs.toFixed(2)} s`).padStart(8)}${(theirs === null ? "" : (ours / theirs).toFixed(2)).padStart(7)}${`${(memory / 1e6).toFixed(0)} MB`.padStart(9)}  ${aim}`);
    if (note) console.log(`  ${note}`);
  }
} finally {
  await source.cluster.stop();
  await warehouse.cluster.stop();
  rmSync(folder, { recursive: true, force: true });
}
