import { partsOf } from "@undercoat/core/plan/periods";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import type { Window } from "@undercoat/core/plan/window";
import { grouped } from "@undercoat/core/proof/decimal";
import { countsAgree, type HistoryProof, type LoadProof, type Scope } from "@undercoat/core/run/run";
import { durationWords } from "@undercoat/core/schedule/duration";
import { formatTableName } from "@undercoat/core/sql/identifier";
import type { News } from "../source/source.ts";

/** What a window reads, as a line of a run says it. */
export function windowWords(plan: LoadPlan, window: Window): string {
  const { watermark, periods } = plan.read;
  if (periods && window.kind === "all") {
    const parts = partsOf(plan);
    const [first] = parts;
    return `reading ${grouped(String(parts.length))} ${periods.unit}${parts.length === 1 ? "" : "s"} from ${first?.from ?? periods.from} to ${parts.at(-1)?.to ?? periods.to}`;
  }
  switch (window.kind) {
    case "all":
      return "reading the whole dataset";
    case "changed":
      return "reading what changed";
    case "delta":
      return `reading what changed since the last run, as ${plan.connection} tells it`;
    case "since":
      return `reading ${watermark?.column} ≥ ${window.value}${watermark?.lookBack ? ` less ${durationWords(watermark.lookBack)}` : ""}`;
    case "interval":
      return `reading ${window.column} from ${window.from} to ${window.to}`;
    case "slice":
      return plan.prove.slicing?.unit === "origin"
        ? `reading the rows of ${window.slice ?? "no origin"}`
        : `reading the ${plan.prove.slicing?.unit} ${window.slice ?? "without a date"}`;
    case "keys":
      return `reading ${grouped(String(window.keys.length))} rows by their key`;
    case "identities":
      return `reading ${grouped(String(window.identities.length))} rows by what identified them`;
  }
}

const filesWords = (count: number) => `${grouped(String(count))} file${count === 1 ? "" : "s"}`;

/** What of a source's files is news: `2 files of 501 changed or new, 1 file gone`. */
export const newsWords = ({ changed, gone, all }: News) =>
  `${filesWords(changed.length)} of ${grouped(String(all))} changed or new${gone.length ? `, ${filesWords(gone.length)} gone` : ""}`;

/** Why a whole dataset is read rather than what passed the watermark. */
export function reasonOf(plan: LoadPlan, scope: Scope, window: Window, target: boolean): string {
  if (window.kind !== "all" || plan.read.periods) return "";
  if (scope.kind === "whole") return ", as it was asked for";
  if (plan.write.mode === "replace") return ", as the mode is replace";
  if (plan.read.files !== null)
    return target
      ? ", as it is not known what of it was loaded"
      : `, as ${formatTableName(plan.write.target)} does not exist yet`;
  if (!plan.read.watermark) return ", as there is no watermark";
  return target
    ? ", as there is no watermark of this load yet"
    : `, as ${formatTableName(plan.write.target)} does not exist yet`;
}

/** What a proof found, and at which depth. */
export function proofWords({ trouble, without, cells, slices, verdict, history, within, counted }: LoadProof): string {
  if (trouble) return `proof: not possible: ${trouble}`;
  const less = without ? `, less ${grouped(without)} rejected` : "";
  const compared = cells
    ? `every cell of ${grouped(cells.rows)} row${cells.rows === "1" ? "" : "s"} compared: ${cells.verdict === "proved" ? "the same" : "they differ"}`
    : null;
  const agreeing = slices.filter((slice) => slice.verdict === "proved").length;
  const whole = slices.length === 1 && slices[0]?.slice === null;
  const figures =
    slices.length === 0
      ? null
      : whole
        ? `the figures ${slices[0]?.verdict === "proved" ? "agree" : "disagree"}`
        : `${grouped(String(agreeing))} of ${grouped(String(slices.length))} slices agree`;
  const versions = history ? historyWords(history) : null;
  const looked = within
    ? within.astray === "0"
      ? `each of ${grouped(within.rows)} rows finds one version in ${within.dimension}`
      : `${grouped(within.astray)} of ${grouped(within.rows)} rows don't find exactly one version in ${within.dimension}`
    : null;
  const own = counted ? `the source's own counts ${countsAgree(counted) ? "agree" : "disagree"}` : null;
  return `proof: ${[compared, figures, versions, looked, own].filter(Boolean).join("; ") || verdict}${less}`;
}

/** What was found of a history's versions: that all of it holds, or what does not. */
function historyWords({ versions, broken, earlier }: HistoryProof): string {
  const looked = `${grouped(versions)} version${versions === "1" ? "" : "s"}`;
  const moved = (earlier?.figures ?? []).filter((pair) => pair.was !== pair.is);
  if (moved.length)
    return `as of ${earlier?.moment} ${moved.map((pair) => `${pair.figure} is ${pair.is ?? "null"} where it was proved to be ${pair.was ?? "null"}`).join(", ")}`;
  if (broken.length === 0)
    return `${looked} looked at: one current a key, no overlap, no gap but by deletions, no two alike`;
  return `of ${looked} ${broken.map((one) => `${grouped(one.versions)} ${one.says}`).join(", ")}`;
}
