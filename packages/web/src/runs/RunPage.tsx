import { Button, Modal } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { RunLine, RunLoadView, RunView } from "@undercoat/core/api/api";
import { marksFailed, marksWords } from "@undercoat/core/mark/mark";
import { driftWords } from "@undercoat/core/run/drift";
import { addTallies, balances, isOpen, reasonWords } from "@undercoat/core/run/run";
import { useEffect, useRef, useState } from "react";
import { Link, useLocation, useNavigate, useParams } from "react-router";
import { useCanEdit } from "../account/me.ts";
import { answer, path, server } from "../api/client.ts";
import { type Progress, queries } from "../api/queries.ts";
import { FilesRead } from "../files/FilesRead.tsx";
import { CommandLink, givenOptions, runCommand } from "../parts/CommandLink.tsx";
import { bytes, counted, exactTime, grouped, moment, seconds } from "../parts/format.ts";
import { Page, Unanswered } from "../parts/Page.tsx";
import { thenRows, useRun } from "../parts/runs.ts";
import { SqlText } from "../parts/SqlText.tsx";
import { ErrorNote, FailureNote, reasonOf, StatusBadge, statusWords } from "../parts/words.tsx";
import { ValuesNote } from "../values/ValuesNote.tsx";
import { AskedNote } from "./AskedNote.tsx";
import { Equation } from "./Equation.tsx";
import { Phases } from "./Phases.tsx";
import { RehearsalView } from "./RehearsalView.tsx";

const active = (run: RunView) => isOpen(run.status);

/** Lines that the server gives at once. */
const mostLines = 1000;

/** Log lines as they come, the SQL behind each one click away. */
function Lines({ run }: { run: RunView }) {
  const [sql, setSql] = useState<RunLine | null>(null);
  const live = active(run);
  const client = useQueryClient();
  const { data } = useQuery(queries.lines(client, run.id, live));
  const box = useRef<HTMLDivElement>(null);
  // Loads side by side tell in batches of their own; together they read in the order of time.
  const lines = (data ?? []).toSorted((a, b) => (a.at < b.at ? -1 : a.at > b.at ? 1 : a.id - b.id));
  const count = lines.length;
  useEffect(() => {
    if (live && count) box.current?.scrollTo({ top: box.current.scrollHeight });
  }, [count, live]);
  return (
    <>
      <div className="log" ref={box} role="log" aria-label="What happened" tabIndex={0}>
        {count >= mostLines && <div className="quiet">Only the newest lines are shown.</div>}
        {lines.map((line) => (
          <div key={line.id}>
            <time dateTime={line.at}>{exactTime(line.at)}</time>
            {line.load && <span className="strong">{line.load}: </span>}
            <span className={line.message.startsWith("failed") ? "lead" : undefined}>{line.message}</span>{" "}
            {line.sql && (
              <button type="button" className="link" onClick={() => setSql(line)} aria-label={`SQL of ${line.message}`}>
                SQL
              </button>
            )}
          </div>
        ))}
        {count === 0 && (
          <span className="quiet">{run.status === "queued" ? "Waiting for a worker." : "Nothing was told."}</span>
        )}
      </div>
      <Modal
        opened={sql !== null}
        onClose={() => setSql(null)}
        title={sql ? `${sql.load ?? ""}: ${sql.message}` : ""}
        size="xl"
      >
        {sql?.sql && <SqlText sql={sql.sql} />}
      </Modal>
    </>
  );
}

