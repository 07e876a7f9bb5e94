import { counted } from "../parts/format.ts";
import type { Row } from "./rows.ts";

/** The first rows of a table, as they are. */
export function FirstRows({ rows, busy, height = 360 }: { rows: Row[] | undefined; busy: boolean; height?: number }) {
  if (!rows) return <p className="quiet">{busy ? "Reading rows" : ""}</p>;
  const names = Object.keys(rows[0] ?? {});
  if (rows.length === 0) return <p className="quiet">The table has no rows.</p>;
  return (
    <>
      <p className="quiet">The first {counted(rows.length, "row")}; long values are cut at 300 characters.</p>
      <div className="rows-scroll" style={{ maxHeight: height }} tabIndex={0} role="region" aria-label="First rows">
        <table className="plain mono" style={{ fontSize: 12 }}>
          <thead>
            <tr>
              {names.map((name) => (
                <th key={name}>{name}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((row, at) => (
              <tr key={at}>
                {names.map((name) => (
                  <td
                    key={name}
                    className="nowrap"
                    style={{ maxWidth: 300, overflow: "hidden", textOverflow: "ellipsis" }}
                    title={row[name] ?? "null"}
                  >
                    {row[name] === null ? <i className="quiet">null</i> : row[name]}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}
