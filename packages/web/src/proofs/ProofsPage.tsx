import { Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import type { ProofSummary } from "@undercoat/core/api/api";
import { figureWords } from "@undercoat/core/proof/figure";
import { Link } from "react-router";
import { useCanEdit } from "../account/me.ts";
import { queries } from "../api/queries.ts";
import { Filter, matches } from "../parts/Filter.tsx";
import { counted, differenceWords, grouped, moment } from "../parts/format.ts";
import { Mark, markOf } from "../parts/Mark.tsx";
import { Page } from "../parts/Page.tsx";
import { useRun } from "../parts/runs.ts";
import { useUrlState } from "../parts/url.ts";
import { ErrorNote } from "../parts/words.tsx";

/** What a proof compared, and how deep. */
function depthWords({ cells, slices }: ProofSummary): string {
  if (!cells) return "by its figures";
  const told = `every cell of ${grouped(cells.rows)} row${cells.rows === "1" ? "" : "s"}`;
  return cells.of === "all" || slices.all === 0 ? told : `${told}, the rest by figures`;
}

/** The latest proof of every load, those that disagree first; or one load's proofs in time. */
export default function ProofsPage() {
  const canEdit = useCanEdit();
  const [wanted, setWanted] = useUrlState("find");
  const [pipeline] = useUrlState("pipeline");
  const [load] = useUrlState("load");
  const [line] = useUrlState("line");
  const one = pipeline !== "" && load !== "";
  const { data, error } = useQuery(queries.proofs({ pipeline, load, line }));
  const run = useRun();
  const shown = (data ?? []).filter((row) => matches(wanted, row.target, row.title, row.line));
  const ordered = one
    ? shown
    : [...shown].sort(
        (a, b) => Number(a.verdict === "proved") - Number(b.verdict === "proved") || (a.target < b.target ? -1 : 1),
      );
  const agreeing = (data ?? []).filter((row) => row.verdict === "proved").length;
  return (
    <Page
      title="Proofs"
      trail={one ? [{ to: "/proofs", of: "Proofs" }, load] : undefined}
      heading={
        !data
          ? "Proofs"
          : data.length === 0
            ? "Nothing has been proved yet"
            : one
              ? `${counted(data.length, "proof")} of ${data[0]?.target}`
              : `${agreeing} of ${counted(data.length, "table")} agree${agreeing === data.length ? "" : " with their source"}`
      }
      about={
        data?.length === 0
          ? "Run a pipeline: each load leaves a proof."
          : one
            ? "Newest first; each is kept with both queries and both values."
            : "The latest proof of each load."
      }
      actions={
        data &&
        data.length > 0 && (
          <Filter of="proofs" placeholder="Filter by table or pipeline" value={wanted} onChange={setWanted} />
        )
      }
    >
      <ErrorNote error={error ?? run.error} />
      {ordered.length > 0 && (
        <table className="plain">
          <thead>
            <tr>
              <th>{one ? "Proved" : "Warehouse table"}</th>
              <th>Verdict</th>
              <th className="right">Slices that agree</th>
              <th>Figures</th>
              {one ? <td /> : <th>Proved</th>}
              <td />
            </tr>
          </thead>
          <tbody>
            {ordered.map((row) => (
              <tr key={row.id}>
                <td>
                  <Link to={`/proofs/${row.id}`} className={one ? undefined : "mono"}>
                    {one ? moment(row.at) : row.target}
                  </Link>
                  <div className="quiet">
                    {row.title}
                    {row.line && ` · ${row.line}`}
                  </div>
                </td>
                <td className="nowrap">
                  <Mark state={markOf(row)} />{" "}
                  <span className={row.verdict === "disagrees" ? "lead strong" : "good strong"}>
                    {row.verdict === "proved" ? "agrees" : row.verdict}
                  </span>
                  <div className="quiet">{depthWords(row)}</div>
                </td>
                <td className="right mono nowrap">
                  {grouped(String(row.slices.agreeing))} of {grouped(String(row.slices.all))}
                </td>
                <td>
                  {row.figures.map((pair) => (
                    <div key={pair.figure}>
                      <span className="quiet">{figureWords(pair.figure)}</span>{" "}
                      <span className="mono">{grouped(pair.warehouse)}</span>
                      {pair.source !== pair.warehouse && (
                        <span className="lead strong mono"> {differenceWords(pair)}</span>
                      )}
                    </div>
                  ))}
                </td>
                <td className="nowrap quiet">{one ? (row.whole ? "all slices" : "a part") : moment(row.at)}</td>
                <td className="right">
                  {canEdit && !one && (
                    <Button
                      size="xs"
                      variant="outline"
                      onClick={() =>
                        run.mutate({
                          pipeline: row.pipeline,
                          given: row.line ? { set: row.line } : undefined,
                          kind: "prove",
                          loads: [row.load],
                          rows: row.verdict === "disagrees",
                          reason: "by hand",
                        })
                      }
                    >
                      Prove now
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </Page>
  );
}
