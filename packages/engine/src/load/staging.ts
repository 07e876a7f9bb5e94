import { pipeline as pipe } from "node:stream/promises";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import type { Window } from "@undercoat/core/plan/window";
import { grouped } from "@undercoat/core/proof/decimal";
import { LoadFailure } from "../failure.ts";
import type { Answers } from "../source/source.ts";
import type { Landing, Received, Stage } from "../warehouse/warehouse.ts";
import type { Ends } from "./ends.ts";
import type { LoadReport } from "./report.ts";

/** How often a long read says how far it is, in milliseconds. */
const progressEvery = 400;

/** What is brought across. */
export interface Transfer {
  plan: LoadPlan;
  window: Window;
  /** only so many rows; null for all */
  limit: number | null;
  /** to a new target, as it takes them */
  direct?: boolean;
  /** true where a source that answers nothing must be asked of all its rows, so that all are received */
  whole?: boolean;
  signal: AbortSignal;
}

/** Brings a window's rows to where they land: within the database where it is the source too, else by wire. */
export async function transfer(
  ends: Ends,
  landing: Landing,
  what: Transfer,
  report: LoadReport,
): Promise<{ rows: string; bytes: number }> {
  if (!ends.inside) return pipeRows(ends, landing, what, report);
  const rows = await landing.take(what.window, what.limit);
  report.progress(rows, 0);
  return { rows, bytes: 0 };
}

/** Pipes the rows across with back-pressure; both ends must have counted the same number. */
export async function pipeRows(
  { source }: Pick<Ends, "source">,
  landing: Landing,
  { plan, window, limit, direct = false, signal }: Transfer,
  report: LoadReport,
): Promise<{ rows: string; bytes: number }> {
  const rows = await source.rows(plan, window, limit, direct);
  const sink = landing.sink(rows.format);
  let bytes = 0;
  let asking = false;
  rows.on("data", (chunk: Buffer) => {
    bytes += chunk.length;
  });
  const ticker = setInterval(async () => {
    if (asking) return;
    asking = true;
    const seen = await landing.progress().catch(() => null);
    asking = false;
    if (seen) report.progress(seen.rows, bytes);
  }, progressEvery);
  try {
    await pipe(rows, sink, { signal });
  } finally {
    clearInterval(ticker);
  }
  const sent = String(await rows.counted);
  const taken = String(sink.rowCount);
  if (sent !== taken)
    throw new LoadFailure({
      message: `The source sent ${grouped(sent)} rows and the warehouse took ${grouped(taken)}`,
      hint: "Nothing was written; run again.",
    });
  report.progress(sent, bytes);
  return { rows: sent, bytes };
}

/** Rows in a stage, and who answers for their source: itself, or what was received of it. */
export interface Staged {
  stage: Stage;
  rows: string;
  bytes: number;
  answers: Answers;
  received: Received | null;
  /** true where who answers knows only the rows that were read */
  partial: boolean;
}

/** Brings a window's rows to a stage. @param run names the stage; null for one that only this session sees */
export async function stageRows(ends: Ends, what: Transfer, run: number | null, report: LoadReport): Promise<Staged> {
  const { source, warehouse } = ends;
  const own = source.answers(what.plan);
  if (own) {
    const stage = await warehouse.stage(what.plan, run);
    const brought = await transfer(ends, stage, what, report);
    return { stage, ...brought, answers: own, received: null, partial: false };
  }
  const received = await warehouse.receive(what.plan, run);
  // A part by its values is picked out of what was received; the source itself knows its own parts and what is past a watermark.
  const since = what.window.kind === "since" && !what.whole;
  const picked = !["all", "changed", "delta"].includes(what.window.kind) && !since;
  const wanted = picked ? { ...what, window: { kind: "all" as const }, limit: null } : what;
  const brought = await pipeRows(ends, received.landing, wanted, report);
  const { stage, rows } = await received.stage(picked ? what.window : { kind: "all" }, picked ? what.limit : null);
  return {
    stage,
    rows: rows ?? brought.rows,
    bytes: brought.bytes,
    answers: received.answers,
    received,
    partial: !picked && what.window.kind !== "all",
  };
}
