import type { Drawn, DrawnVersion } from "@undercoat/core/history/lifeline";
import { grouped } from "../parts/format.ts";
import { Mark, type MarkState } from "../parts/Mark.tsx";

const roleWords: Record<string, string> = {
  version: "opens a version",
  overwrite: "overwritten",
  keep: "kept",
  previous: "keeps the value before",
};

/** Round moments along the scale: months or years, whichever leave room for their names. */
function ticks(low: number, high: number): { at: number; name: string }[] {
  const day = 86_400_000;
  const span = (high - low) / day;
  const found: { at: number; name: string }[] = [];
  const months = span > 3650 ? 60 : span > 1500 ? 12 : span > 500 ? 4 : span > 200 ? 2 : 1;
  if (span < 45) {
    const step = span < 2 ? day / 4 : span < 8 ? day : 5 * day;
    const format = new Intl.DateTimeFormat(
      "en-GB",
      step < day ? { hour: "2-digit", minute: "2-digit" } : { day: "numeric", month: "short" },
    );
    for (let at = Math.ceil(low / step) * step; at < high; at += step) found.push({ at, name: format.format(at) });
    return found;
  }
  const format = new Intl.DateTimeFormat("en-GB", { month: "short" });
  const first = new Date(low);
  for (let month = first.getMonth() + 1; ; month++) {
    const date = new Date(first.getFullYear(), month, 1);
    if (date.getTime() >= high) return found;
    if (date.getMonth() % months !== 0 && months < 12) continue;
    if (months >= 12 && (date.getMonth() !== 0 || date.getFullYear() % (months / 12) !== 0)) continue;
    const name =
      date.getMonth() === 0 || found.length === 0
        ? `${format.format(date)} ${date.getFullYear()}`
        : format.format(date);
    found.push({ at: date.getTime(), name });
  }
}

interface Props {
  drawn: Drawn;
  /** where the table is to be seen as of */
  pin: number | null;
  onPin: (at: number) => void;
  /** the edge in hand, by its place */
  edge: number;
  onEdge: (place: number) => void;
  /** the mark of versions: whether the table is proved */
  state: MarkState;
}

/** Versions as coats on a scale of time, and below them a strand for each column, cut where its value changed. */
export function Strands({ drawn, pin, onPin, edge, onEdge, state }: Props) {
  const { low, high, versions, strands, gaps, edges } = drawn;
  const place = (at: number) => ((at - low) / Math.max(1, high - low)) * 100;
  const box = (from: number, to: number) => ({
    left: `${place(from)}%`,
    width: `max(5px, calc(${place(to) - place(from)}% - 4px))`,
  });
  const beginsEdge = (version: DrawnVersion) => edges.findIndex((one) => one.after === version);
  return (
    <section className="strands" aria-label="Through time">
      <div className="strand scale">
        <span />
        <button
          type="button"
          className="track"
          aria-label="Pin a moment; by keyboard, that of the edge in hand"
          title="Press a moment to see the table as it was then"
          onClick={(event) => {
            const { left, width } = event.currentTarget.getBoundingClientRect();
            const pressed = low + ((event.clientX - left) / width) * (high - low);
            onPin(event.detail === 0 ? (edges[edge]?.at ?? high) : pressed);
          }}
        >
          {ticks(low, high).map(({ at, name }) => (
            <span key={at} className="tick" style={{ left: `${place(at)}%` }}>
              {name}
            </span>
          ))}
          {pin !== null && (
            <span className="pin-name" style={{ left: `${Math.min(94, Math.max(4, place(pin)))}%` }}>
              {new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", year: "numeric" }).format(pin)}
            </span>
          )}
        </button>
      </div>
      <div className="strand">
        <span>versions</span>
        <div className="track">
          {versions.map((version, at) => (
            <button
              key={version.fromText}
              type="button"
              className={`version${edges[edge]?.after === version ? " in-hand" : ""}`}
              style={box(version.from, version.to)}
              aria-label={`Version ${at + 1} of ${grouped(String(versions.length))}, from ${version.fromText}${version.toText ? ` to ${version.toText}` : ", current"}${version.corrected.length ? ", corrected" : ""}`}
              onClick={() => onEdge(beginsEdge(version))}
            >
              <Mark state={state} wide />
              {version.corrected.length > 0 && (
                <span className="corrected" title="What this version says was corrected later">
                  corrected
                </span>
              )}
            </button>
          ))}
        </div>
      </div>
      {strands.map(({ column, role, before, pieces }) => (
        <div className="strand" key={column}>
          <span>
            <span className="mono cut" title={column}>
              {column}
            </span>
            <small className="cut" title={before ?? undefined}>
              {before ? `before: ${before}` : (roleWords[role] ?? role)}
            </small>
          </span>
          <div className="track">
            {gaps.map((gap) => (
              <i
                key={gap.fromText}
                className="gap"
                style={box(gap.from, gap.to)}
                title={`Gone from ${gap.fromText} to ${gap.toText}`}
              />
            ))}
            {pieces.map((piece) => (
              <span
                key={piece.fromText}
                className={`piece mono${piece.current ? " current" : ""}`}
                style={box(piece.from, piece.to)}
                title={`${piece.value ?? "null"}, from ${piece.fromText}${piece.toText ? ` to ${piece.toText}` : ""}`}
              >
                {piece.value ?? <i className="quiet">null</i>}
              </span>
            ))}
          </div>
        </div>
      ))}
      {pin !== null && (
        <div className="pin" aria-hidden="true">
          <i style={{ left: `${place(pin)}%` }} />
        </div>
      )}
    </section>
  );
}
