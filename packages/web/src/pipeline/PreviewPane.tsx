import type { Preview, PreviewRow } from "@undercoat/core/api/api";
import { typeFamily } from "@undercoat/core/sql/type";
import { useState } from "react";
import { counted } from "../parts/format.ts";
import { SqlText } from "../parts/SqlText.tsx";
import { ErrorNote } from "../parts/words.tsx";

const numeric = (type: string) => ["integer", "numeric", "float"].includes(typeFamily(type));

/** Seconds are enough to read a time by; the exact value is in the title. */
function told(value: string | null): string {
  if (value === null) return "null";
  if (value === "") return "''";
  return value.replace(/^(\d{4}-\d\d-\d\d \d\d:\d\d:\d\d)\.\d+\+00$/, "$1");
}

function Cell({ row, column, fresh }: { row: PreviewRow; column: string; fresh: boolean }) {
  const value = row.values[column] ?? null;
  const before = row.held?.[column] ?? null;
  const text = <span className={value === null || value === "" ? "quiet" : undefined}>{told(value)}</span>;
  if (fresh) return text;
  if (before === value) return text;
  return (
    <>
      <span className="was">{told(before)}</span>
      <span className="now">{told(value)}</span>
    </>
  );
}

/** Real rows as the load would write them, old beside new. */
export function PreviewPane({ preview, error, busy }: { preview: Preview | undefined; error: unknown; busy: boolean }) {
  const [sqlShown, setSqlShown] = useState(false);
  if (error) return <ErrorNote error={error} />;
  if (!preview) return <p className="quiet">{busy ? "Reading rows from the source" : ""}</p>;
  const fresh = (row: PreviewRow) => row.held === null;
  const changed = (row: PreviewRow) => row.held !== null && preview.columns.some((column) => (row.held?.[column.name] ?? null) !== (row.values[column.name] ?? null));
  // What a run would change stands next to the key, where it is seen without scrolling.
  const moving = (name: string) => preview.rows.some((row) => row.held !== null && (row.held[name] ?? null) !== (row.values[name] ?? null));
  const rank = (column: Preview["columns"][number]) => (column.key ? 0 : moving(column.name) ? 1 : 2);
  const columns = [...preview.columns].sort((a, b) => rank(a) - rank(b));
  const news = preview.rows.filter(fresh).length;
  const changes = preview.rows.filter(changed).length;
  const sentence = !preview.held !== null
    ? "The table is not loaded yet: the next run makes it and loads every row."
    : preview.rows.length === 0
      ? "The source has nothing new."
      : `Of these, ${news} would be new, ${changes} changed and ${preview.rows.length - news - changes} the same. Nothing has been written.`;
  return (
    <>
      <div className="head" style={{ marginBottom: 6 }}>
        <h2>As it would be loaded</h2>
        <span className="quiet nowrap">{preview.rows.length ? `the newest ${counted(preview.rows.length, "row")}` : "no rows"}</span>
      </div>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable by keyboard */}
      <section className="rows-scroll" style={{ maxHeight: 380, opacity: busy ? 0.6 : 1 }} tabIndex={0} aria-label="Rows as they would be loaded">
        <table className="plain mono" style={{ fontSize: 12 }}>
          <thead>
            <tr>
              <td />
              {columns.map((column) => (
                <th key={column.name} className={numeric(column.type) ? "right" : undefined}>
                  {column.name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {preview.rows.map((row, at) => (
              <tr key={at}>
                <td>{preview.held !== null && fresh(row) ? <span className="now">new</span> : changed(row) ? <span className="quiet">changed</span> : null}</td>
                {columns.map((column) => (
                  <td key={column.name} className={`nowrap${numeric(column.type) ? " right" : ""}`} style={{ maxWidth: 260, overflow: "hidden", textOverflow: "ellipsis" }} title={row.values[column.name] ?? "null"}>
                    <Cell row={row} column={column.name} fresh={fresh(row)} />
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </section>
      <div className="note" style={{ marginTop: 16, background: "var(--chalk)" }}>
        <h3>If it ran now</h3>
        <p>{sentence}</p>
        {preview.watermark && (
          <p className="quiet">
            It would read from the watermark <span className="mono">{preview.watermark}</span>.
          </p>
        )}
        <button type="button" className="link" onClick={() => setSqlShown(!sqlShown)} aria-expanded={sqlShown}>
          {sqlShown ? "Hide the SQL" : "See the SQL"}
        </button>
        {sqlShown && <SqlText sql={preview.sql} label="The statement that reads the source" />}
      </div>
    </>
  );
}
