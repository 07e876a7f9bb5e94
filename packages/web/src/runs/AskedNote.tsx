import { Modal } from "@mantine/core";
import type { Asked, AskedRequest, RequestsLeft } from "@undercoat/core/run/run";
import { useState } from "react";
import { DataTable } from "../parts/DataTable.tsx";
import { bytes, counted, grouped, moment } from "../parts/format.ts";

/** `940 of 1,000 requests of this hour are left by the connection's own limit.` */
function leftWords({ told, minute, hour }: RequestsLeft): string {
  const own = [minute && { ...minute, unit: "minute" }, hour && { ...hour, unit: "hour" }].flatMap((one) => one ?? []);
  const parts = [
    ...(told
      ? [
          `${counted(told.left, "request")} ${told.left === 1 ? "was" : "were"} left by its own word${told.resets ? ` until ${moment(told.resets)}` : ""}`,
        ]
      : []),
    ...own.map(
      ({ left, of, unit }) =>
        `${grouped(String(left))} of ${grouped(String(of))} of this ${unit} by the connection's own limit`,
    ),
  ];
  return parts.length ? `${parts.join(", ")}. ` : "";
}

/** `It counts 2,405 records, and 2,405 were read.` */
const countWords = ({ least, most, read }: NonNullable<Asked["counts"]>) =>
  `It counts ${least === most ? grouped(least) : `${grouped(least)} to ${grouped(most)}`} records, and ${grouped(read)} were read. `;

/** What a run asked of an application: how often, and, one click away, each request and the first page that came. */
export function AskedNote({ into, asked }: { into: string; asked: Asked }) {
  const [open, setOpen] = useState<"requests" | "first" | null>(null);
  const again = asked.requests.reduce((sum, { tries }) => sum + tries - 1, 0);
  return (
    <p>
      For <span className="mono">{into}</span>:{" "}
      <button type="button" className="link" onClick={() => setOpen("requests")}>
        {counted(asked.count, "request")}
      </button>
      , {bytes(asked.bytes)}
      {again > 0 && `, ${counted(again, "of them tried again", "of them tried again")}`}.{" "}
      {asked.counts && countWords(asked.counts)}
      {asked.left && leftWords(asked.left)}
      {asked.first && (
        <button type="button" className="link" onClick={() => setOpen("first")}>
          The first page as it came
        </button>
      )}
      <Modal opened={open === "requests"} onClose={() => setOpen(null)} title={`What was asked for ${into}`} size="xl">
        <DataTable
          label="Requests"
          height={460}
          rows={asked.requests}
          rowKey={(row: AskedRequest) => String(asked.requests.indexOf(row))}
          columns={[
            { head: "Method", width: "70px", cell: (row) => row.method },
            { head: "Address", width: "minmax(0, 1fr)", cell: (row) => <span className="mono">{row.address}</span> },
            {
              head: "Answer",
              width: "80px",
              cell: (row) => (
                <span className={row.status !== null && row.status < 300 ? undefined : "lead"}>
                  {row.status ?? "none"}
                </span>
              ),
            },
            { head: "Tries", width: "60px", right: true, cell: (row) => row.tries },
            {
              head: "Time",
              width: "90px",
              right: true,
              cell: (row) => <span className="mono">{grouped(String(row.milliseconds))} ms</span>,
            },
            {
              head: "Size",
              width: "90px",
              right: true,
              cell: (row) => <span className="mono">{bytes(row.bytes)}</span>,
            },
          ]}
        />
        {asked.count > asked.requests.length && (
          <p className="quiet">
            The first {grouped(String(asked.requests.length))} of {grouped(String(asked.count))} are kept.
          </p>
        )}
      </Modal>
      <Modal opened={open === "first"} onClose={() => setOpen(null)} title="The first page as it came" size="xl">
        <pre className="sql" style={{ maxHeight: 480, overflow: "auto" }}>
          {asked.first}
        </pre>
      </Modal>
    </p>
  );
}
