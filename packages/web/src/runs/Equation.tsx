import { balances, type Tally } from "@undercoat/core/run/run";
import { Fragment } from "react";
import { grouped } from "../parts/format.ts";

const terms = [
  ["new", "new"],
  ["changed", "changed"],
  ["same", "already the same"],
  ["rejected", "rejected"],
] as const;

/** The tally as an equation across the page. */
export function Equation({ tally, counting }: { tally: Tally; counting: boolean }) {
  const verdict = counting ? "still counting" : balances(tally) ? "the tally balances" : "the tally does not balance";
  return (
    <div
      className="equation"
      role="img"
      aria-label={`${tally.read} read = ${terms.map(([field, words]) => `${tally[field]} ${words}`).join(" + ")}; ${verdict}`}
    >
      <div>
        <b>{grouped(tally.read)}</b>
        <span className="quiet">read</span>
      </div>
      {terms.map(([field, words], at) => (
        <Fragment key={field}>
          <span className="op">{at === 0 ? "=" : "+"}</span>
          <div className={field === "rejected" && tally.rejected !== "0" ? "lead" : undefined}>
            <b>{grouped(tally[field])}</b>
            <span className="quiet">{words}</span>
          </div>
        </Fragment>
      ))}
      {tally.deleted !== "0" && (
        <div style={{ borderLeft: "1px solid var(--line-strong)", paddingLeft: 20 }}>
          <b>{grouped(tally.deleted)}</b>
          <span className="quiet">deleted beside</span>
        </div>
      )}
    </div>
  );
}
