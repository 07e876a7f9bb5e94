import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import { openGate } from "@undercoat/standins/gate";
import { compared, type Line, q, task, type Yard } from "./yard.ts";

const columns =
  "scan_id bigint PRIMARY KEY, ticket bigint, port text, gate text, result text, paid numeric, scanned_at timestamptz, updated_at timestamptz, device jsonb";

/** How an application that is read by pages, or by its export, compares with curl, jq and psql. */
export async function webLines({ repeat, rows, reset, hand, sides }: Yard): Promise<Line[]> {
  const count = Math.min(rows, 500_000);
  const gate = await openGate({ scans: count, lasting: 3600 });
  const folder = mkdtempSync(join(tmpdir(), "undercoat-bench-web-"));
  const token = new URL("/oauth/token", gate.url).href;
  const oauth = { grant: "client_credentials" as const, token, client: gate.client, scopes: ["scans.read"] };
  const settings = { kind: "http" as const, url: gate.url, describe: "/openapi.json", auth: { oauth } };
  const ends = { source: { name: "gate", settings, password: gate.secret }, warehouse: sides.warehouse, folder };
  const load: Load = {
    from: {
      connection: "gate",
      path: "/scans",
      records: "data",
      page: { cursor: "next", as: "after", size: 1000, sizeAs: "limit" },
      since: { parameter: "updated_after", excludes: true },
    },
    watermark: { column: "updated_at", lookBack: "PT10M" },
    into: { table: "landing.scan", mode: "upsert", key: ["scan_id"] },
    proof: { figures: ["rows", "sum(paid)"] },
  };
  const bulk = {
    begin: "/exports",
    body: { of: "scans" },
    id: "id",
    ask: "/exports/{id}",
    at: "state",
    done: "done",
    parts: "parts",
    format: "csv" as const,
  };
  const byHand = () =>
    hand(`cd ${folder}
token=$(curl -sf -u '${gate.client}:${gate.secret}' -d grant_type=client_credentials -d scope=scans.read ${token} | jq -r .access_token)
after=
for (( page = 1; ; page++ )); do
  curl -sf -H "Authorization: Bearer $token" "${gate.url}/scans?limit=1000&after=$after" > page-$page.json
  after=$(tail -c 100 page-$page.json | sed -n 's/.*"next":"\\([^"]*\\)"}$/\\1/p')
  [ -n "$after" ] || break
done
ls page-*.json | sort -V | xargs jq -r '.data[] | [.scan_id, .ticket, .port, .gate, .result, .paid, .scanned_at, .updated_at, (.device | tojson)] | @csv' > scans.csv
${q} "$WAREHOUSE" -c "CREATE TABLE hand (${columns})" -c "\\copy hand FROM scans.csv (FORMAT csv)"
rm -f page-*.json scans.csv`);
  const words = count.toLocaleString("en");
  const lines: Line[] = [];
  try {
    const first = await compared(repeat, reset, () => task({ ...ends, load, kind: "load" }), byHand);
    lines.push({
      work: `HTTP, ${words} records in pages of 1,000 into a new keyed table, proved`,
      ...first,
      aim: "≤ 0.8, ≤ 250 MB",
      note: `${first.result.told}; against curl of the same pages, jq to CSV and \\copy`,
    });
    gate.passHour();
    const changed = await task({ ...ends, load, kind: "load" });
    lines.push({
      work: `HTTP, what changed of ${words} records read and proved`,
      ours: changed.seconds,
      theirs: null,
      aim: "≤ 0.5 s",
      memory: changed.memory,
      note: changed.told,
    });
    await reset();
    const exported = await task({ ...ends, load: { ...load, from: { ...load.from, bulk } }, kind: "load" });
    lines.push({
      work: `HTTP, the same by an export in gzipped CSV, against its pages`,
      ours: exported.seconds,
      theirs: first.ours,
      aim: "≤ 0.4",
      memory: exported.memory,
      note: exported.told,
    });
    return lines;
  } finally {
    await gate.close();
    rmSync(folder, { recursive: true, force: true });
  }
}
