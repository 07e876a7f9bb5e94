import { Button, Modal } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import type { ProofView } from "@undercoat/core/api/api";
import { millisecondsOf } from "@undercoat/core/history/lifeline";
import { figureWords } from "@undercoat/core/proof/figure";
import type { SliceFigures } from "@undercoat/core/proof/verdict";
import { type CountProof, countsAgree, historyHolds, howSentence } from "@undercoat/core/run/run";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { useCanEdit } from "../account/me.ts";
import { queries } from "../api/queries.ts";
import { lifelineLink } from "../history/links.ts";
import { type Column, DataTable } from "../parts/DataTable.tsx";
import { FigureTable, figureValue } from "../parts/FigureTable.tsx";
import { counted, differenceWords, exactTime, grouped, moment, sliceName } from "../parts/format.ts";
import { Unanswered } from "../parts/Page.tsx";
import { useRun } from "../parts/runs.ts";
import { SqlText } from "../parts/SqlText.tsx";
import { Title } from "../parts/Title.tsx";
import { useUrlState } from "../parts/url.ts";
import { ErrorNote, Side } from "../parts/words.tsx";
import { Explanation } from "./Explanation.tsx";
import { RowByRow } from "./RowByRow.tsx";

/** The first figure that differs in a slice, warehouse less source; what is no number is told as differing. */
function difference(slice: SliceFigures): string {
  const pair =
    slice.figures.find((entry) => entry.figure.startsWith("sum(") && entry.source !== entry.warehouse) ??
    slice.figures.find((entry) => entry.source !== entry.warehouse);
  return pair ? differenceWords(pair) : "0";
}

function columnsFor(proof: ProofView): Column<SliceFigures>[] {
  const shown = proof.sliceFigures[0]?.figures.map((pair) => pair.figure) ?? [];
  const pair = (slice: SliceFigures, figure: string) => slice.figures.find((entry) => entry.figure === figure);
  const figures = shown.slice(0, 2).flatMap((figure): Column<SliceFigures>[] => {
    const width = "minmax(92px, 1fr)";
    const words = figureWords(figure);
    return [
      {
        head: (
          <>
            <Side of="source" /> {words}
          </>
        ),
        width,
        right: true,
        cell: (slice) => <span className="mono">{figureValue(pair(slice, figure)?.source ?? null)}</span>,
      },
      {
        head: (
          <>
            <Side of="warehouse" /> {words}
          </>
        ),
        width,
        right: true,
        cell: (slice) => (
          <span
            className={`mono${pair(slice, figure)?.source === pair(slice, figure)?.warehouse ? "" : " lead strong"}`}
          >
            {figureValue(pair(slice, figure)?.warehouse ?? null)}
          </span>
        ),
      },
    ];
  });
  return [
    {
      head: capital(unitOf(proof)),
      width: proof.by?.slice === "origin" ? "minmax(0, 1.4fr)" : "130px",
      cell: (slice) => (
        <span className={slice.verdict === "disagrees" ? "strong" : undefined}>
          {proof.by ? sliceName(slice.slice) : "whole table"}
        </span>
      ),
    },
    ...figures,
    {
      head: "Difference",
      width: "104px",
      right: true,
      cell: (slice) => (
        <span className={`mono${slice.verdict === "disagrees" ? " lead strong" : ""}`}>{difference(slice)}</span>
      ),
    },
  ];
}

/** What was found of a history's versions, and whether its past still says what was proved of it. */
function HistoryNote({ history }: { history: NonNullable<ProofView["history"]> }) {
  const { versions, of, broken, earlier } = history;
  const moved = (earlier?.figures ?? []).filter((pair) => pair.was !== pair.is);
  const when = earlier ? moment(new Date(millisecondsOf(earlier.moment)).toISOString()) : "";
  return (
    <p className={historyHolds(history) ? "quiet" : "lead"}>
      {counted(versions, "version")} of {of === "all" ? "all keys" : "the keys that the run changed"} looked at:{" "}
      {broken.length
        ? `${broken.map((one) => `${grouped(one.versions)} ${one.says}`).join(", ")}.`
        : "one current a key, no overlap, no gap but by deletions, no two alike."}
      {earlier &&
        (moved.length
          ? ` As of ${when}, ${moved.map((pair) => `${pair.figure} is ${pair.is ?? "null"} where it was proved to be ${pair.was ?? "null"}`).join(", ")}.`
          : ` As of ${when} it gives the figures that were proved then.`)}
    </p>
  );
}

/** Whether rows find the versions that they look up, and which don't. */
function WithinNote({ within }: { within: NonNullable<ProofView["within"]> }) {
  if (within.astray === "0")
    return (
      <p className="quiet">
        Each of {counted(within.rows, "row")}
        {within.of === "read" ? " that were read" : ""} finds exactly one version in{" "}
        <span className="mono">{within.dimension}</span>.
      </p>
    );
  return (
    <div className="lead">
      {grouped(within.astray)} of {counted(within.rows, "row")} don't find exactly one version in{" "}
      <span className="mono">{within.dimension}</span>:{" "}
      <span className="mono">
        {within.examples
          .slice(0, 5)
          .map((one) => `${one.key.join(", ")} at ${one.at ?? "no time"} (${one.found})`)
          .join("; ")}
      </span>
    </div>
  );
}

