import type { LoadPlan, Without } from "@undercoat/core/plan/plan";
import type { Window } from "@undercoat/core/plan/window";
import { grouped } from "@undercoat/core/proof/decimal";
import { parseFigure } from "@undercoat/core/proof/figure";
import { type CountProof, countsAgree } from "@undercoat/core/run/run";
import type { SliceChoice } from "@undercoat/core/sql/proof";
import { LoadFailure } from "../failure.ts";
import type { OwnCounts, Snapshot } from "../source/source.ts";
import type { WarehouseSession } from "../warehouse/warehouse.ts";
import type { LoadReport } from "./report.ts";

/** Most slices of one run whose rows a source is asked to count. */
const mostSlices = 20;

/** A load as counts see it: rows, and nothing else of them. */
const countedOnly = (plan: LoadPlan): LoadPlan => ({
  ...plan,
  prove: { ...plan.prove, figures: [parseFigure("rows")] },
});

/**
 * Asks a source of which only a part was read how many rows it has, in all and in the slices that the run brings news to,
 * where it counts by itself; null where it does not, or where rows are turned away, which it counts too.
 */
export async function askCounts(
  plan: LoadPlan,
  window: Window,
  touched: SliceChoice,
  without: Without | null,
  source: Pick<Snapshot, "counts">,
  report: LoadReport,
): Promise<OwnCounts | null> {
  if (!source.counts || (window.kind !== "since" && window.kind !== "delta")) return null;
  if (without) {
    report.line(`${plan.connection}'s own counts are not compared, as it counts the rows that are turned away too`);
    return null;
  }
  const slices = !plan.prove.slicing || touched === "all" ? [] : touched;
  return source.counts(plan, slices.slice(0, mostSlices)).catch((error: unknown) => {
    if (!(error instanceof LoadFailure)) throw error;
    report.line(`${plan.connection}'s own counts could not be had: ${error.message}`);
    return null;
  });
}

/** Compares a source's own counts with the rows that stand in the warehouse; null where it has changed since it was read, so that they say nothing. */
export async function compareCounts(
  plan: LoadPlan,
  counts: OwnCounts,
  warehouse: Pick<WarehouseSession, "side">,
  report: LoadReport,
): Promise<CountProof | null> {
  const side = warehouse.side(countedOnly(plan), null);
  const held = counts.slices.size ? await side.figures([...counts.slices.keys()], false) : null;
  const found: CountProof = {
    source: counts.total,
    warehouse: String(await side.count({ slices: "all" })),
    slices: [...counts.slices].map(([slice, source]) => ({
      slice,
      source,
      warehouse: held?.slices.get(slice)?.values[0] ?? "0",
    })),
  };
  if (!countsAgree(found)) {
    const why = await counts.moved().then(
      (moved) => (moved ? `${plan.connection} has changed since it was read` : null),
      (error: unknown) => {
        if (!(error instanceof LoadFailure)) throw error;
        return `it is not known whether ${plan.connection} has changed since it was read (${error.message})`;
      },
    );
    if (why !== null) {
      report.line(`${why}, so its own counts say nothing now`);
      return null;
    }
  }
  const unit = (count: number) => `${count} ${plan.prove.slicing?.unit ?? "slice"}${count === 1 ? "" : "s"}`;
  const also = found.slices.length ? `, and in ${unit(found.slices.length)}` : "";
  report.line(
    countsAgree(found)
      ? `${plan.connection} counts ${grouped(found.source)} rows${also}: as many stand there`
      : `${plan.connection} counts ${grouped(found.source)} rows${also}: ${grouped(found.warehouse)} stand there, and in ${unit(found.slices.filter((one) => one.source !== one.warehouse).length)} other numbers`,
  );
  return found;
}
