import { createHash } from "node:crypto";
import { type MarkedRow, type MarksTold, markOf, marksWords, usualMarks } from "@undercoat/core/mark/mark";
import { type LoadPlan, stagedColumns } from "@undercoat/core/plan/plan";
import { failureOf } from "../failure.ts";
import type { Source } from "../source/source.ts";
import type { RejectedRows } from "../warehouse/warehouse.ts";
import type { LoadReport } from "./report.ts";

/** A rejected row that its source is yet to be told of. */
export interface UntoldRow {
  content: string;
  reason: string;
  message: string;
  /** what was staged of it, by the stage's names; null where that was not kept */
  original: Record<string, string | null> | null;
}

/** A row by the source's own names. */
export function markedRow(plan: LoadPlan, { reason, message, original }: Omit<UntoldRow, "content">): MarkedRow {
  const values =
    original &&
    Object.fromEntries(
      stagedColumns(plan).flatMap(({ source, name }) => (name in original ? [[source, original[name] ?? null]] : [])),
    );
  return { values, reason, message };
}

/** What names a row for good at the source. */
const keyOf = (plan: LoadPlan, { content, reason }: UntoldRow) => {
  const hash = createHash("sha256")
    .update(JSON.stringify([plan.pipeline, plan.load, plan.write.target, content, reason]))
    .digest("hex");
  return `${hash.slice(0, 8)}-${hash.slice(8, 12)}-8${hash.slice(13, 16)}-a${hash.slice(17, 20)}-${hash.slice(20, 32)}`;
};

/**
 * Tells a source, once a load has committed, of the rows that were turned away and that it has not been told of. Each row is
 * claimed in the warehouse before it is sent, so that none is sent twice, whatever breaks in between. Fails nothing.
 */
export async function tellMarks(
  plan: LoadPlan,
  run: string,
  source: Source | null,
  list: RejectedRows,
  report: LoadReport,
  signal: AbortSignal,
): Promise<MarksTold | null> {
  const form = plan.report;
  if (!form) return null;
  const told: MarksTold = { sent: 0, refused: 0, unsure: 0, lacking: 0, left: 0, why: null };
  try {
    const rows = await list.untold(plan, run, form.limit ?? usualMarks);
    if (rows.length === 0) return null;
    if (!source?.teller) throw new Error("It can't be told of rows");
    const teller = await source.teller(signal);
    try {
      for (const row of rows) {
        if (signal.aborted) break;
        const mark = markOf(form, markedRow(plan, row));
        if (!(await list.claim(plan, run, row))) continue;
        const arrival =
          "lacks" in mark
            ? { state: "lacking" as const, why: `it has no ${mark.lacks.join(", ")}` }
            : await teller.send(mark, keyOf(plan, row));
        told[arrival.state]++;
        const why = "why" in arrival ? arrival.why : null;
        if (arrival.state !== "lacking") told.why ??= why;
        await list.keepTold(plan, row, arrival.state, why);
      }
    } finally {
      await teller.close().catch(() => undefined);
    }
    told.left = await list.countUntold(plan, run);
  } catch (error) {
    told.left = await list.countUntold(plan, run).catch(() => told.left);
    told.why ??= failureOf(error, { name: form.connection ?? plan.connection }).message;
    report.line(`the source could not be told of rejected rows: ${told.why}`);
    return told;
  }
  // A line is seen by everybody, what was answered is not.
  report.line(marksWords({ ...told, why: null }));
  return told;
}
