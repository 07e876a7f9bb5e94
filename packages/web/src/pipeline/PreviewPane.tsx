import { Popover } from "@mantine/core";
import type { Preview, PreviewRow } from "@undercoat/core/api/api";
import { subtract } from "@undercoat/core/proof/decimal";
import { driftWords } from "@undercoat/core/run/drift";
import { typeFamily } from "@undercoat/core/sql/type";
import { type ReactNode, useState } from "react";
import { Filter } from "../parts/Filter.tsx";
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

const fresh = (row: PreviewRow) => row.held === null && row.rejected === null;
const moved = (row: PreviewRow, column: string) =>
  row.held !== null && (row.held[column] ?? null) !== (row.values[column] ?? null);

function Cell({ row, column }: { row: PreviewRow; column: string }) {
  const value = row.values[column] ?? null;
  const before = row.held?.[column] ?? null;
  if (!moved(row, column))
    return (
      <span className={value === null || value === "" ? "quiet" : undefined}>
        {row.rejected && value === null ? "" : told(value)}
      </span>
    );
  return (
    <>
      <span className="was">{told(before)}</span>
      <span className="now">{told(value)}</span>
    </>
  );
}

interface Order {
  column: string;
  down: boolean;
}

/** Numbers of any length by their exact difference, other values by their text; nulls last. */
function compare(a: string | null, b: string | null, number: boolean): number {
  if (a === null || b === null) return a === b ? 0 : a === null ? 1 : -1;
  const difference = number ? subtract(a, b) : null;
  if (difference !== null) return difference.startsWith("-") ? -1 : /^0(\.0+)?$/.test(difference) ? 0 : 1;
  return a < b ? -1 : a > b ? 1 : 0;
}

function State({ row, changed, exists }: { row: PreviewRow; changed: boolean; exists: boolean }): ReactNode {
  if (row.rejected) return <span className="lead">rejected</span>;
  if (exists && fresh(row)) return <span className="now">new</span>;
  return changed ? <span className="quiet">changed</span> : null;
}

/** Which columns the table of rows shows; a matter of looking, not of loading. */
function ColumnChooser({
  names,
  hidden,
  onChange,
}: {
  names: string[];
  hidden: ReadonlySet<string>;
  onChange: (hidden: ReadonlySet<string>) => void;
}) {
  return (
    <Popover position="bottom-end" withArrow shadow="md" trapFocus returnFocus>
      <Popover.Target>
        <button type="button" className="link nowrap">
          {hidden.size ? `${names.length - hidden.size} of ${names.length} columns` : "columns"}
        </button>
      </Popover.Target>
      <Popover.Dropdown>
        <fieldset style={{ border: 0, padding: 0, margin: 0, maxHeight: 320, overflow: "auto" }}>
          <legend className="quiet">Columns shown here</legend>
          {names.map((name) => (
            <label key={name} className="mono" style={{ display: "block" }}>
              <input
                type="checkbox"
                checked={!hidden.has(name)}
                onChange={() => {
                  const next = new Set(hidden);
                  if (!next.delete(name)) next.add(name);
                  onChange(next);
                }}
              />{" "}
              {name}
            </label>
          ))}
        </fieldset>
      </Popover.Dropdown>
    </Popover>
  );
}

