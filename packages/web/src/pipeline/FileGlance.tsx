import type { Glance } from "@undercoat/core/dataset/dataset";
import { counted } from "../parts/format.ts";
import { ErrorNote } from "../parts/words.tsx";

/** Columns that are shown beside the lines. */
const shown = 5;

/** The beginning of a file as it stands, and beside it what becomes of it. */
export function FileGlance({ glance, error }: { glance: Glance | undefined; error: Error | null }) {
  if (error) return <ErrorNote error={error} />;
  if (!glance) return null;
  const { raw, columns, rows } = glance;
  const left = columns.length - shown;
  return (
    <section aria-label="The beginning of a file" className="glance">
      <div className="quiet">
        {glance.sheet ? (
          <>
            Sheet {glance.sheet} of <span className="mono">{glance.file}</span>
          </>
        ) : (
          <span className="mono">{glance.file}</span>
        )}
        {glance.files > 1 && `, the latest of ${counted(glance.files, "file")}`}
      </div>
      <div
        style={{
          display: "grid",
          gridTemplateColumns: raw.length ? "minmax(0, 5fr) minmax(0, 6fr)" : "minmax(0, 1fr)",
          gap: 14,
        }}
      >
        {raw.length > 0 && (
          <div>
            <h3>As it stands</h3>
            <ol aria-label="Lines as they stand" tabIndex={0}>
              {raw.map((line, at) => (
                <li key={at}>{line || " "}</li>
              ))}
            </ol>
          </div>
        )}
        <section aria-label="What becomes of it" tabIndex={0}>
          <h3>What becomes of it</h3>
          <table className="plain" aria-label="Rows that become of it">
            <thead>
              <tr>
                {columns.slice(0, shown).map(({ name, type }) => (
                  <th key={name}>
                    <span className="mono">{name}</span>
                    <div className="quiet">{type}</div>
                  </th>
                ))}
                {left > 0 && <th className="quiet">{left} more</th>}
              </tr>
            </thead>
            <tbody>
              {rows.map(({ fields, fault }, at) => (
                <tr key={at}>
                  {fault === null ? (
                    columns.slice(0, shown).map(({ name }, place) => (
                      <td key={name} className="mono">
                        {fields[place] ?? <span className="quiet">null</span>}
                      </td>
                    ))
                  ) : (
                    <td colSpan={shown + 1} className="lead">
                      no row: {fault}
                    </td>
                  )}
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      </div>
    </section>
  );
}
