import type { RunSummary } from "@undercoat/core/api/api";
import type { Verdict } from "@undercoat/core/proof/verdict";
import { type Failure, isOpen, type RunStatus } from "@undercoat/core/run/run";
import { ApiProblem } from "../api/client.ts";

/** A source's or a warehouse's side, told by letter and colour. */
export function Side({ of }: { of: "source" | "warehouse" }) {
  return (
    <span className={`side ${of}`} title={of}>
      {of === "source" ? "S" : "W"}
    </span>
  );
}

const kinds = { good: "good", bad: "bad", busy: "busy", plain: "" };

/** A state as it is said. */
export const statusWords = (status: RunStatus) => (status === "unknown" ? "not known yet" : status);

export function StatusBadge({ status, verdict }: { status: RunStatus; verdict: Verdict | null }) {
  const tone =
    status === "failed" || verdict === "disagrees"
      ? kinds.bad
      : status === "finished"
        ? kinds.good
        : isOpen(status)
          ? kinds.busy
          : kinds.plain;
  const words = status === "finished" && verdict ? `finished · ${verdict}` : statusWords(status);
  return <span className={`badge ${tone}`}>{words}</span>;
}

export function FailureNote({ failure }: { failure: Failure }) {
  return (
    <div className="note" role="alert">
      <div className="strong">{failure.message}</div>
      {failure.detail && <div className="mono">{failure.detail}</div>}
      {failure.hint && <div>{failure.hint}</div>}
    </div>
  );
}

/** What an error says, wherever it came from. */
export function ErrorNote({ error }: { error: unknown }) {
  if (!error) return null;
  const problem =
    error instanceof ApiProblem
      ? error.problem
      : { title: (error as Error).message, hint: undefined, detail: undefined };
  return <FailureNote failure={{ message: problem.title, detail: problem.detail, hint: problem.hint }} />;
}

const kindWords = { load: "", prove: "proof only", repair: "repair", rehearse: "rehearsal" };

/** `by hand, Ada Vik`: why a run ran, and who asked. */
export function reasonOf(run: RunSummary): string {
  const kind = kindWords[run.kind];
  return [kind, run.reason, run.requestedBy].filter(Boolean).join(", ");
}
