import type { RunLoadView } from "@undercoat/core/api/api";
import type { Phase } from "@undercoat/core/run/run";

const phases: [Phase, string, string][] = [
  ["wait", "Plan and wait", "var(--line-strong)"],
  ["read", "Read into stage", "var(--slate)"],
  ["check", "Check rows", "var(--oxide)"],
  ["apply", "Apply", "var(--verdigris)"],
  ["prove", "Prove", "var(--ink)"],
];

/** Where the time went: each phase of each load on one line of time. */
export function Phases({ loads }: { loads: RunLoadView[] }) {
  const placed: { phase: Phase; from: number; to: number }[] = [];
  let offset = 0;
  for (const load of loads) {
    for (const { phase, from, to } of load.phases) placed.push({ phase, from: offset + from, to: offset + to });
    offset += load.phases.at(-1)?.to ?? 0;
  }
  if (offset === 0) return <p className="quiet">Nothing has begun yet.</p>;
  return (
    <div className="bars">
      {phases.map(([phase, words, colour]) => {
        const mine = placed.filter((entry) => entry.phase === phase);
        const spent = mine.reduce((sum, entry) => sum + entry.to - entry.from, 0);
        return [
          <span key={`${phase} name`}>{words}</span>,
          <div key={`${phase} track`} className="track" aria-hidden="true">
            {mine.map((entry) => (
              <i key={entry.from} style={{ left: `${(entry.from / offset) * 100}%`, width: `${((entry.to - entry.from) / offset) * 100}%`, background: colour }} />
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