/** How many rows the source itself counts, and how many stand in the warehouse. */
function CountedNote({ proof, own: { source, warehouse, slices } }: { proof: ProofView; own: CountProof }) {
  const differing = slices.filter((one) => one.source !== one.warehouse);
  const also = slices.length ? `, and in ${counted(slices.length, unitOf(proof))} that the run brought news to` : "";
  if (source === warehouse && differing.length === 0)
    return (
      <p className="quiet">
        The source itself counts {counted(source, "row")}
        {also}: as many stand in the warehouse.
      </p>
    );
  return (
    <p className="lead">
      The source itself counts {counted(source, "row")}, and {grouped(warehouse)} stand in the warehouse
      {differing.length > 0 &&
        `: ${differing
          .slice(0, 5)
          .map((one) => `${sliceName(one.slice)} ${grouped(one.source)} against ${grouped(one.warehouse)}`)
          .join("; ")}`}
      .
    </p>
  );
}

/** What a proof found, in short. */
function titleOf(proof: ProofView): string {
  const { all, agreeing } = proof.slices;
  const agrees = proof.verdict === "proved";
  if (proof.trouble) return "not proved";
  if (proof.counted && !countsAgree(proof.counted)) return "the source itself counts other rows";
  if (all === 0 && proof.cells?.rows === "0") return "nothing was read that is new";
  if (all === 0) return agrees ? "what was read agrees" : "what was read disagrees";
  if (!proof.by) return agrees ? "the figures agree" : "the figures disagree";
  return `${grouped(String(agreeing))} of ${grouped(String(all))} ${unitOf(proof)}${all === 1 ? "" : "s"} agree${all === 1 ? "s" : ""}`;
}

/** What a slice of a proof is called: a day, or what its rows come from. */
const unitOf = ({ by }: ProofView) => (by?.slice === "origin" ? by.column : (by?.slice ?? "slice"));
const capital = (word: string) => `${word[0]?.toUpperCase()}${word.slice(1)}`;

/** Every figure of one slice, and what can be done with it. */
function SliceDetail({ proof, slice, onClose }: { proof: ProofView; slice: SliceFigures; onClose: () => void }) {
  const canEdit = useCanEdit();
  const run = useRun();
  const scope = proof.by ? { kind: "slice" as const, slice: slice.slice } : { kind: "due" as const };
  const name = proof.by ? sliceName(slice.slice) : "the whole table";
  return (
    <Modal opened onClose={onClose} title={`${proof.target}, ${name}`} size="lg">
      <FigureTable figures={slice.figures} exact />
      <ErrorNote error={run.error} />
      {canEdit && (
        <div className="actions" style={{ marginTop: 14 }}>
          <Button
            onClick={() =>
              run.mutate({
                pipeline: proof.pipeline,
                given: proof.given,
                kind: "prove",
                loads: [proof.load],
                scope,
                rows: true,
                reason: `the rows of ${name}`,
              })
            }
          >
            Compare row by row
          </Button>
          <Button
            variant="outline"
            onClick={() =>
              run.mutate({
                pipeline: proof.pipeline,
                given: proof.given,
                kind: "prove",
                loads: [proof.load],
                scope,
                reason: name,
              })
            }
          >
            Prove this {proof.by ? unitOf(proof) : "table"} again
          </Button>
          <Button
            variant="outline"
            onClick={() =>
              run.mutate({
                pipeline: proof.pipeline,
                given: proof.given,
                kind: "load",
                loads: [proof.load],
                scope,
                reason: `${name} again`,
              })
            }
          >
            Reload it
          </Button>
        </div>
      )}
    </Modal>
  );
}

