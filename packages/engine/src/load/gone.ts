import type { Dataset } from "@undercoat/core/dataset/dataset";
import { ofFiles, sharingColumn } from "@undercoat/core/plan/files";
import { type LoadPlan, mayGo, type Without } from "@undercoat/core/plan/plan";
import type { Window } from "@undercoat/core/plan/window";
import { grouped } from "@undercoat/core/proof/decimal";
import type { Scope } from "@undercoat/core/run/run";
import { formatTableName } from "@undercoat/core/sql/identifier";
import { LoadFailure } from "../failure.ts";
import { goneKeys } from "../proof/rows.ts";
import type { Answers, News, Snapshot } from "../source/source.ts";
import type { Sifted, WarehouseSession } from "../warehouse/warehouse.ts";
import type { LoadReport } from "./report.ts";

/** The parts of a source whose rows may have gone. */
export const newsOf = ({ changed, gone }: News): string[] => [...changed, ...gone];

/** A key stands in several files, so that those that changed can't be loaded without the others. */
class SharedKeys extends Error {}

/** @throws SharedKeys where what changed can't be told apart from what the other files hold */
export async function apartFromOthers(
  plan: LoadPlan,
  news: News | null,
  sifted: Sifted | null,
  warehouse: WarehouseSession,
): Promise<void> {
  const column = sharingColumn(plan);
  if (!news || !sifted || column === null || newsOf(news).length === 0) return;
  const files = newsOf(news);
  if ((await warehouse.list.sharesKeys(plan, files)) || (await sifted.takesFromOthers(column, files)))
    throw new SharedKeys("A key stands in several files");
}

/** Does work for a scope; where it turns out that a key stands in several files, for all of them. */
export const withAllWhereShared = <T>(
  scope: Scope,
  report: LoadReport,
  work: (scope: Scope) => Promise<T>,
): Promise<T> =>
  work(scope).catch((error: unknown) => {
    if (!(error instanceof SharedKeys)) throw error;
    report.line("a key stands in several files, so all of them are read");
    return work({ kind: "whole" });
  });

/** The keys of rows gone from the source; only those of the parts that are news, where these are given. Rows that were rejected still stand there. @throws LoadFailure where they are more than the load allows. */
export async function findGone(
  plan: LoadPlan,
  without: Without | null,
  existing: Dataset | null,
  { answers, warehouse }: { answers: Answers; warehouse: WarehouseSession },
  report: LoadReport,
  news: News | null = null,
): Promise<string[][]> {
  const { guard, target } = plan.write;
  const held = await warehouse.targetRows(plan, existing);
  const own = news ? ofFiles(plan, newsOf(news)) : plan;
  const gone = await goneKeys(
    answers.keys(plan, without),
    warehouse.keys(own, without, existing),
    Number(mayGo(guard, held)),
  );
  report.line(
    `${grouped(String(gone.checksums))} checksums of keys compared, ${grouped(String(gone.keysRead))} keys read: ${gone.complete ? grouped(String(gone.keys.length)) : "too many"} rows gone from the source`,
  );
  if (!gone.complete)
    throw new LoadFailure({
      message: `More than ${guard.most} % of the ${grouped(String(held))} rows of ${formatTableName(target)} are gone from the source`,
      hint: "Nothing was written. If the source is right, allow more in the load's deletions and run again.",
    });
  return gone.keys;
}

const done = { mark: "marked", remove: "removed", close: "closed" };

/** Removes or marks the rows that the source no longer has, or ends their versions. */
export async function sweep(
  plan: LoadPlan,
  gone: string[][],
  warehouse: WarehouseSession,
  report: LoadReport,
): Promise<Swept> {
  if (gone.length === 0) return { rows: "0", slices: [] };
  const swept = await warehouse.sweep(plan, gone);
  report.line(`${grouped(swept.rows)} rows gone from the source ${done[plan.write.deletions?.how ?? "remove"]}`);
  return swept;
}

/** What a sweep did that was none. */
export const nothingSwept: Swept = { rows: "0", slices: [] };

interface Swept {
  rows: string;
  slices: (string | null)[];
}

/**
 * Removes or marks the rows that a source lists as deleted since it was read last, where it lists them. What has come again since
 * is among the rows that are read, and written after this. @throws LoadFailure where they are more than the load allows
 */
export async function sweepListed(
  plan: LoadPlan,
  window: Window,
  existing: Dataset,
  { source, warehouse }: { source: Pick<Snapshot, "gone">; warehouse: WarehouseSession },
  report: LoadReport,
): Promise<Swept> {
  const { deletions, guard, target } = plan.write;
  const told = window.kind === "delta" || (window.kind === "since" && plan.read.listsGone);
  if (!deletions || !told || !source.gone) return nothingSwept;
  const keys = await source.gone(plan, window);
  const held = await warehouse.targetRows(plan, existing);
  const swept = await sweep(plan, keys, warehouse, report);
  report.line(`${grouped(String(keys.length))} rows listed as deleted, ${grouped(swept.rows)} of which stood there`);
  if (BigInt(swept.rows) <= mayGo(guard, held)) return swept;
  throw new LoadFailure({
    message: `The source lists more than ${guard.most} % of the ${grouped(String(held))} rows of ${formatTableName(target)} as deleted`,
    hint: "Nothing was written. If the source is right, allow more in the load's deletions and run again.",
  });
}

/** Fails a load in mode replace that would leave far fewer rows than its target holds. */
export async function guardReplaced(
  plan: LoadPlan,
  existing: Dataset,
  accepted: string,
  warehouse: WarehouseSession,
): Promise<void> {
  const { guard, target } = plan.write;
  const held = await warehouse.targetRows(plan, existing);
  if (held - BigInt(accepted) <= mayGo(guard, held)) return;
  throw new LoadFailure({
    message: `Of the ${grouped(String(held))} rows of ${formatTableName(target)} only ${grouped(accepted)} would be left; the load lets ${guard.most} % go`,
    hint: "Nothing was written. If the source is right, allow more in the load's deletions and run again.",
  });
}
