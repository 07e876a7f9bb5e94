import { executeLoad } from "@undercoat/engine/load/load";
import { sourceFor } from "@undercoat/engine/source/registry";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";
import { Session } from "@undercoat/engine/postgres/session";
const cred = (port: number) => ({ name: String(port), settings: { kind: "postgres" as const, host: "127.0.0.1", port, database: "postgres", user: "postgres", tls: "off" as const }, password: "" });
const load: any = { from: { connection: "s", table: "public.fact" }, watermark: { column: "updated_at" }, into: { table: "landing.fact", mode: "upsert", key: ["id"] }, proof: { figures: ["rows", "sum(amount)"] },
 columns: Object.fromEntries("id,customer,region,status,amount,discount,quantity,day,note,flag,score".split(",").map((c) => [c, c])) };
const s = await Session.open(cred(5701), { application: "x" });
const w = await Session.open(cred(5702), { application: "x" });
if (process.argv[2] === "init") { await w.script("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE"); }
else { await s.script("UPDATE public.fact SET amount = amount + 1 WHERE id <= 10000; UPDATE public.fact SET updated_at = (SELECT max(updated_at) FROM public.fact) + interval '1 second' WHERE id <= 50000"); await s.script("VACUUM ANALYZE public.fact"); await w.script("VACUUM ANALYZE landing.fact"); await w.script("CHECKPOINT"); }
for (let i = 0; i < 2; i++) {
const t0 = performance.now();
const report = { line: (m: string) => console.log((performance.now() - t0).toFixed(0), m), phase: (p: string) => console.log((performance.now() - t0).toFixed(0), "==", p), progress: () => undefined, waiting: () => undefined };
const out = await executeLoad({ pipelineName: "p", pipeline: { title: "t", warehouse: "w", loads: { load } }, load: "load", scope: { kind: "due" }, run: { id: 1, uid: crypto.randomUUID() } }, sourceFor(cred(5701)), warehouseFor(cred(5702)), report as any, new AbortController().signal);
console.log((performance.now() - t0).toFixed(0), "done", JSON.stringify(out.tally));
}
await s.close(); await w.close();