export default function ProofPage() {
  const { id = "" } = useParams();
  const canEdit = useCanEdit();
  const [only, setOnly] = useUrlState("slices");
  const [open, setOpen] = useState<SliceFigures | null>(null);
  const [sqlShown, setSqlShown] = useState(false);
  const { data: proof, error } = useQuery(queries.proof(id));
  const run = useRun();
  if (!proof) return <Unanswered error={error} />;
  const slices = proof.sliceFigures.filter((slice) => only !== "differing" || slice.verdict === "disagrees");
  const { all, agreeing } = proof.slices;
  // Rows that differ stand below; without any, the figures take the page.
  const roomy = !proof.rows || proof.rows.missing + proof.rows.extra + proof.rows.different === 0;
  const hidden = proof.cells?.verdict === "disagrees" && agreeing === all;
  const depth =
    proof.trouble || (all === 0 && proof.cells?.rows === "0")
      ? ""
      : proof.cells?.of === "all"
        ? ", every cell compared"
        : proof.cells
          ? `, every cell of ${grouped(proof.cells.rows)} rows compared`
          : ", by figures";
  return (
    <main className="page">
      <Title of={`Proof of ${proof.target}`} />
      <div className="head">
        <div>
          <div className="crumbs">
            <Link to="/proofs">Proofs</Link> /{" "}
            <Link
              to={`/proofs?${new URLSearchParams({ pipeline: proof.pipeline, load: proof.load, line: proof.line })}`}
            >
              {proof.load}
              {proof.line && `, ${proof.line}`}
            </Link>{" "}
            / Proof {proof.id}
            {proof.newest > proof.id && (
              <>
                {" · "}
                <Link to={`/proofs/${proof.newest}`} style={{ color: "var(--oxide)" }}>
                  there is a newer one
                </Link>
              </>
            )}
          </div>
          <h1>
            {proof.load}
            {proof.line && ` of ${proof.line}`}: {titleOf(proof)}
            {hidden ? ", yet cells differ" : depth}
          </h1>
          <p>
            <Side of="source" /> <span className="mono">{proof.source}</span> in {proof.connection} against{" "}
            <Side of="warehouse" /> <span className="mono">{proof.target}</span>
            {proof.key.length > 0 && (
              <>
                , matched on <b>{proof.key.join(", ")}</b>
              </>
            )}
            {proof.by && (
              <>
                , by{" "}
                <b>
                  {proof.by.slice === "origin" ? `each ${proof.by.column}` : `${proof.by.slice} of ${proof.by.column}`}
                </b>
                {proof.by.zone ? ` in ${proof.by.zone}` : ""}
              </>
            )}
            . {howSentence(proof.how)} Both read at {exactTime(proof.at).slice(0, 8)}{" "}
            {moment(proof.at).replace(/^\S+ /, "")} by <Link to={`/runs/${proof.run}`}>run {proof.run}</Link>.
            {proof.without && (
              <>
                {" "}
                The <Link to={`/rejected?load=${proof.pipeline}/${proof.load}`}>{grouped(proof.without)} rejected</Link>{" "}
                are left out on both sides.
              </>
            )}
          </p>
          {proof.history && <HistoryNote history={proof.history} />}
          {proof.within && <WithinNote within={proof.within} />}
          {proof.counted && <CountedNote proof={proof} own={proof.counted} />}
          {proof.trouble && <p className="lead">The source's figures could not be computed: {proof.trouble}</p>}
        </div>
        {canEdit && (
          <div className="actions" style={{ flexWrap: "nowrap" }}>
            <Button
              loading={run.isPending}
              onClick={() =>
                run.mutate({
                  pipeline: proof.pipeline,
                  given: proof.given,
                  kind: "prove",
                  loads: [proof.load],
                  rows: proof.rows !== null,
                  reason: "by hand",
                })
              }
            >
              Prove again
            </Button>
          </div>
        )}
      </div>
      <ErrorNote error={run.error} />
      <div className="columns" style={{ gridTemplateColumns: "minmax(0, 1.15fr) minmax(0, 1fr)" }}>
        <section aria-label="Figures by slice">
          {all === 0 && (
            <p className="quiet" style={{ marginBottom: 8 }}>
              Only what the run read was compared, and nothing by its figures. <i>Prove again</i> compares all of it.
            </p>
          )}
          {all > 0 && (
            <DataTable
              label="Figures by slice"
              height={roomy ? "calc(100vh - 310px)" : 272}
              columns={columnsFor(proof)}
              rows={slices}
              rowKey={(slice) => slice.slice ?? ""}
              chosen={(slice) => slice.verdict === "disagrees"}
              onOpen={setOpen}
            />
          )}
          <div className="actions" style={{ justifyContent: "space-between", marginTop: 8 }}>
            <span className="quiet">
              {proof.sliceFigures.length < all
                ? `${grouped(String(all - proof.sliceFigures.length))} that agreed are not kept. `
                : ""}
              {all > 0 && "A row opens all its figures."}
            </span>
            <span className="actions">
              {agreeing < all && (
                <button
                  type="button"
                  className="link"
                  aria-pressed={only === "differing"}
                  onClick={() => setOnly(only === "differing" ? "" : "differing")}
                >
                  {only === "differing"
                    ? `Show all ${grouped(String(proof.sliceFigures.length))}`
                    : `Differing only · ${all - agreeing}`}
                </button>
              )}
              {(proof.sourceSql || proof.warehouseSql) && (
                <button type="button" className="link" onClick={() => setSqlShown(true)}>
                  Both queries
                </button>
              )}
            </span>
          </div>
        </section>
        <Explanation proof={proof} />
      </div>
      {proof.rows && (
        <RowByRow
          rows={proof.rows}
          lifeline={
            proof.history && ((key) => lifelineLink({ connection: proof.warehouse, target: proof.target }, key))
          }
        />
      )}
      {open && <SliceDetail proof={proof} slice={open} onClose={() => setOpen(null)} />}
      <Modal opened={sqlShown} onClose={() => setSqlShown(false)} title="Both queries, as they were run" size="xl">
        <h3>
          <Side of="source" /> Source
        </h3>
        <SqlText sql={proof.sourceSql} label="The source's query" />
        <h3 style={{ marginTop: 14 }}>
          <Side of="warehouse" /> Warehouse
        </h3>
        <SqlText sql={proof.warehouseSql} label="The warehouse's query" />
      </Modal>
    </main>
  );
}
