import { Select } from "@mantine/core";
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { queries } from "../api/queries.ts";
import { DataTable } from "../parts/DataTable.tsx";
import { grouped, moment, seconds } from "../parts/format.ts";
import { Page } from "../parts/Page.tsx";
import { useUrlState } from "../parts/url.ts";
import { ErrorNote, reasonOf, StatusBadge, statusWords } from "../parts/words.tsx";

export default function RunsPage() {
  const navigate = useNavigate();
  const [pipeline, setPipeline] = useUrlState("pipeline");
  const [status, setStatus] = useUrlState("status");
  const [kind, setKind] = useUrlState("kind");
  const pipelines = useQuery(queries.pipelines());
  const runs = useInfiniteQuery(queries.runs({ pipeline, status, kind }));
  const rows = runs.data?.pages.flat() ?? [];
  const failed = rows.filter((row) => row.status === "failed").length;
  return (
    <Page
      title="Runs"
      trail={[{ to: "/pipelines", of: "Pipelines" }, "Runs"]}
      heading={
        runs.data
          ? rows.length === 0
            ? "No such run"
            : failed
              ? `${grouped(String(failed))} of the last ${grouped(String(rows.length))} runs failed`
              : `None of the last ${grouped(String(rows.length))} runs failed`
          : "Runs"
      }
      actions={
        <>
          <Select
            aria-label="Pipeline"
            placeholder="Any pipeline"
            clearable
            data={(pipelines.data ?? []).map((row) => ({ value: row.name, label: row.title }))}
            value={pipeline || null}
            onChange={(value) => setPipeline(value ?? "")}
            w={190}
          />
          <Select
            aria-label="Kind"
            placeholder="Any kind"
            clearable
            data={[
              { value: "load", label: "loads" },
              { value: "prove", label: "proofs only" },
              { value: "repair", label: "repairs" },
              { value: "rehearse", label: "rehearsals" },
            ]}
            value={kind || null}
            onChange={(value) => setKind(value ?? "")}
            w={140}
          />
          <Select
            aria-label="State"
            placeholder="Any state"
            clearable
            data={(["queued", "running", "unknown", "finished", "failed", "cancelled"] as const).map((value) => ({
              value,
              label: statusWords(value),
            }))}
            value={status || null}
            onChange={(value) => setStatus(value ?? "")}
            w={140}
          />
        </>
      }
    >
      <ErrorNote error={runs.error} />
      {rows.length > 0 && (
        <DataTable
          label="Runs"
          height="calc(100vh - 220px)"
          rows={rows}
          rowKey={(row) => String(row.id)}
          onOpen={(row) => navigate(`/runs/${row.id}`)}
          columns={[
            {
              head: "Run",
              width: "70px",
              cell: (row) => (
                <Link to={`/runs/${row.id}`} className="mono" onClick={(event) => event.stopPropagation()}>
                  {row.id}
                </Link>
              ),
            },
            { head: "Pipeline", width: "minmax(0, 1.2fr)", cell: (row) => row.title },
            { head: "Why", width: "minmax(0, 1.4fr)", cell: (row) => <span className="quiet">{reasonOf(row)}</span> },
            { head: "Started", width: "150px", cell: (row) => moment(row.startedAt ?? row.createdAt) },
            {
              head: "Took",
              width: "80px",
              right: true,
              cell: (row) => <span className="mono">{seconds(row.startedAt, row.finishedAt)}</span>,
            },
            {
              head: "Read",
              width: "100px",
              right: true,
              cell: (row) => <span className="mono">{row.kind === "prove" ? "–" : grouped(row.tally.read)}</span>,
            },
            {
              head: "New",
              width: "90px",
              right: true,
              cell: (row) => <span className="mono">{row.kind === "prove" ? "–" : grouped(row.tally.new)}</span>,
            },
            {
              head: "Changed",
              width: "90px",
              right: true,
              cell: (row) => <span className="mono">{row.kind === "prove" ? "–" : grouped(row.tally.changed)}</span>,
            },
            { head: "State", width: "190px", cell: (row) => <StatusBadge status={row.status} verdict={row.verdict} /> },
          ]}
        />
      )}
      {runs.hasNextPage && (
        <button type="button" className="link" onClick={() => runs.fetchNextPage()}>
          Show earlier runs
        </button>
      )}
    </Page>
  );
}
