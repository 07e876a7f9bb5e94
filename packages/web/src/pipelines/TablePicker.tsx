import { Checkbox, Select, TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { listedName } from "@undercoat/core/dataset/item";
import { formatTableName } from "@undercoat/core/sql/identifier";
import { useState } from "react";
import { queries } from "../api/queries.ts";
import { DataTable } from "../parts/DataTable.tsx";
import { matches } from "../parts/Filter.tsx";
import { bytes, grouped } from "../parts/format.ts";
import { ErrorNote } from "../parts/words.tsx";

interface Props {
  connection: string | null;
  onConnection: (name: string | null) => void;
  picked: string[];
  onPicked: (tables: string[]) => void;
}

/** Chooses a source and ticks tables of it. */
export function TablePicker({ connection, onConnection, picked, onPicked }: Props) {
  const [wanted, setWanted] = useState("");
  const connections = useQuery(queries.connections());
  const datasets = useQuery(queries.datasets(connection ?? ""));
  const rows = (datasets.data ?? [])
    .map((row) => ({ ...row, id: formatTableName({ schema: row.schema, table: row.name }) }))
    .filter((row) => matches(wanted, listedName(row)));
  const toggle = (id: string) =>
    onPicked(picked.includes(id) ? picked.filter((other) => other !== id) : [...picked, id]);
  const all = rows.length > 0 && rows.every((row) => picked.includes(row.id));
  return (
    <div style={{ display: "grid", gap: 12 }}>
      <div className="actions" style={{ alignItems: "flex-end" }}>
        <Select
          label="Source connection"
          data={(connections.data ?? []).map((row) => row.name)}
          value={connection}
          onChange={onConnection}
          placeholder="Choose one"
          style={{ width: 240 }}
        />
        <TextInput
          label="Tables with"
          placeholder="Filter as you type"
          value={wanted}
          onChange={(event) => setWanted(event.currentTarget.value)}
          style={{ width: 240 }}
          disabled={!connection}
        />
        <span className="quiet" style={{ paddingBottom: 6 }}>
          {datasets.isFetching
            ? "Reading the list of tables"
            : datasets.data
              ? `${picked.length} of ${datasets.data.length} ticked`
              : ""}
        </span>
      </div>
      <ErrorNote error={connections.error ?? datasets.error} />
      {datasets.data && (
        <DataTable
          label="Tables of the source"
          height={290}
          rows={rows}
          rowKey={(row) => row.id}
          onOpen={(row) => toggle(row.id)}
          columns={[
            {
              head: (
                <Checkbox
                  size="xs"
                  aria-label="Tick all shown"
                  checked={all}
                  onChange={() =>
                    onPicked(
                      all
                        ? picked.filter((id) => !rows.some((row) => row.id === id))
                        : [...new Set([...picked, ...rows.map((row) => row.id)])],
                    )
                  }
                />
              ),
              width: "44px",
              cell: (row) => (
                <Checkbox
                  size="xs"
                  aria-label={listedName(row)}
                  checked={picked.includes(row.id)}
                  onChange={() => toggle(row.id)}
                  onClick={(event) => event.stopPropagation()}
                />
              ),
            },
            { head: "Table", width: "minmax(0, 2fr)", cell: (row) => <span className="mono">{listedName(row)}</span> },
            { head: "Kind", width: "140px", cell: (row) => row.kind },
            {
              head: "Rows, about",
              width: "120px",
              right: true,
              cell: (row) => <span className="mono">{grouped(row.rows)}</span>,
            },
            {
              head: "Size",
              width: "90px",
              right: true,
              cell: (row) => <span className="mono">{bytes(row.bytes)}</span>,
            },
          ]}
        />
      )}
    </div>
  );
}