/** Real rows as the load would write them, old beside new, and those it would turn away. `children` is what a rehearsal says. */
export function PreviewPane({
  preview,
  error,
  busy,
  children,
}: {
  preview: Preview | undefined;
  error: unknown;
  busy: boolean;
  children?: ReactNode;
}) {
  const [sqlShown, setSqlShown] = useState(false);
  const [wanted, setWanted] = useState("");
  const [order, setOrder] = useState<Order | null>(null);
  const [hidden, setHidden] = useState<ReadonlySet<string>>(new Set());
  if (error) return <ErrorNote error={error} />;
  if (!preview) return <p className="quiet">{busy ? "Reading rows from the source" : ""}</p>;
  const changed = (row: PreviewRow) => preview.columns.some((column) => moved(row, column.name));
  // What a run would change stands next to the key, where it is seen without scrolling.
  const moving = (name: string) => preview.rows.some((row) => moved(row, name));
  const rank = (column: Preview["columns"][number]) => (column.key ? 0 : moving(column.name) ? 1 : 2);
  const columns = preview.columns.filter((column) => !hidden.has(column.name)).sort((a, b) => rank(a) - rank(b));
  const held = preview.held !== null;
  const count = {
    new: preview.rows.filter(fresh).length,
    changed: preview.rows.filter(changed).length,
    rejected: preview.rows.filter((row) => row.rejected !== null).length,
  };
  const same = preview.rows.length - count.new - count.changed - count.rejected;
  const sentence =
    preview.rows.length === 0
      ? "The source has nothing new."
      : `Of the rows above, ${count.new} would be new, ${count.changed} changed, ${same} the same${count.rejected ? ` and ${count.rejected} rejected` : ""}.`;
  const needle = wanted.toLowerCase();
  const rows = preview.rows.filter(
    (row) =>
      needle === "" ||
      [...Object.values(row.values), row.rejected].some((value) => value?.toLowerCase().includes(needle)),
  );
  if (order) {
    const number = numeric(preview.columns.find((column) => column.name === order.column)?.type ?? "");
    rows.sort(
      (a, b) => (order.down ? -1 : 1) * compare(a.values[order.column] ?? null, b.values[order.column] ?? null, number),
    );
  }
  return (
    <>
      <div className="head" style={{ marginBottom: 6 }}>
        <h2>As it would be loaded</h2>
        <span className="quiet nowrap">
          {busy
            ? "reading"
            : preview.rows.length
              ? `${preview.watermark === null ? "" : "the newest "}${counted(preview.rows.length, "row")}`
              : "no rows"}
        </span>
      </div>
      {preview.drift.map((note) => (
        <p key={`${note.column} ${note.kind}`} className="note" style={{ margin: "0 0 8px" }}>
          Since the last run {driftWords(note)}.
        </p>
      ))}
      <div style={{ display: "flex", gap: 12, alignItems: "center", marginBottom: 6 }}>
        <Filter of="rows" size="xs" style={{ flex: 1 }} value={wanted} onChange={setWanted} />
        <ColumnChooser names={preview.columns.map((column) => column.name)} hidden={hidden} onChange={setHidden} />
      </div>
      <section
        className="rows-scroll"
        style={{ maxHeight: 330 }}
        aria-busy={busy}
        tabIndex={0}
        aria-label="Rows as they would be loaded"
      >
        <table className="plain mono" style={{ fontSize: 12 }}>
          <thead>
            <tr>
              <td />
              {columns.map((column) => (
                <th
                  key={column.name}
                  className={numeric(column.type) ? "right" : undefined}
                  aria-sort={order?.column === column.name ? (order.down ? "descending" : "ascending") : undefined}
                >
                  <button
                    type="button"
                    className="sorter"
                    onClick={() =>
                      setOrder(
                        order?.column === column.name
                          ? order.down
                            ? null
                            : { column: column.name, down: true }
                          : { column: column.name, down: false },
                      )
                    }
                  >
                    {column.name}
                    {order?.column === column.name ? (order.down ? " ↓" : " ↑") : ""}
                  </button>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((row, at) => (
              <tr key={at} title={row.rejected ?? undefined}>
                <td>
                  <State row={row} changed={changed(row)} exists={held} />
                </td>
                {columns.map((column) => (
                  <td
                    key={column.name}
                    className={`nowrap${numeric(column.type) ? " right" : ""}`}
                    style={{ maxWidth: 260, overflow: "hidden", textOverflow: "ellipsis" }}
                    title={row.rejected ?? row.values[column.name] ?? "null"}
                  >
                    <Cell row={row} column={column.name} />
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </section>
      {count.rejected > 0 && (
        <p className="lead" style={{ fontSize: 13, marginTop: 6 }}>
          {[...new Set(preview.rows.flatMap((row) => row.rejected ?? []))].slice(0, 3).join("; ")}
        </p>
      )}
      <div className="note" style={{ marginTop: 14, background: "var(--chalk)" }}>
        <h3>If it ran now</h3>
        <p>
          It would read {preview.reads}. {sentence} Nothing has been written.
        </p>
        {children}
        <button type="button" className="link" onClick={() => setSqlShown(!sqlShown)} aria-expanded={sqlShown}>
          {sqlShown ? "Hide the SQL" : "See the SQL"}
        </button>
        {sqlShown && <SqlText sql={preview.sql} label="The statement that reads the source" />}
      </div>
    </>
  );
}
