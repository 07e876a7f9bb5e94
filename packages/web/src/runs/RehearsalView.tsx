import { SegmentedControl } from "@mantine/core";
import type { Example, Rehearsal } from "@undercoat/core/run/rehearsal";
import { useState } from "react";
import { counted, grouped } from "../parts/format.ts";
import { SqlText } from "../parts/SqlText.tsx";

type Kind = "new" | "changed" | "rejected" | "deleted";

const told = (value: string | null | undefined) =>
  value === null || value === undefined ? (
    <span className="quiet">null</span>
  ) : value === "" ? (
    <span className="quiet">''</span>
  ) : (
    value
  );

/** Rows as they would be, old beside new by cell; columns that change nowhere stand behind the others. */
function Examples({ columns, keyColumns, rows }: { columns: string[]; keyColumns: string[]; rows: Example[] }) {
  const moves = (at: number) => rows.some((row) => row.held && row.held[at] !== row.new[at]);
  const rank = (at: number) => (keyColumns.includes(columns[at] ?? "") ? 0 : moves(at) ? 1 : 2);
  const order = columns.map((_, at) => at).sort((a, b) => rank(a) - rank(b));
  return (
    <table className="plain mono" style={{ fontSize: 12 }}>
      <thead>
        <tr>
          {order.map((at) => (
            <th key={at}>{columns[at]}</th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.map((row, place) => (
          <tr key={place}>
            {order.map((at) => (
              <td key={at} className="nowrap">
                {row.held && row.held[at] !== row.new[at] ? (
                  <>
                    <span className="was">{told(row.held[at])}</span>
                    <span className="now">{told(row.new[at])}</span>
                  </>
                ) : (
                  told(row.new[at])
                )}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** Rows that would be turned away, as the source holds them. */
function Rejected({ rows }: { rows: Rehearsal["rejected"] }) {
  const names = Object.keys(rows[0]?.values ?? {});
  return (
    <table className="plain mono" style={{ fontSize: 12 }}>
      <thead>
        <tr>
          <th>Reason</th>
          {names.map((name) => (
            <th key={name}>{name}</th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.map((row, at) => (
          <tr key={at}>
            <td className="lead nowrap">{row.reason}</td>
            {names.map((name) => (
              <td key={name} className="nowrap">
                {told(row.values[name])}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** What one load of a run would do: its changes of the target, and real rows of each outcome. */
export function RehearsalView({ rehearsal }: { rehearsal: Rehearsal }) {
  const { tally, added, altered, rejected, gone, columns, key, changes, limit, marks } = rehearsal;
  const counts: Record<Kind, string> = {
    new: tally.new,
    changed: tally.changed,
    rejected: tally.rejected,
    deleted: tally.deleted,
  };
  const kinds = (Object.keys(counts) as Kind[]).filter((kind) => counts[kind] !== "0");
  const [kind, setKind] = useState<Kind>(kinds.includes("changed") ? "changed" : (kinds[0] ?? "new"));
  return (
    <section aria-label={`Rehearsal of ${rehearsal.into}`} style={{ marginTop: 18 }}>
      <div className="head" style={{ marginBottom: 8 }}>
        <h2 className="mono">{rehearsal.into}</h2>
        {kinds.length === 1 && <span className="strong">{kinds.map((one) => `${grouped(counts[one])} ${one}`)}</span>}
        {kinds.length > 1 && (
          <SegmentedControl
            size="xs"
            value={kind}
            onChange={(value) => setKind(value as Kind)}
            data={kinds.map((one) => ({ value: one, label: `${grouped(counts[one])} ${one}` }))}
          />
        )}
      </div>
      {limit !== null && <p className="quiet">Only the latest {grouped(String(limit))} rows were looked at.</p>}
      {changes.length > 0 && (
        <SqlText sql={changes.map((change) => `${change.sql};`).join("\n")} label="It would first run" />
      )}
      {kinds.length === 0 && <p className="quiet">A run would leave the table as it is.</p>}
      <div className="rows-scroll" tabIndex={0} role="region" aria-label={`Rows of ${rehearsal.into}`}>
        {kind === "new" && added.length > 0 && <Examples columns={columns} keyColumns={key} rows={added} />}
        {kind === "changed" && altered.length > 0 && <Examples columns={columns} keyColumns={key} rows={altered} />}
        {kind === "rejected" && rejected.length > 0 && <Rejected rows={rejected} />}
        {kind === "deleted" && gone.length > 0 && (
          <p className="mono">{gone.map((values) => values.join(", ")).join(" · ")}</p>
        )}
      </div>
      {marks && (marks.words.length > 0 || marks.lacking > 0) && (
        <>
          <h3 style={{ marginTop: 12 }}>Its source would be told, once it has committed</h3>
          <ul className="plain mono" aria-label="Marks that would be sent">
            {marks.words.map((words) => (
              <li key={words} className="wrap">
                {words}
              </li>
            ))}
          </ul>
          <p className="quiet">
            {marks.lacking > 0 && `${counted(marks.lacking, "row")} can't be told: what the mark needs is not known. `}
            Rows that it has been told of are not told again.
          </p>
        </>
      )}
    </section>
  );
}
