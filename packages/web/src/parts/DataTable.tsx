import { useVirtualizer } from "@tanstack/react-virtual";
import { type ReactNode, useRef } from "react";

export interface Column<T> {
  head: ReactNode;
  /** a CSS grid track: `120px`, `minmax(0, 1fr)` */
  width: string;
  right?: boolean;
  cell: (row: T) => ReactNode;
}

interface Props<T> {
  label: string;
  columns: Column<T>[];
  rows: T[];
  rowKey: (row: T) => string;
  chosen?: (row: T) => boolean;
  onOpen?: (row: T) => void;
  height?: number | string;
}

const rowHeight = 33;

/** A table of any length: only the rows in view are in the page. Rows that open do so by click or Enter. */
export function DataTable<T>({ label, columns, rows, rowKey, chosen, onOpen, height = 360 }: Props<T>) {
  const scroller = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 12,
  });
  const tracks = { gridTemplateColumns: columns.map((column) => column.width).join(" ") };
  return (
    <div
      className="grid-table"
      ref={scroller}
      style={{ maxHeight: height }}
      role="table"
      aria-label={label}
      aria-rowcount={rows.length + 1}
      tabIndex={0}
    >
      <div role="rowgroup">
        <div className="grid-row grid-head" style={tracks} role="row">
          {columns.map((column, at) => (
            <div key={at} role="columnheader" className={column.right ? "right" : undefined}>
              {column.head}
            </div>
          ))}
        </div>
      </div>
      <div role="rowgroup" style={{ height: virtual.getTotalSize(), position: "relative" }}>
        {virtual.getVirtualItems().map((item) => {
          const row = rows[item.index] as T;
          return (
            <div
              key={rowKey(row)}
              role="row"
              aria-rowindex={item.index + 2}
              tabIndex={onOpen ? 0 : undefined}
              className={`grid-row${chosen?.(row) ? " chosen" : ""}${onOpen ? " open" : ""}`}
              style={{
                ...tracks,
                position: "absolute",
                top: 0,
                left: 0,
                right: 0,
                height: rowHeight,
                transform: `translateY(${item.start}px)`,
              }}
              onClick={onOpen ? () => onOpen(row) : undefined}
              onKeyDown={onOpen ? (event) => event.key === "Enter" && onOpen(row) : undefined}
            >
              {columns.map((column, at) => (
                <div key={at} role="cell" className={column.right ? "right" : undefined}>
                  {column.cell(row)}
                </div>
              ))}
            </div>
          );
        })}
      </div>
    </div>
  );
}
