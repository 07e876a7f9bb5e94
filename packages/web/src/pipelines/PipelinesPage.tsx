import { Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import type { PipelineSummary } from "@undercoat/core/api/api";
import { isOpen } from "@undercoat/core/run/run";
import { Link } from "react-router";
import { useCanEdit } from "../account/me.ts";
import { queries } from "../api/queries.ts";
import { Filter, matches } from "../parts/Filter.tsx";
import { counted, moment, until } from "../parts/format.ts";
import { HourButton } from "../parts/hour.tsx";
import { Page } from "../parts/Page.tsx";
import { useRun } from "../parts/runs.ts";
import { useUrlState } from "../parts/url.ts";
import { ErrorNote, StatusBadge } from "../parts/words.tsx";

/** How a pipeline's loads stand, each by its newest outcome, the gravest first. */
function Standing({ row }: { row: PipelineSummary }) {
  const { disagrees, failed, rejecting, proved } = row.standing;
  if (row.lastRun && isOpen(row.lastRun.status)) return <StatusBadge status={row.lastRun.status} verdict={null} />;
  const of = (count: number) => (row.loads.length > 1 ? `${count} of ${row.loads.length} ` : "");
  if (disagrees) return <span className="badge bad">{of(disagrees)}disagrees</span>;
  if (failed) return <span className="badge bad">{of(failed)}failed</span>;
  if (row.lastRun?.status === "cancelled") return <StatusBadge status="cancelled" verdict={null} />;
  if (!proved) return null;
  return (
    <>
      <span className="badge good">{proved === row.loads.length ? "" : of(proved)}proved</span>
      {rejecting > 0 && (
        <div className="quiet">
          {row.loads.length > 1 ? `${counted(rejecting, "load")} rejected rows` : "rejected rows"}
        </div>
      )}
    </>
  );
}

export default function PipelinesPage() {
  const canEdit = useCanEdit();
  const [wanted, setWanted] = useUrlState("find");
  const { data, error } = useQuery(queries.pipelines());
  const run = useRun();
  const shown = (data ?? []).filter((row) =>
    matches(wanted, row.title, row.name, row.owner ?? "", ...row.labels, ...row.loads.map((load) => load.table)),
  );
  return (
    <Page
      title="Pipelines"
      heading={
        data
          ? data.length
            ? `${counted(data.length, "pipeline")} load ${counted(
                data.reduce((sum, row) => sum + row.loads.length, 0),
                "table",
              )}`
            : "No pipelines yet"
          : "Pipelines"
      }
      about={
        data?.length === 0
          ? "A pipeline is a list of loads, each from one dataset into one warehouse table."
          : "Each load proves itself as it runs."
      }
      actions={
        <>
          <HourButton />
          <Button component={Link} to="/schedules" variant="outline">
            What runs when
          </Button>
          <Button component={Link} to="/messages" variant="outline">
            Who is told
          </Button>
          {canEdit && (
            <Button component={Link} to="/pipelines/new">
              New pipeline
            </Button>
          )}
        </>
      }
    >
      <ErrorNote error={error ?? run.error} />
      {data && data.length > 0 && (
        <>
          <Filter
            of="pipelines"
            placeholder="Filter by name or table"
            value={wanted}
            onChange={setWanted}
            style={{ maxWidth: 300, marginBottom: 10 }}
          />
          <table className="plain">
            <thead>
              <tr>
                <th>Pipeline</th>
                <th>Loads</th>
                <th>Runs</th>
                <th>Last run</th>
                <th>State</th>
                <td />
              </tr>
            </thead>
            <tbody>
              {shown
                .toSorted((a, b) => Number(b.favourite) - Number(a.favourite))
                .map((row) => (
                  <tr key={row.name}>
                    <td>
                      <Link to={`/pipelines/${row.name}`} className="strong" title={row.sentence}>
                        {row.title}
                      </Link>
                      {row.favourite && (
                        <span className="lead" title="You want to see it first">
                          {" "}
                          ★
                        </span>
                      )}
                      <div className="quiet">
                        <span className="mono">{row.name}</span>
                        {row.owner && ` · ${row.owner}`}{" "}
                        {row.labels.map((label) => (
                          <button key={label} type="button" className="label" onClick={() => setWanted(label)}>
                            {label}
                          </button>
                        ))}
                      </div>
                    </td>
                    <td style={{ maxWidth: 360 }}>
                      <span className="mono">
                        {row.loads
                          .slice(0, 4)
                          .map((load) => load.table)
                          .join(", ")}
                      </span>
                      {row.loads.length > 4 && <span className="quiet"> and {row.loads.length - 4} more</span>}
                    </td>
                    <td>
                      {row.runs}
                      {row.nextAt && <div className="quiet">next {until(row.nextAt)}</div>}
                    </td>
                    <td className="nowrap">
                      {row.lastRun ? (
                        <Link to={`/runs/${row.lastRun.id}`}>
                          {moment(row.lastRun.startedAt ?? row.lastRun.createdAt)}
                        </Link>
                      ) : (
                        <span className="quiet">never</span>
                      )}
                    </td>
                    <td>
                      <Standing row={row} />
                    </td>
                    <td className="right">
                      {canEdit && (
                        <Button size="xs" variant="outline" onClick={() => run.mutate({ pipeline: row.name })}>
                          Run now
                        </Button>
                      )}
                    </td>
                  </tr>
                ))}
            </tbody>
          </table>
          {shown.length === 0 && (
            <p className="quiet" style={{ marginTop: 12 }}>
              No pipeline has “{wanted}” in its name or tables.
            </p>
          )}
        </>
      )}
    </Page>
  );
}
