import { Select } from "@mantine/core";
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import type { RunHeading } from "@undercoat/core/api/api";
import { addTallies, isOpen } from "@undercoat/core/run/run";
import { Link, useNavigate } from "react-router";
import { queries } from "../api/queries.ts";
import { DataTable } from "../parts/DataTable.tsx";
import { counted, grouped, moment, seconds } from "../parts/format.ts";
import { Page, Unanswered } from "../parts/Page.tsx";
import { useUrlState } from "../parts/url.ts";
import { ErrorNote, reasonOf, StatusBadge, statusWords } from "../parts/words.tsx";
import { Equation } from "./Equation.tsx";

/** Where a run's line leads: to the run, or to all that stand under a heading. */
const runLink = (row: RunHeading) => (row.runs ? `/runs?heading=${row.id}` : `/runs/${row.id}`);

/** Runs that were asked for together, with what they come to. */
function RunSets({ rows, error }: { rows: RunHeading[]; error: unknown }) {
  const navigate = useNavigate();
  const [first] = rows;
  if (!first) return <Unanswered error={error} />;
  const open = rows.filter((row) => isOpen(row.status)).length;
  const failed = rows.filter((row) => row.status === "failed").length;
  const differing = rows.filter((row) => row.verdict === "disagrees").length;
  const told = [
    ...(open ? [`${open} still to come`] : []),
    ...(failed ? [`${failed} failed`] : []),
    ...(differing ? [`${differing} with a proof that disagrees`] : []),
  ];
  return (
    <Page
      title={`${first.pipeline}, ${counted(rows.length, "set")}`}
      trail={[
        { to: `/pipelines/${first.pipeline}`, of: first.pipeline },
        { to: `/runs?pipeline=${first.pipeline}`, of: "Runs" },
        `${counted(rows.length, "set")} of ${moment(first.createdAt)}`,
      ]}
      heading={`${counted(rows.length, "set")} of values: ${told.join(", ") || "all finished"}`}
      about={reasonOf(first)}
    >
      <div style={{ marginBottom: 18 }}>
        <Equation tally={addTallies(rows.map((row) => row.tally))} counting={open > 0} />
      </div>
      <DataTable
        label="Runs by set"
        height="calc(100vh - 330px)"
        rows={rows}
        rowKey={(row) => String(row.id)}
        onOpen={(row) => navigate(`/runs/${row.id}`)}
        columns={[
          {
            head: "Set",
            width: "minmax(0, 1fr)",
            cell: (row) => (
              <Link to={`/runs/${row.id}`} onClick={(event) => event.stopPropagation()}>
                {row.set ?? "the defaults"}
              </Link>
            ),
          },
          {
            head: "With",
            width: "minmax(0, 2fr)",
            cell: (row) => (
              <span className="mono quiet cut">
                {Object.entries(row.values)
                  .map(([name, { text }]) => `${name} ${text}`)
                  .join(", ")}
              </span>
            ),
          },
          {
            head: "Took",
            width: "80px",
            right: true,
            cell: (row) => <span className="mono">{seconds(row.startedAt, row.finishedAt)}</span>,
          },
          ...(["read", "new", "changed"] as const).map((field) => ({
            head: `${field[0]?.toUpperCase()}${field.slice(1)}`,
            width: "90px",
            right: true,
            cell: (row: RunHeading) => (
              <span className="mono">{row.kind === "prove" ? "–" : grouped(row.tally[field])}</span>
            ),
          })),
          { head: "State", width: "190px", cell: (row) => <StatusBadge status={row.status} verdict={row.verdict} /> },
        ]}
      />
    </Page>
  );
}

export default function RunsPage() {
  const navigate = useNavigate();
  const [pipeline, setPipeline] = useUrlState("pipeline");
  const [status, setStatus] = useUrlState("status");
  const [kind, setKind] = useUrlState("kind");
  const pipelines = useQuery(queries.pipelines());
  const [heading] = useUrlState("heading");
  const runs = useInfiniteQuery({
    ...queries.runs({ pipeline, status, kind, heading }),
    refetchInterval: ({ state }) =>
      heading && state.data?.pages.flat().some((row) => isOpen(row.status)) ? 2000 : false,
  });
  const rows = runs.data?.pages.flat() ?? [];
  const failed = rows.filter((row) => row.status === "failed").length;
  if (heading) return <RunSets rows={rows} error={runs.error} />;
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
          onOpen={(row) => navigate(runLink(row))}
          columns={[
            {
              head: "Run",
              width: "70px",
              cell: (row) => (
                <Link to={runLink(row)} className="mono" onClick={(event) => event.stopPropagation()}>
                  {row.id}
                </Link>
              ),
            },
            {
              head: "Pipeline",
              width: "minmax(0, 1.2fr)",
              cell: (row) =>
                row.runs
                  ? `${row.title}, ${counted(row.runs.all, "set")}`
                  : row.set && !row.title.includes(row.set)
                    ? `${row.title}, ${row.set}`
                    : row.title,
            },
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
