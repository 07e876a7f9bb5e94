import type { RejectedCount } from "@undercoat/core/api/api";
import { BarElement, CategoryScale, Chart, LinearScale, Tooltip } from "chart.js";
import { Bar } from "react-chartjs-2";
import { grouped } from "../parts/format.ts";

Chart.register(BarElement, CategoryScale, LinearScale, Tooltip);
Chart.defaults.font.family = '"Public Sans Variable", sans-serif';

/** A theme's colour as it is now. */
const colour = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
/** Pixels of one reason's bar. */
const barHeight = 40;
/** Characters of a label's line. */
const longest = 24;

/** A reason in lines of a label, at most two. */
function wrapped(reason: string): string[] {
  const lines = [""];
  for (const word of reason.split(" ")) {
    const last = lines.at(-1) ?? "";
    if (last !== "" && last.length + word.length >= longest) lines.push(word);
    else lines[lines.length - 1] = last ? `${last} ${word}` : word;
  }
  return lines.length > 2 ? [lines[0] ?? "", `${lines[1]} …`] : lines;
}

/** Rejected rows by reason, the most frequent first; a reason is chosen here or in the list beside it. */
export function Reasons({
  counts,
  chosen,
  onChoose,
}: {
  counts: RejectedCount[];
  chosen: string;
  onChoose: (reason: string) => void;
}) {
  const byReason = new Map<string, bigint>();
  for (const { reason, rows } of counts) byReason.set(reason, (byReason.get(reason) ?? 0n) + BigInt(rows));
  const reasons = [...byReason].sort((a, b) => (a[1] < b[1] ? 1 : -1));
  const shown = reasons.slice(0, 12);
  return (
    <section aria-label="Reasons">
      <h2 style={{ marginBottom: 6 }}>Reasons</h2>
      <div style={{ height: shown.length * barHeight + 34 }}>
        <Bar
          role="img"
          aria-label={shown.map(([reason, rows]) => `${reason}: ${rows} rows`).join("; ")}
          data={{
            labels: shown.map(([reason]) => wrapped(reason)),
            datasets: [
              {
                data: shown.map(([, rows]) => Number(rows)),
                backgroundColor: shown.map(([reason]) =>
                  chosen && chosen !== reason ? colour("--line-strong") : colour("--lead"),
                ),
                barThickness: 16,
              },
            ],
          }}
          options={{
            indexAxis: "y",
            animation: false,
            maintainAspectRatio: false,
            onClick: (_, elements) => {
              const reason = shown[elements[0]?.index ?? -1]?.[0];
              if (reason) onChoose(reason === chosen ? "" : reason);
            },
            plugins: {
              legend: { display: false },
              tooltip: { callbacks: { label: (item) => `${grouped(String(shown[item.dataIndex]?.[1] ?? 0))} rows` } },
            },
            scales: {
              x: {
                beginAtZero: true,
                ticks: { precision: 0, color: colour("--quiet") },
                grid: { color: colour("--line") },
                title: { display: true, text: "rejected rows", color: colour("--quiet") },
              },
              y: { ticks: { autoSkip: false, color: colour("--ink"), font: { size: 12 } }, grid: { display: false } },
            },
          }}
        />
      </div>
      <ul className="reasons">
        {reasons.map(([reason, rows]) => (
          <li key={reason}>
            <button
              type="button"
              className="link"
              aria-pressed={chosen === reason}
              onClick={() => onChoose(reason === chosen ? "" : reason)}
            >
              {reason}
            </button>{" "}
            <span className="mono">{grouped(String(rows))}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}
