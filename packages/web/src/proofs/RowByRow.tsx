import type { DifferingRow, RowDifferences } from "@undercoat/core/proof/difference";
import { Fragment, useEffect, useRef } from "react";
import { Link, useLocation } from "react-router";
import { counted } from "../parts/format.ts";
import { Side } from "../parts/words.tsx";

const told = (value: string | null | undefined) =>
  value === null || value === undefined ? (
    <i className="quiet">null</i>
  ) : value === "" ? (
    <i className="quiet">empty</i>
  ) : (
    value
  );

function HalfRow({
  row,
  side,
  columns,
  to = null,
}: {
  row: DifferingRow;
  side: "source" | "warehouse";
  columns: string[];
  to?: string | null;
}) {
  const values = row[side];
  return (
    <tr>
      <td>
        <Side of={side} /> {to && <Link to={to}>through time</Link>}
      </td>
      {values ? (
        columns.map((column, at) => (
          <td
            key={column}
            className={`nowrap${row.cells.includes(at) ? " differs" : ""}`}
            style={{ maxWidth: 280, overflow: "hidden", textOverflow: "ellipsis" }}
            title={values[at] ?? "null"}
          >
            {told(values[at])}
          </td>
        ))
      ) : (
        <td colSpan={columns.length} className="quiet" style={{ fontFamily: "'Public Sans Variable', sans-serif" }}>
          {side === "warehouse" ? "not in the warehouse" : "not at the source"}
        </td>
      )}
    </tr>
  );
}

/** The differing rows, source over warehouse, differing cells underlined. */
export function RowByRow({
  rows,
  lifeline,
}: {
  rows: RowDifferences;
  /** where a key is seen through time; null where its table keeps no history */
  lifeline: ((key: string[]) => string) | null;
}) {
  const found = rows.missing + rows.extra + rows.different;
  const place = useRef<HTMLElement>(null);
  const { hash } = useLocation();
  useEffect(() => {
    if (hash === "#rows") place.current?.scrollIntoView();
  }, [hash]);
  if (found === 0) return null;
  return (
    <section aria-label="Row by row" ref={place}>
      <div
        className="head"
        style={{ margin: "22px 0 4px", justifyContent: "flex-start", alignItems: "baseline", gap: 16 }}
      >
        <h2>Row by row</h2>
        <span className="quiet">
          {rows.rows.length < found
            ? `the first ${counted(rows.rows.length, "difference")} of ${rows.complete ? "" : "at least "}${found}`
            : counted(found, "difference")}
          ; what differs is underlined
        </span>
      </div>
      <div className="rows-scroll" style={{ maxHeight: 460 }} tabIndex={0} role="region" aria-label="Differing rows">
        <table className="plain mono">
          <thead>
            <tr>
              <td />
              {rows.columns.map((column) => (
                <th key={column}>{column}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.rows.map((row, at) => (
              <Fragment key={`${row.key.join(" ")} ${at}`}>
                <HalfRow row={row} side="source" columns={rows.columns} />
                <HalfRow
                  row={row}
                  side="warehouse"
                  columns={rows.columns}
                  to={lifeline && row.warehouse ? lifeline(row.key.map((part) => part ?? "")) : null}
                />
              </Fragment>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}
