import { useQuery } from "@tanstack/react-query";
import type { Preview } from "@undercoat/core/api/api";
import { periodsOf } from "@undercoat/core/http/periods";
import { type Candidate, constantsOf } from "@undercoat/core/parameter/make";
import { holesIn } from "@undercoat/core/parameter/scan";
import { slotsOf } from "@undercoat/core/parameter/template";
import { changesOnly, type Load, type Pipeline } from "@undercoat/core/pipeline/pipeline";
import type { Problem } from "@undercoat/core/pipeline/schema";
import { figureWords } from "@undercoat/core/proof/figure";
import { durationWords } from "@undercoat/core/schedule/duration";
import { typeFamily } from "@undercoat/core/sql/type";
import { Fragment, useState } from "react";
import { Link } from "react-router";
import { queries } from "../api/queries.ts";
import { HistoryEditor, historySentence, sinceSentence } from "../shape/HistoryEditor.tsx";
import { DeletedEditor, deletedSentence } from "../shape/policies.tsx";
import { ShapeBand } from "../shape/ShapeBand.tsx";
import { useFill } from "../values/chosen.ts";
import { Filled } from "../values/Filled.tsx";
import { MakeParameter } from "../values/MakeParameter.tsx";
import {
  ConditionEditor,
  ConnectionEditor,
  DatasetEditor,
  FiguresEditor,
  KeyEditor,
  ModeEditor,
  PartEditor,
  SliceEditor,
  TargetEditor,
  WatermarkEditor,
  WithinEditor,
  withinSentence,
} from "./editors.tsx";
import { afterWords, FilesEditor } from "./FilesEditor.tsx";
import { HttpEditor, readWords } from "./HttpEditor.tsx";
import { Phrase } from "./Phrase.tsx";
import { SetEditor } from "./SetEditor.tsx";

interface Props {
  pipeline: { name: string; definition: Pipeline };
  load: Load;
  name: string;
  preview: Preview | undefined;
  problems: Problem[];
  canEdit: boolean;
  onSet: (load: Load) => void;
  /** changes that concern more than the load */
  onDefinition: (definition: Pipeline) => void;
}

