import { pipeline as pipe } from "node:stream/promises";
import type { LoadPlan, Window } from "@undercoat/core/plan/plan";
import { grouped } from "@undercoat/core/proof/decimal";
import type { TableName } from "@undercoat/core/sql/identifier";
import { LoadFailure } from "../failure.ts";
import type { Snapshot } from "../source/source.ts";
import type { WarehouseSession } from "../warehouse/warehouse.ts";
import type { Ends } from "./ends.ts";
import type { LoadReport } from "./load.ts";

/** How often a long read says how far it is, in milliseconds. */
const progressEvery = 400;

/** Brings a window's rows to a table of the warehouse: within the database where it is the source too, else by wire. */
export async function transfer({ source, warehouse, inside }: Ends, plan: LoadPlan, window: Window, table: TableName, report: LoadReport, signal: AbortSignal): Promise<{ rows: string; bytes: number }> {
  if (!inside) return pipeRows(source, warehouse, plan, window, table, report, signal);
  const rows = await warehouse.take(plan, window, table);
  report.progress(rows, 0);
  return { rows, bytes: 0 };
}

/** Pipes the rows across with back-pressure; both ends must have counted the same number. */
async function pipeRows(source: Snapshot, warehouse: WarehouseSession, plan: LoadPlan, window: Window, table: TableName, report: LoadReport, signal: AbortSignal): Promise<{ rows: string; bytes: number }> {
  const rows = source.rows(plan, window);
  const sink = warehouse.sink(plan, table);
  let bytes = 0;
  let asking = false;
  rows.on("data", (chunk: Buffer) => {
    bytes += chunk.length;
  });
  const ticker = setInterval(async () => {
    if (asking) return;
    asking = true;
    const seen = await warehouse.progress().catch(() => null);
    asking = false;
    if (seen) report.progress(seen.rows, bytes);
  }, progressEvery);
  try {
    await pipe(rows, sink, { signal });
  } finally {
    clearInterval(ticker);
  }
  const sent = String(rows.rowCount);
  const taken = String(sink.rowCount);
  if (sent !== taken) throw new LoadFailure({ message: `The source sent ${grouped(sent)} rows and the warehouse took ${grouped(taken)}`, hint: "Nothing was written; run again." });
  report.progress(sent, bytes);
  return { rows: sent, bytes };
}
