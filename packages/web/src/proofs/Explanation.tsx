import { Button } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import type { ProofView } from "@undercoat/core/api/api";
import { subtract } from "@undercoat/core/proof/decimal";
import type { Cause } from "@undercoat/core/proof/difference";
import { durationWords, suggestLookBack } from "@undercoat/core/schedule/duration";
import { useCanEdit } from "../account/me.ts";
import { answer, path, server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { bytes, counted, grouped, signed } from "../parts/format.ts";
import { useRun } from "../parts/runs.ts";
import { ErrorNote } from "../parts/words.tsx";

const are = (rows: number) => (rows === 1 ? "is" : "are");

function causeWords(cause: Cause, proof: ProofView): string {
  const rows = counted(cause.rows, "row");
  if (cause.kind === "waiting")
    return `${rows} changed at the source after the last load and ${are(cause.rows)} waiting for the next one.`;
  if (cause.kind === "deleted")
    return `${rows} ${are(cause.rows)} only in the warehouse: deleted at the source. This load keeps such rows.`;
  const back = cause.late ? suggestLookBack(cause.late) : null;
  const hint = back
    ? ` A look-back of ${durationWords(back)} would have read ${cause.rows === 1 ? "it" : "them"}.`
    : "";
  const column = proof.watermarkColumn ?? "its time";
  return `${rows} ${cause.rows === 1 ? "has" : "have"} ${column} before the watermark, but came or changed after it was taken: committed late, or changed without moving ${column}.${hint}`;
}

/** What the differing rows add up to, why, and how to mend them. */
export function Explanation({ proof }: { proof: ProofView }) {
  const canEdit = useCanEdit();
  const client = useQueryClient();
  const rows = proof.rows;
  const search = useRun();
  const repair = useRun();
  const late = rows?.causes.find((cause) => cause.kind === "late");
  const back = late?.late ? suggestLookBack(late.late) : null;
  const widen = useMutation({
    mutationFn: async () => {
      const pipeline = server.pipelines[":name"];
      const place = path({ name: proof.pipeline });
      const view = await answer(pipeline.$get(place));
      const load = view.definition.loads[proof.load];
      if (!load?.watermark || !back) return null;
      const definition = {
        ...view.definition,
        loads: {
          ...view.definition.loads,
          [proof.load]: { ...load, watermark: { ...load.watermark, lookBack: back } },
        },
      };
      return answer(pipeline.$put({ ...place, json: { definition, updatedAt: view.updatedAt } }));
    },
    onSuccess: () => refresh(client, queries.pipelines().queryKey),
  });
  if (!rows)
    return (
      <section className="panel" aria-label="Explanation">
        <h2>
          {proof.verdict !== "proved"
            ? "Which rows differ is not known yet"
            : proof.cells
              ? "What was read says the same in every cell"
              : "The figures agree"}
        </h2>
        <p style={{ margin: "8px 0 14px" }} className="quiet">
          {proof.verdict !== "proved"
            ? "Checksums find them without moving the table."
            : proof.cells?.of === "all"
              ? `${grouped(proof.cells.rows)} rows were compared by checksum.`
              : proof.cells
                ? `${counted(proof.cells.rows, "row")} that the run read ${proof.cells.rows === "1" ? "was" : "were"} compared by checksum, ${proof.slices.all === 0 ? "the others not" : "the others by their figures, in which changes can hide each other"}.`
                : "Counts and sums can hide changes that cancel each other, and say nothing of other columns; comparing every cell finds those too."}
        </p>
        <ErrorNote error={search.error} />
        {canEdit && (
          <Button
            variant={proof.verdict === "proved" ? "outline" : "filled"}
            loading={search.isPending}
            onClick={() =>
              search.mutate({
                pipeline: proof.pipeline,
                given: proof.given,
                kind: "prove",
                loads: [proof.load],
                rows: true,
                reason: "row by row",
              })
            }
          >
            {proof.verdict === "proved" ? "Compare every cell" : "Show the rows that differ"}
          </Button>
        )}
      </section>
    );
  const found = rows.missing + rows.extra + rows.different;
  const loadable = rows.rows
    .filter((row) => row.kind !== "extra" && row.key.every((value) => value !== null))
    .map((row) => row.key as string[]);
  const sum = proof.figures.find((pair) => pair.figure.startsWith("sum(")) ?? proof.figures[0];
  const difference = sum ? subtract(sum.warehouse ?? "0", sum.source ?? "0") : null;
  const total = proof.figures.find((pair) => pair.figure === "rows")?.source ?? null;
  return (
    <section className="panel" aria-label="Explanation">
      <h2>
        {found === 0
          ? "Every cell says the same on both sides"
          : `${rows.complete ? "" : "At least "}${grouped(String(found))} of ${grouped(total)} rows explain ${difference && !/^-?0(\.0+)?$/.test(difference) ? signed(difference) : "it"}`}
      </h2>
      <div style={{ margin: "8px 0" }}>
        {rows.missing > 0 && (
          <div>
            {counted(rows.missing, "row")} {are(rows.missing)} missing from the warehouse
          </div>
        )}
        {rows.different > 0 && (
          <div>
            {counted(rows.different, "row")} {rows.different === 1 ? "has" : "have"} other values there
          </div>
        )}
        {rows.extra > 0 && (
          <div>
            {counted(rows.extra, "row")} {are(rows.extra)} only in the warehouse
          </div>
        )}
        <div className="quiet">
          Found by comparing {counted(rows.checksums, "checksum")} and {counted(rows.keysRead, "key")};{" "}
          {bytes(rows.bytes)} were moved.
        </div>
      </div>
      {rows.causes.length > 0 && (
        <div className="note" style={{ margin: "10px 0 14px" }}>
          {rows.causes.map((cause) => (
            <p key={cause.kind}>
              <span className="strong">Likely cause. </span>
              {causeWords(cause, proof)}
            </p>
          ))}
        </div>
      )}
      <ErrorNote error={repair.error ?? widen.error} />
      {canEdit && (
        <div className="actions">
          {loadable.length > 0 && proof.key.length > 0 && (
            <Button
              loading={repair.isPending}
              onClick={() =>
                repair.mutate({
                  pipeline: proof.pipeline,
                  given: proof.given,
                  kind: "repair",
                  loads: [proof.load],
                  scope: { kind: "keys", keys: loadable },
                  reason: `the rows of proof ${proof.id}`,
                })
              }
            >
              Load {loadable.length === 1 ? "this row" : `these ${grouped(String(loadable.length))} rows`}
            </Button>
          )}
          {late && back && proof.watermarkColumn && (
            <Button
              variant="outline"
              loading={widen.isPending}
              disabled={widen.isSuccess}
              onClick={() => widen.mutate()}
            >
              {widen.isSuccess ? `Look-back is now ${durationWords(back)}` : `Set look-back to ${durationWords(back)}`}
            </Button>
          )}
        </div>
      )}
    </section>
  );
}
