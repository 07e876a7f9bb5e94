import { millisecondsOf } from "@undercoat/core/history/lifeline";
import type { AsOf } from "@undercoat/core/history/shape";
import { BarElement, CategoryScale, Chart, LinearScale, Tooltip } from "chart.js";
import { Bar } from "react-chartjs-2";
import { counted } from "../parts/format.ts";

Chart.register(BarElement, CategoryScale, LinearScale, Tooltip);
Chart.defaults.animation = false;

const day = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", year: "numeric" });

/** When versions began; pressing a bar shows the table as of its end. */
export function Beginnings({
  changes,
  onPick,
}: {
  changes: NonNullable<AsOf["changes"]>;
  onPick: (at: string) => void;
}) {
  const [low, high] = [millisecondsOf(changes.from), millisecondsOf(changes.to)];
  const length = (high - low) / changes.versions.length;
  const end = (step: number) => low + (step + 1) * length;
  const colour = getComputedStyle(document.documentElement).getPropertyValue("--ochre");
  return (
    <div style={{ height: 64 }}>
      <Bar
        aria-label={`Versions that began, from ${day.format(low)} to ${day.format(high)}`}
        role="img"
        data={{
          labels: changes.versions.map((_, step) => `until ${day.format(end(step))}`),
          datasets: [
            { data: changes.versions.map(Number), backgroundColor: colour, barPercentage: 1, categoryPercentage: 0.85 },
          ],
        }}
        options={{
          maintainAspectRatio: false,
          onClick: (_, [hit]) => hit && onPick(new Date(end(hit.index)).toISOString()),
          scales: { x: { display: false }, y: { display: false, type: "linear" } },
          plugins: {
            tooltip: {
              displayColors: false,
              callbacks: { label: (item) => `${counted(item.raw as number, "version")} began` },
            },
          },
        }}
      />
    </div>
  );
}
