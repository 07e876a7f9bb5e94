import { useMutation, useQuery } from "@tanstack/react-query";
import type { RunView } from "@undercoat/core/api/api";
import type { Given } from "@undercoat/core/parameter/resolve";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { rehearsalWords } from "@undercoat/core/run/rehearsal";
import { isOpen, reasonWords } from "@undercoat/core/run/run";
import { Link } from "react-router";
import { answer, path, server } from "../api/client.ts";
import { queries } from "../api/queries.ts";
import { CommandLink, givenOptions, runCommand } from "../parts/CommandLink.tsx";
import { grouped } from "../parts/format.ts";
import { ErrorNote, FailureNote } from "../parts/words.tsx";
import { useChosen } from "../values/chosen.ts";

/** Enough to see what a shape does, without reading a large table whole. */
const fewRows = 1000;

const active = (run: RunView | undefined) => run !== undefined && isOpen(run.status);

/** Rehearses one load of a definition, saved or not, and waits for the outcome. */
export function useRehearsal(pipeline: string, given: Given | undefined) {
  const start = useMutation({
    mutationFn: (asked: { load: string; definition: Pipeline; limit?: number; whole?: boolean }) =>
      answer(
        server.pipelines[":name"].run.$post({
          ...path({ name: pipeline }),
          json: {
            kind: "rehearse",
            loads: [asked.load],
            definition: asked.definition,
            given,
            limit: asked.limit,
            ...(asked.whole ? { scope: { kind: "whole" as const } } : {}),
            reason: asked.limit
              ? `of the latest ${asked.limit} rows`
              : asked.whole
                ? "of the whole dataset"
                : "before a run",
          },
        }),
      ),
  });
  const id = start.data?.id;
  const run = useQuery({
    ...queries.run(id ?? ""),
    enabled: id !== undefined,
    refetchInterval: ({ state }) => (active(state.data) || !state.data ? 400 : false),
  });
  return { start, run: run.data, busy: start.isPending || (id !== undefined && (!run.data || active(run.data))) };
}

/** What a rehearsal says, in one line, and the ways on. */
export function RehearsalNote({
  pipeline,
  load,
  rehearsal,
  definition,
}: {
  pipeline: string;
  load: string;
  rehearsal: ReturnType<typeof useRehearsal>;
  definition: Pipeline;
}) {
  const { start, run, busy } = rehearsal;
  const told = run?.loads[0];
  const { given } = useChosen();
  const command = runCommand(
    "run",
    pipeline,
    Object.keys(definition.loads).length > 1 ? [load] : null,
    ...givenOptions(given ?? {}),
  );
  // What was rehearsed for another load says nothing of this one.
  const own = start.variables?.load === load;
  return (
    <div style={{ margin: "8px 0" }}>
      {own && <ErrorNote error={start.error} />}
      {own && busy && <p role="status">Rehearsing…</p>}
      {own && !busy && told?.failure && <FailureNote failure={told.failure} />}
      {own && !busy && run && told?.rehearsal && (
        <div role="status">
          <p>
            Rehearsed
            {told.rehearsal.limit
              ? ` on the latest ${grouped(String(told.rehearsal.limit))} rows`
              : start.variables?.whole
                ? " on the whole dataset"
                : ""}
            : it <b>{rehearsalWords(told.rehearsal, grouped)}</b>.
          </p>
          {told.findings.reasons.length > 0 && <p className="lead">{reasonWords(told.findings.reasons)}</p>}
          <p>
            <Link to={`/runs/${run.id}`}>See the rows and the SQL</Link>
          </p>
        </div>
      )}
      <CommandLink command={command} />
      {" · "}
      <button
        type="button"
        className="link"
        disabled={busy}
        onClick={() => start.mutate({ load, definition, limit: fewRows })}
      >
        Rehearse the latest {grouped(String(fewRows))} rows only
      </button>
      {" · "}
      <button
        type="button"
        className="link"
        disabled={busy}
        title="Also rows that a run would not read again, which a changed column or rule would touch"
        onClick={() => start.mutate({ load, definition, whole: true })}
      >
        Rehearse everything
      </button>
    </div>
  );
}