/** The load read as four sentences: From, Shape, Into, Prove. */
export function Bands({ pipeline, load, name, preview, problems, canEdit, onSet, onDefinition }: Props) {
  const wrong = (...path: string[]) =>
    problems.find((problem) => problem.path.join(".") === ["loads", name, ...path].join("."))?.message;
  const under = (...path: string[]) =>
    problems.find((problem) => problem.path.join(".").startsWith(["loads", name, ...path].join(".")))?.message;
  const shared = { fixed: !canEdit };
  const props = (close: () => void) => ({ load, warehouse: pipeline.definition.warehouse, preview, onSet, close });
  const { from, watermark, into, proof } = load;
  const by = proof?.by;
  const moments = new Set(
    (preview?.columns ?? []).filter((column) => typeFamily(column.type) === "moment").map((column) => column.name),
  );
  const figures = proof?.figures ?? ["rows"];
  const [keeping, setKeeping] = useState(false);
  /** the way from what stands in a sentence to a parameter */
  const fill = useFill();
  const connections = useQuery(queries.connections());
  const source = connections.data?.find((row) => row.name === fill(from.connection));
  // What can't be asked takes no watermark and no condition.
  const asks = source ? source.about.asks : from.files === undefined && from.path === undefined;
  const sets = source?.about.lists === "sets";
  const resources = source ? source.about.lists === "resources" : from.path !== undefined;
  const asksChanges = sets || (resources && from.since !== undefined);
  const made = (candidate: Candidate | null, ...path: string[]) =>
    candidate && holesIn(candidate.text).length === 0 ? (
      <MakeParameter
        key={`${candidate.kind} ${candidate.text}`}
        definition={pipeline.definition}
        candidate={candidate}
        path={["loads", name, ...path]}
        onSet={onDefinition}
      />
    ) : null;
  const constants = (...path: string[]) => {
    const slot = slotsOf(pipeline.definition).find((one) => one.path.join(" ") === ["loads", name, ...path].join(" "));
    const written = slot ? [...new Set(constantsOf(slot).map((constant) => constant.written))] : [];
    return written.slice(0, 6).map((text) => <div key={text}>{made({ kind: "constant", text }, ...path)}</div>);
  };
  return (
    <div>
      {keeping && (
        <HistoryEditor
          load={load}
          preview={preview}
          onClose={() => setKeeping(false)}
          onSet={(next) => {
            onSet(next);
            setKeeping(false);
          }}
        />
      )}
      <section className="band" aria-label="From">
        <h2>From</h2>
        <div>
          Rows of{" "}
          <Phrase
            {...shared}
            label={asks ? "Table or query" : resources ? "Path" : sets ? "Set of records" : "Files"}
            wrong={
              wrong("from", "files") ??
              under("from", "path") ??
              under("from", "page") ??
              under("from", "since") ??
              under("from", "parameters") ??
              under("from", "period") ??
              under("from", "bulk") ??
              under("from", "gone") ??
              wrong("from", "records") ??
              wrong("from", "csv") ??
              wrong("from", "table") ??
              wrong("from", "query") ??
              wrong("from", "tables") ??
              wrong("from")
            }
            width={asks ? 520 : sets ? 360 : 860}
            editor={(close) => (
              <>
                {asks ? (
                  <DatasetEditor {...props(close)} />
                ) : resources ? (
                  <HttpEditor {...props(close)} />
                ) : sets ? (
                  <SetEditor {...props(close)} />
                ) : (
                  <FilesEditor {...props(close)} />
                )}
                {made(from.table ? { kind: "dataset", text: from.table } : null, "from", "table")}
              </>
            )}
          >
            {from.query ? (
              "a query"
            ) : (
              <Filled text={from.files ?? from.path ?? from.table ?? Object.values(from.tables ?? {}).join(", ")} />
            )}
          </Phrase>{" "}
          in{" "}
          <Phrase
            {...shared}
            label="Source connection"
            wrong={wrong("from", "connection")}
            editor={(close) => (
              <>
                <ConnectionEditor {...props(close)} />
                {made({ kind: "connection", text: from.connection }, "from", "connection")}
              </>
            )}
          >
            <Filled text={from.connection} />
          </Phrase>
          {(asks || asksChanges) && (
            <>
              {watermark ? " whose " : ", "}
              <Phrase
                {...shared}
                label="Watermark"
                wrong={under("watermark")}
                editor={(close) => <WatermarkEditor {...props(close)} />}
              >
                {watermark
                  ? watermark.column
                  : preview?.tracked
                    ? "those that changed, as it is told"
                    : "all of them every time"}
              </Phrase>
              {watermark && (
                <>
                  {" passed the watermark, looking back "}
                  <Phrase {...shared} label="Look-back" editor={(close) => <WatermarkEditor {...props(close)} />}>
                    {watermark.lookBack ? durationWords(watermark.lookBack) : "not at all"}
                  </Phrase>
                </>
              )}
            </>
          )}
          {asks && (
            <>
              {", "}
              {from.where ? "where " : "under "}
              <Phrase
                {...shared}
                label="Condition"
                wrong={wrong("from", "where")}
                width={420}
                editor={(close) => (
                  <>
                    <ConditionEditor {...props(close)} />
                    {constants("from", "where")}
                  </>
                )}
              >
                {from.where ? (
                  <code>
                    <Filled sql text={from.where} />
                  </code>
                ) : (
                  "no condition"
                )}
              </Phrase>
            </>
          )}
          {asks || asksChanges || periodsOf(from)
            ? "."
            : resources
              ? ", all of them every time."
              : changesOnly(load)
                ? ", of files that are new or changed."
                : ", all of them every time."}
          {afterWords(from.after)}
          {resources && readWords(from)}
          {!asks && !resources && !sets && (
            <>
              {" "}
              <Link className="link" to={`/files/${pipeline.name}/${name}`}>
                What it has taken
              </Link>
            </>
          )}
          {from.origin && (
            <span>
              {" "}
              Each row is marked in <b className="mono">{from.origin}</b>.
            </span>
          )}
          {from.query && (
            <pre className="sql">
              <Filled sql text={from.query} />
            </pre>
          )}
        </div>
      </section>
      <ShapeBand
        pipeline={pipeline}
        load={load}
        name={name}
        preview={preview}
        problems={problems}
        canEdit={canEdit}
        onSet={onSet}
      />
      <section className="band" aria-label="Into">
        <h2>Into</h2>
        <div>
          <Phrase
            {...shared}
            label="Warehouse table"
            wrong={wrong("into", "table") ?? wrong("into")}
            editor={(close) => (
              <>
                <TargetEditor {...props(close)} />
                {made({ kind: "table", text: into.table }, "into", "table")}
              </>
            )}
          >
            <Filled text={into.table} />
          </Phrase>
          {", "}
          <Phrase
            {...shared}
            label="Part"
            wrong={wrong("into", "part")}
            width={420}
            editor={(close) => <PartEditor {...props(close)} />}
          >
            {into.part ? (
              <>
                its rows where{" "}
                <code>
                  <Filled sql text={into.part} />
                </code>
              </>
            ) : (
              "all its rows"
            )}
          </Phrase>
          {into.mode === "replace" ? ", " : ", matched on "}
          {into.mode !== "replace" && (
            <>
              <Phrase
                {...shared}
                label="Key"
                wrong={under("into", "key")}
                editor={(close) => <KeyEditor {...props(close)} />}
              >
                {into.key?.join(", ") ?? "all columns"}
              </Phrase>
              {", "}
            </>
          )}
          <Phrase
            {...shared}
            label="Mode"
            wrong={wrong("into", "mode") ?? wrong()}
            width={360}
            editor={(close) => <ModeEditor {...props(close)} />}
          >
            {into.mode}
          </Phrase>
          {into.mode === "history" ? (
            <>
              {": "}
              <button
                type="button"
                className={canEdit ? `phrase${under("into", "history") ? " wrong" : ""}` : "phrase fixed"}
                disabled={!canEdit}
                aria-label="History"
                onClick={() => setKeeping(true)}
              >
                {historySentence(load)}
              </button>
              {under("into", "history") && <span className="wrong-text"> ({under("into", "history")})</span>}; a version
              is valid {sinceSentence(load)}. A key gone from the source{" "}
              <Phrase
                {...shared}
                label="Deletions"
                wrong={under("into", "deleted") ?? under("into", "deletions")}
                editor={(close) => <DeletedEditor load={load} onSet={onSet} close={close} />}
              >
                {into.deleted === "close" ? "ends its version" : "keeps its version"}
              </Phrase>
              .
            </>
          ) : into.mode === "replace" ? (
            ", all rows by the source's at every run."
          ) : (
            <>
              {into.mode === "upsert"
                ? ": new rows are added, changed rows updated, rows gone from the source "
                : ": new rows are added, none is changed, rows gone from the source "}
              <Phrase
                {...shared}
                label="Deletions"
                wrong={under("into", "deleted") ?? under("into", "deletions")}
                editor={(close) => <DeletedEditor load={load} onSet={onSet} close={close} />}
              >
                {deletedSentence(load)}
              </Phrase>
              .
            </>
          )}
        </div>
      </section>
      <section className="band" aria-label="Prove">
        <h2>Prove</h2>
        <div>
          By{" "}
          <Phrase
            {...shared}
            label="Slices"
            wrong={under("proof", "by")}
            editor={(close) => <SliceEditor {...props(close)} />}
          >
            {!by
              ? "the whole table"
              : by.slice === "origin"
                ? `each ${by.column}`
                : `${by.slice} of ${by.column}${by.zone ? ` in ${by.zone}` : ""}`}
          </Phrase>
          {": "}
          <Phrase
            {...shared}
            label="Figures"
            wrong={under("proof", "figures")}
            width={380}
            editor={(close) => <FiguresEditor {...props(close)} />}
          >
            {figures.map((figure, at) => (
              <Fragment key={figure}>
                {at > 0 && ", "}
                {figureWords(figure, (column) => moments.has(column))}
              </Fragment>
            ))}
          </Phrase>
          ;{" "}
          <Phrase
            {...shared}
            label="Versions looked up"
            wrong={under("proof", "within")}
            editor={(close) => <WithinEditor {...props(close)} />}
          >
            {withinSentence(load)}
          </Phrase>
          . Tolerance none.
        </div>
      </section>
    </div>
  );
}