function ProofWords({ load }: { load: RunLoadView }) {
  if (load.trouble)
    return (
      <span className="lead" title={load.trouble}>
        not possible: {load.trouble}
      </span>
    );
  if (!load.slices || load.proof === null)
    return <span className="quiet">{load.status === "finished" ? "unproved" : "–"}</span>;
  const { all, agreeing } = load.slices;
  const agreed = load.verdict === "proved";
  const cells = load.cells
    ? `every cell of ${grouped(load.cells.rows)} row${load.cells.rows === "1" ? "" : "s"} ${load.cells.verdict === "proved" ? "the same" : "compared: some differ"}`
    : null;
  const slices =
    all > 1
      ? `${grouped(String(agreeing))} of ${grouped(String(all))} slices agree${load.whole ? "" : " of those touched"}`
      : agreed
        ? `${load.figures.length} of ${load.figures.length} figures agree`
        : "the figures disagree";
  return (
    <Link to={`/proofs/${load.proof}`} className={`strong ${agreed ? "good" : "lead"}`}>
      {load.verdict === "unproved"
        ? "nothing touched, nothing to prove"
        : [cells, all > 0 ? slices : null].filter(Boolean).join("; ")}
      {load.without && load.without !== "0" ? `, less the ${grouped(load.without)} rejected` : ""}
    </Link>
  );
}

function stateWords(load: RunLoadView, progress: Progress | undefined): string {
  if (isOpen(load.status) && load.waitingFor) return `waits for ${load.waitingFor}`;
  if (load.status !== "running") return statusWords(load.status);
  const words: Record<string, string> = {
    wait: "planning",
    read: "reading",
    check: "checking",
    apply: "applying",
    prove: "proving",
  };
  const rows =
    progress && progress.rows !== "0" && load.phase === "read"
      ? `, ${grouped(progress.rows)} rows so far, ${grouped(String(progress.rate))}/s`
      : "";
  return `${words[load.phase ?? ""] ?? "starting"}${rows}`;
}

