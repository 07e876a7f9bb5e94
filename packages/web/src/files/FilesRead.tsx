import { Tooltip } from "@mantine/core";
import type { FileRead } from "@undercoat/core/run/run";
import type { ReactNode } from "react";
import { type Column, DataTable } from "../parts/DataTable.tsx";
import { bytes, grouped } from "../parts/format.ts";

interface Props<T extends FileRead> {
  label: string;
  files: T[];
  height?: number | string;
  /** columns behind the files' own */
  more?: Column<T>[];
}

/** Files as they were read: how large, by what digest, how many rows, and what they were compared with. */
export function FilesRead<T extends FileRead>({ label, files, height, more = [] }: Props<T>) {
  const compared = files.some(({ control }) => control.length > 0);
  const own: Column<T>[] = [
    { head: "File", width: "minmax(0, 2.2fr)", cell: ({ name }) => <span className="mono">{name}</span> },
    { head: "Size", width: "80px", right: true, cell: (file) => <span className="mono">{bytes(file.bytes)}</span> },
    {
      head: "Rows read",
      width: "90px",
      right: true,
      cell: ({ rows }) => <span className="mono">{grouped(rows)}</span>,
    },
    {
      head: "Faulty",
      width: "80px",
      right: true,
      cell: ({ faults }): ReactNode =>
        faults === "0" ? <span className="mono quiet">0</span> : <span className="mono lead">{grouped(faults)}</span>,
    },
    {
      head: "SHA-256",
      width: "130px",
      cell: ({ sha256 }) => (
        <Tooltip label={<span className="mono">{sha256}</span>}>
          <span className="mono quiet">{sha256.slice(0, 12)}…</span>
        </Tooltip>
      ),
    },
  ];
  const control: Column<T> = {
    head: "Compared with what lies beside it",
    width: "minmax(0, 1.6fr)",
    cell: ({ control: told }) =>
      told.length ? (
        <span className="good">{told.join("; ")}</span>
      ) : (
        <span className="quiet">nothing says what it holds</span>
      ),
  };
  return (
    <DataTable
      label={label}
      height={height}
      rows={files}
      rowKey={(file) => file.name}
      columns={[...own, ...(compared ? [control] : []), ...more]}
    />
  );
}
