import type { BothColumns, Preview } from "@undercoat/core/api/api";
import type { Load, Pipeline } from "@undercoat/core/pipeline/pipeline";
import type { Problem } from "@undercoat/core/pipeline/schema";
import { shortType } from "@undercoat/core/sql/type";
import { useState } from "react";
import { counted } from "../parts/format.ts";
import { Phrase } from "../pipeline/Phrase.tsx";
import { ColumnEditor } from "./ColumnEditor.tsx";
import { isMissing, type ShapeColumn, shapeColumns, useBothColumns, withColumns } from "./columns.ts";
import { MarkEditor, markSentence, useMayTell } from "./MarkEditor.tsx";
import { Pairing } from "./Pairing.tsx";
import { DriftEditor, driftSentence, RejectsEditor, rejectsSentence } from "./policies.tsx";
import { RulesEditor } from "./RulesEditor.tsx";

interface Props {
  pipeline: { name: string; definition: Pipeline };
  load: Load;
  name: string;
  preview: Preview | undefined;
  problems: Problem[];
  canEdit: boolean;
  onSet: (load: Load) => void;
}

/** What each row of the table of columns shows: how the column comes about. */
function Takes({ column, both }: { column: ShapeColumn; both: BothColumns | undefined }) {
  const plain = both?.source.some((entry) => entry.name === column.as) ?? !/[^\w ]/.test(column.as);
  if (both && isMissing(column, both.source))
    return <span className="wrong-text mono">{column.as}: not at the source</span>;
  return plain ? <span className="mono">{column.as}</span> : <span className="mono quiet wrap">{column.as}</span>;
}

/** The Shape band: columns, rules, what happens to rows that don't fit, and what happens when the source changes. */
export function ShapeBand({ pipeline, load, name, preview, problems, canEdit, onSet }: Props) {
  const both = useBothColumns(load, pipeline.definition.warehouse);
  const [pairing, setPairing] = useState(false);
  const [ruling, setRuling] = useState(false);
  const [column, setColumn] = useState<ShapeColumn | null>(null);
  const source = both.data?.source ?? preview?.sourceColumns ?? [];
  const columns = shapeColumns(load, source);
  const read = preview ? preview.sourceColumns.length - preview.unused.length : null;
  const computed = columns.filter((entry) => !source.some((one) => one.name === entry.as)).length;
  const rules = Object.keys(load.rules ?? {});
  const marks = useMayTell(load);
  const wrong = (...path: string[]) =>
    problems.find((problem) => problem.path.join(".").startsWith(["loads", name, ...path].join(".")))?.message;
  const types = new Map((preview?.columns ?? []).map((entry) => [entry.name, entry]));
  const set = (before: ShapeColumn | null, after: ShapeColumn | null) => {
    const known = before !== null && columns.some((entry) => entry.name === before.name);
    const next = known
      ? columns.flatMap((entry) => (entry.name === before.name ? (after ? [after] : []) : [entry]))
      : after
        ? [...columns, after]
        : columns;
    onSet(withColumns(load, next, source));
    setColumn(null);
  };
  return (
    <section className="band" aria-label="Shape">
      <h2>Shape</h2>
      <div>
        Keep{" "}
        <button
          type="button"
          className={canEdit ? `phrase${wrong("columns") ? " wrong" : ""}` : "phrase fixed"}
          disabled={!canEdit || !both.data}
          aria-label="Columns"
          onClick={() => setPairing(true)}
        >
          {read === null
            ? "columns"
            : read === source.length
              ? `all ${counted(read, "column")}`
              : `${read} of ${source.length} columns`}
        </button>
        {computed > 0 && `, compute ${computed}`}
        {", check "}
        <button
          type="button"
          className={canEdit ? `phrase${wrong("rules") ? " wrong" : ""}` : "phrase fixed"}
          disabled={!canEdit}
          aria-label="Rules"
          onClick={() => setRuling(true)}
        >
          {rules.length ? counted(rules.length, "rule") : "no rule"}
        </button>
        ; a row that does not fit{" "}
        <Phrase
          fixed={!canEdit}
          label="Rejected rows"
          wrong={wrong("rejects")}
          width={340}
          editor={(close) => <RejectsEditor load={load} onSet={onSet} close={close} />}
        >
          {rejectsSentence(load)}
        </Phrase>
        {marks && (
          <>
            {", and "}
            <Phrase
              fixed={!canEdit}
              label="Marks sent back"
              wrong={wrong("report")}
              width={440}
              editor={(close) => <MarkEditor load={load} onSet={onSet} close={close} />}
            >
              {markSentence(load)}
            </Phrase>
          </>
        )}
        . When the source changes,{" "}
        <Phrase
          fixed={!canEdit}
          label="Drift"
          wrong={wrong("drift")}
          width={360}
          editor={(close) => <DriftEditor load={load} onSet={onSet} close={close} />}
        >
          {driftSentence(load)}
        </Phrase>
        .{wrong("columns") && <p className="wrong-text">{wrong("columns")}</p>}
        {wrong("rules") && <p className="wrong-text">{wrong("rules")}</p>}
        <div
          role="region"
          aria-label="Pairs of columns"
          tabIndex={0}
          style={{ maxHeight: 232, overflow: "auto", marginTop: 6, fontSize: 13, lineHeight: 1.4 }}
        >
          <table className="plain">
            <thead>
              <tr>
                <th>Source</th>
                <td />
                <th>Warehouse column</th>
                <th>Type</th>
              </tr>
            </thead>
            <tbody>
              {columns.map((entry) => {
                const told = types.get(entry.name);
                return (
                  <tr key={entry.name}>
                    <td>
                      <Takes column={entry} both={both.data} />
                    </td>
                    <td className="quiet">→</td>
                    <td className="mono">
                      {canEdit ? (
                        <button
                          type="button"
                          className="phrase mono"
                          aria-label={`Column ${entry.name}`}
                          onClick={() => setColumn(entry)}
                        >
                          {entry.name}
                        </button>
                      ) : (
                        entry.name
                      )}{" "}
                      {load.into.key?.includes(entry.name) && <span className="badge bad tag">key</span>}
                    </td>
                    <td className="quiet nowrap">{told ? shortType(told.type) : (entry.type ?? "")}</td>
                  </tr>
                );
              })}
            </tbody>
          </table>
        </div>
        {canEdit && (
          <button
            type="button"
            className="link"
            style={{ fontSize: 13, marginTop: 4 }}
            onClick={() => setColumn({ name: "", as: "" })}
          >
            Add a computed column
          </button>
        )}
      </div>
      {pairing && both.data && (
        <Pairing
          key={both.dataUpdatedAt}
          load={load}
          both={both.data}
          busy={both.isFetching}
          onRefresh={() => both.refetch()}
          onClose={() => setPairing(false)}
          onSet={(next) => {
            onSet(next);
            setPairing(false);
          }}
        />
      )}
      {ruling && (
        <RulesEditor
          load={load}
          preview={preview}
          problems={problems}
          onClose={() => setRuling(false)}
          onSet={(next) => {
            onSet(next);
            setRuling(false);
          }}
        />
      )}
      {column && (
        <ColumnEditor
          pipeline={pipeline}
          load={load}
          loadName={name}
          source={source}
          column={column}
          taken={new Set(columns.map((entry) => entry.name).filter((other) => other !== column.name))}
          onSet={(next) => set(column, next)}
          onLeaveOut={column.name && columns.length > 1 ? () => set(column, null) : null}
          onClose={() => setColumn(null)}
        />
      )}
    </section>
  );
}
