import type { RunLoadView } from "@undercoat/core/api/api";
import type { Phase } from "@undercoat/core/run/run";

const phases: [Phase, string, string][] = [
  ["wait", "Plan and wait", "var(--line-strong)"],
  ["read", "Read into stage", "var(--slate)"],
  ["check", "Check rows", "var(--oxide)"],
  ["apply", "Apply", "var(--verdigris)"],
  ["prove", "Prove", "var(--ink)"],
];

/** Where the time went: each phase of each load on one line of time. Loads that ran side by side lie over each other. */
export function Phases({ loads, ended }: { loads: RunLoadView[]; ended: boolean }) {
  const begun = loads.flatMap((load) =>
    load.startedAt ? [{ phases: load.phases, at: Date.parse(load.startedAt) }] : [],
  );
  const first = Math.min(...begun.map((load) => load.at));
  const placed = begun.flatMap(({ phases: own, at }) =>
    own.map(({ phase, from, to }) => ({ phase, from: at - first + from, to: at - first + to })),
  );
  const whole = Math.max(0, ...placed.map((entry) => entry.to));
  if (whole === 0) return <p className="quiet">{ended ? "Nothing had begun." : "Nothing has begun yet."}</p>;
  return (
    <div className="bars">
      {phases.map(([phase, words, colour]) => {
        const mine = placed.filter((entry) => entry.phase === phase);
        const spent = mine.reduce((sum, entry) => sum + entry.to - entry.from, 0);
        return [
          <span key={`${phase} name`}>{words}</span>,
          <div key={`${phase} track`} className="track" aria-hidden="true">
            {mine.map((entry, at) => (
              <i
                key={at}
                style={{
                  left: `${(entry.from / whole) * 100}%`,
                  width: `${((entry.to - entry.from) / whole) * 100}%`,
                  background: colour,
                  opacity: mine.length > 1 ? 0.75 : 1,
                }}
              />
            ))}
          </div>,
          <span key={`${phase} time`} className="mono right">
            {(spent / 1000).toFixed(2)} s
          </span>,
        ];
      })}
    </div>
  );
}