export default function RunPage() {
  const { id = "" } = useParams();
  const navigate = useNavigate();
  const canEdit = useCanEdit();
  const { data: run, error } = useQuery({
    ...queries.run(id),
    refetchInterval: ({ state }) => (state.data && active(state.data) ? 2000 : false),
  });
  const { data: progress } = useQuery(queries.progress(Number(id)));
  const cancel = useMutation({ mutationFn: () => server.runs[":id"].cancel.$post(path({ id })) });
  const again = useMutation({
    mutationFn: (unfinished: boolean) =>
      answer(server.runs[":id"].again.$post({ ...path({ id }), json: { unfinished } })),
    onSuccess: (next) => navigate(`/runs/${next.id}`),
  });
  const start = useRun();
  const { search } = useLocation();
  const found = run && !active(run) && search === `?${thenRows}` ? run.loads.find((load) => load.proof !== null) : null;
  useEffect(() => {
    if (found) navigate(`/proofs/${found.proof}#rows`, { replace: true });
  }, [found, navigate]);
  if (!run) return <Unanswered error={error} />;
  // While a load reads, what it has read so far counts already.
  const tally = addTallies(
    run.loads.map((load) =>
      load.status === "running" ? { ...load.tally, read: progress?.[load.load]?.rows ?? "0" } : load.tally,
    ),
  );
  const moved = run.loads.reduce((sum, load) => sum + Number(load.bytes), 0);
  const marks = run.loads.map((load) => load.watermark).filter((value) => value !== null);
  const disagreeing = run.loads.find((load) => load.verdict === "disagrees");
  const proof = (disagreeing ?? run.loads.find((load) => load.proof !== null))?.proof;
  const live = active(run);
  const written = run.loads.filter((load) => load.status === "finished").length;
  const left = run.loads.filter((load) => load.status !== "finished").length;
  const interval =
    run.scope.kind === "interval"
      ? [`--from '${run.scope.from}'`, `--to '${run.scope.to}'`]
      : run.scope.kind === "whole"
        ? ["--whole"]
        : [];
  const repeatable =
    run.kind !== "repair" && (run.scope.kind === "due" || run.scope.kind === "whole" || run.scope.kind === "interval");
  const command = repeatable
    ? runCommand(
        run.kind === "rehearse" ? "rehearse" : run.kind === "prove" ? "prove" : "run",
        run.pipeline,
        run.loads.map((load) => load.load),
        ...givenOptions(run.given),
        ...interval,
      )
    : null;
  const rehearsed = run.loads.flatMap((load) => load.rehearsal ?? []);
  return (
    <Page
      title={`${run.title}, run ${run.id}`}
      trail={[
        { to: "/pipelines", of: "Pipelines" },
        { to: `/pipelines/${run.pipeline}`, of: run.title },
        ...(run.heading === null ? [] : [{ to: `/runs?heading=${run.heading}`, of: "all its sets" }]),
        `Run ${run.id}`,
      ]}
      state={<StatusBadge status={run.status} verdict={run.verdict} />}
      heading={
        <>
          {run.title}, {moment(run.startedAt ?? run.createdAt)}
        </>
      }
      about={
        <>
          {reasonOf(run)}
          {run.version !== null && (
            <>
              {" "}
              · <Link to={`/versions/${run.pipeline}?version=${run.version}`}>version {run.version}</Link>
            </>
          )}
          {command && (
            <>
              {" "}
              · <CommandLink command={command} />
            </>
          )}
        </>
      }
      actions={
        <>
          {canEdit && live && (
            <Button variant="outline" loading={cancel.isPending} onClick={() => cancel.mutate()}>
              Cancel the run
            </Button>
          )}
          {canEdit && !live && (
            <Button variant="outline" loading={again.isPending} onClick={() => again.mutate(false)}>
              {run.kind === "rehearse" ? "Rehearse again" : "Run again"}
            </Button>
          )}
          {canEdit && !live && left > 0 && left < run.loads.length && (
            <Button variant="outline" loading={again.isPending} onClick={() => again.mutate(true)}>
              Run the {counted(left, "load")} left undone
            </Button>
          )}
          {run.kind === "rehearse" && !live && !run.saved && (
            <Button component={Link} to={`/pipelines/${run.pipeline}/${run.loads[0]?.load ?? ""}`} variant="outline">
              Open the pipeline
            </Button>
          )}
          {run.kind === "rehearse" && canEdit && !live && run.saved && (
            <Button
              loading={start.isPending}
              onClick={() =>
                start.mutate({
                  pipeline: run.pipeline,
                  given: run.given,
                  loads: run.loads.map((load) => load.load),
                  reason: `as rehearsed in run ${run.id}`,
                })
              }
            >
              Run it now
            </Button>
          )}
          {proof !== undefined && proof !== null && (
            <Button component={Link} to={`/proofs/${proof}`}>
              Open the proof
            </Button>
          )}
        </>
      }
    >
      <ErrorNote error={cancel.error ?? again.error} />
      <ValuesNote set={run.set} values={run.values} />
      {run.failure && <FailureNote failure={run.failure} />}
      {run.kind === "rehearse" && !run.saved && (
        <p>
          It rehearsed a version that is not the one saved now. <i>Rehearse again</i> looks at this version; a run takes
          the saved one.
        </p>
      )}
      {run.kind !== "prove" && (
        <section
          className="panel"
          aria-label="Tally"
          style={{ display: "flex", justifyContent: "space-between", gap: 24, alignItems: "center", margin: "10px 0" }}
        >
          <Equation tally={tally} counting={live} />
          <div className="right">
            <h2 className={live ? "quiet" : balances(tally) && left === 0 ? "good" : "lead"}>
              {live
                ? "Counting"
                : run.kind === "rehearse"
                  ? "Nothing was written"
                  : written === 0
                    ? "No load was written"
                    : left > 0
                      ? `${written} of ${counted(run.loads.length, "load")} written`
                      : balances(tally)
                        ? "The tally balances"
                        : "The tally does not balance"}
            </h2>
            <span className="quiet">
              {seconds(run.startedAt, run.finishedAt ?? (live ? new Date().toISOString() : null))} · {bytes(moved)}
              {marks.length === 1 && run.kind !== "rehearse" && ` · watermark now ${marks[0]?.slice(0, 19)}`}
            </span>
          </div>
        </section>
      )}
      {rehearsed.map((rehearsal) => (
        <RehearsalView key={rehearsal.into} rehearsal={rehearsal} />
      ))}
      <div className="columns" style={{ marginTop: 18 }}>
        <section aria-label="Where the time went">
          <h2 style={{ marginBottom: 8 }}>Where the time went</h2>
          <Phases loads={run.loads} ended={!live} />
        </section>
        <section>
          <h2 style={{ marginBottom: 8 }}>What happened</h2>
          <Lines run={run} />
        </section>
      </div>
      <h2 style={{ margin: "20px 0 4px" }}>Each load</h2>
      <table className="plain">
        <thead>
          <tr>
            <th>Load</th>
            <th className="right">Read</th>
            <th className="right">New</th>
            <th className="right">Changed</th>
            <th className="right">Same</th>
            <th className="right">Rejected</th>
            <th>State</th>
            <th>Proof</th>
          </tr>
        </thead>
        <tbody>
          {run.loads.map((load) => (
            <tr key={load.load}>
              <td>
                <Link to={`/pipelines/${run.pipeline}/${load.load}`} className="mono" style={{ color: "var(--ink)" }}>
                  {load.into}
                </Link>
              </td>
              {(["read", "new", "changed", "same", "rejected"] as const).map((field) => (
                <td key={field} className="right mono">
                  {run.kind === "prove" ? (
                    "–"
                  ) : field === "rejected" && load.tally.rejected !== "0" && run.kind !== "rehearse" ? (
                    <Link className="lead" to={`/rejected?run=${run.id}&load=${run.pipeline}/${load.load}&all=true`}>
                      {grouped(load.tally.rejected)}
                    </Link>
                  ) : (
                    grouped(
                      field === "read" && load.status === "running"
                        ? (progress?.[load.load]?.rows ?? "0")
                        : load.tally[field],
                    )
                  )}
                </td>
              ))}
              <td className={load.status === "failed" ? "lead" : "quiet"}>
                {stateWords(load, progress?.[load.load])}
                {load.failure && <div>{load.failure.message}</div>}
                {load.findings.reasons.length > 0 && <div className="lead">{reasonWords(load.findings.reasons)}</div>}
                {load.findings.counted
                  .filter((entry) => entry.rows !== "0")
                  .map((entry) => (
                    <div key={entry.rule}>
                      {grouped(entry.rows)} break “{entry.rule}”, which only counts
                    </div>
                  ))}
                {load.tally.versions !== undefined && load.status === "finished" && (
                  <div>
                    {counted(load.tally.versions, "version")} opened, {grouped(load.tally.closed)} ended,{" "}
                    {grouped(load.tally.overwritten)} overwritten
                    {load.findings.opened?.length
                      ? `: by ${load.findings.opened.map((one) => `${one.column} ${grouped(one.versions)}`).join(", ")}`
                      : ""}
                  </div>
                )}
                {load.findings.told && (
                  <div className={marksFailed(load.findings.told) ? "lead" : undefined}>
                    {marksWords(load.findings.told)}
                  </div>
                )}
                {load.findings.drift.map((note) => (
                  <div key={`${note.column} ${note.kind}`}>{driftWords(note)}</div>
                ))}
              </td>
              <td>
                <ProofWords load={load} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {run.loads.some(({ findings }) => findings.asked) && (
        <section aria-label="What was asked" style={{ marginTop: 18 }}>
          <h2>What was asked</h2>
          {run.loads.map(
            ({ load, into, findings: { asked } }) => asked && <AskedNote key={load} into={into} asked={asked} />,
          )}
        </section>
      )}
      {run.loads.map(({ load, findings: { files = [] } }) =>
        files.length ? (
          <section key={load} aria-label={`Files of ${load}`} style={{ marginTop: 18 }}>
            <h2>
              {counted(files.length, "file")} read for {load}{" "}
              <Link className="quiet" to={`/files/${run.pipeline}/${load}`}>
                all that it has taken
              </Link>
            </h2>
            <FilesRead label={`Files of ${load}`} files={files} height={260} />
          </section>
        ) : null,
      )}
    </Page>
  );
}
