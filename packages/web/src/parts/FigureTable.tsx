import { figureWords } from "@undercoat/core/proof/figure";
import type { FigurePair } from "@undercoat/core/proof/verdict";
import { differenceWords, grouped } from "./format.ts";

/** A time without its fractions; a number with separators. */
export function figureValue(value: string | null): string {
  return value && /^\d{4}-\d\d-\d\d \d\d:\d\d:\d\d/.test(value) ? value.slice(0, 19) : grouped(value);
}

/** Figures of both sides beside each other; `exact` shows every digit and the difference. */
export function FigureTable({ figures, exact = false }: { figures: FigurePair[]; exact?: boolean }) {
  const told = exact ? grouped : figureValue;
  return (
    <table className="plain">
      <thead>
        <tr>
          <th>Figure</th>
          <th className="right">Source</th>
          <th className="right">Warehouse</th>
          {exact && <th className="right">Difference</th>}
        </tr>
      </thead>
      <tbody>
        {figures.map((pair) => {
          const differs = pair.source === pair.warehouse ? "" : " lead strong";
          return (
            <tr key={pair.figure}>
              <td>{figureWords(pair.figure)}</td>
              <td className="right mono nowrap">{told(pair.source)}</td>
              <td className={`right mono nowrap${exact ? "" : differs}`}>{told(pair.warehouse)}</td>
              {exact && <td className={`right mono nowrap${differs}`}>{differenceWords(pair)}</td>}
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
