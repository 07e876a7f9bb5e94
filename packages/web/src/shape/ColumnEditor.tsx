import { Autocomplete, Button, Modal, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import type { BothColumns, Preview } from "@undercoat/core/api/api";
import type { Load, Pipeline } from "@undercoat/core/pipeline/pipeline";
import { canonicalType, shortType } from "@undercoat/core/sql/type";
import { useEffect, useState } from "react";
import { ApiProblem } from "../api/client.ts";
import { queries } from "../api/queries.ts";
import { useChosen } from "../values/chosen.ts";
import type { ShapeColumn } from "./columns.ts";
import { ExpressionField } from "./ExpressionField.tsx";
import { ReadyShapes } from "./ReadyShapes.tsx";

const usualTypes = [
  "text",
  "varchar(20)",
  "bigint",
  "integer",
  "numeric(12,2)",
  "double precision",
  "boolean",
  "date",
  "timestamptz",
  "timestamp",
  "uuid",
  "jsonb",
];
/** Source columns shown beside the result. */
const shown = 4;

/** The source columns that an expression seems to name. */
function mentioned(as: string, source: BothColumns["source"]): BothColumns["source"] {
  const words = new Set(
    as
      .match(/"(?:[^"]|"")+"|[\p{L}_][\p{L}\p{N}_]*/gu)
      ?.map((word) => word.replace(/^"|"$/g, "").replaceAll('""', '"')) ?? [],
  );
  return source.filter((column) => column.name === as || words.has(column.name)).slice(0, shown);
}

/** A load that computes only one column, beside what it is computed from, for looking at it on real rows. */
function only(load: Load, column: ShapeColumn, used: BothColumns["source"]): Load {
  const inputs = used.map((entry, at) => [`input ${at}`, entry.name] as const);
  const { watermark } = load;
  return {
    from: load.from,
    ...(watermark ? { watermark } : {}),
    columns: { ...Object.fromEntries(inputs), result: column.type ? { as: column.as, type: column.type } : column.as },
    into: { table: load.into.table, mode: "replace" },
  };
}

function typeProblem(type: string): string | null {
  try {
    if (type) canonicalType(type);
    return null;
  } catch (error) {
    return (error as Error).message;
  }
}

interface Props {
  pipeline: { name: string; definition: Pipeline };
  load: Load;
  loadName: string;
  source: BothColumns["source"];
  column: ShapeColumn;
  /** names that other columns have */
  taken: ReadonlySet<string>;
  onSet: (column: ShapeColumn) => void;
  onLeaveOut: (() => void) | null;
  onClose: () => void;
}

/** One warehouse column: its name, what it takes or computes, its type, and what that gives on real rows while typing. */
export function ColumnEditor({ pipeline, load, loadName, source, column, taken, onSet, onLeaveOut, onClose }: Props) {
  const [draft, setDraft] = useState(column);
  const [settled] = useDebouncedValue(draft, 250);
  const badType = typeProblem(draft.type ?? "");
  const used = mentioned(settled.as, source);
  const { given } = useChosen();
  const asked = {
    given,
    pipeline: pipeline.name,
    load: loadName,
    limit: 8,
    definition: { ...pipeline.definition, loads: { [loadName]: only(load, settled, used) } },
  };
  const { data, error, isFetching } = useQuery({
    ...queries.preview(asked),
    enabled: settled.as.trim() !== "" && typeProblem(settled.type ?? "") === null,
    placeholderData: keepPreviousData,
  });
  // While an expression is wrong, the last good result stays.
  const [good, setGood] = useState<Preview | undefined>(undefined);
  useEffect(() => {
    if (data && !error) setGood(data);
  }, [data, error]);
  const problem =
    error instanceof ApiProblem
      ? (error.problem.problems?.find((entry) => entry.path.includes("columns")) ?? {
          message: error.problem.title,
          position: undefined,
        })
      : null;
  const told = problem
    ? { message: problem.message.replace(/^result: /, ""), position: problem.position ?? null }
    : null;
  const result = data?.columns.find((entry) => entry.name === "result");
  const clash = taken.has(draft.name) ? `Another column is named ${draft.name}` : null;
  const ready = draft.name.trim() !== "" && draft.as.trim() !== "" && !clash && !badType && !problem;
  const set = () => {
    if (ready) onSet({ name: draft.name.trim(), as: draft.as.trim(), ...(draft.type ? { type: draft.type } : {}) });
  };
  return (
    <Modal opened onClose={onClose} title={column.name ? `Column ${column.name}` : "A new column"} size={860}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          set();
        }}
        onKeyDown={(event) => {
          if (event.key === "Enter" && (event.ctrlKey || event.metaKey)) set();
        }}
      >
        <div style={{ display: "grid", gridTemplateColumns: "1fr 220px", gap: 14, marginBottom: 12 }}>
          <TextInput
            label="Warehouse column"
            value={draft.name}
            error={clash}
            onChange={(event) => setDraft({ ...draft, name: event.currentTarget.value })}
            classNames={{ input: "mono" }}
            data-autofocus={column.name === "" || undefined}
          />
          <Autocomplete
            label="Type"
            placeholder={result ? shortType(result.given) : "as it comes"}
            data={usualTypes}
            value={draft.type ?? ""}
            error={badType}
            onChange={(type) => setDraft({ ...draft, type })}
            comboboxProps={{ withinPortal: false }}
            classNames={{ input: "mono" }}
          />
        </div>
        <div className="field-label">What it takes: a source column, or an SQL expression over source columns</div>
        <ExpressionField
          label="Expression"
          value={draft.as}
          onChange={(as) => setDraft((now) => ({ ...now, as }))}
          columns={source}
          problem={told}
          placeholder="concat_ws(' ', first_name, last_name)"
        />
        <p className={told ? "wrong-text" : "quiet"} role="status" style={{ minHeight: 22, marginTop: 4 }}>
          {told
            ? told.message
            : result
              ? `gives ${shortType(result.given)}${result.given === result.type ? "" : `, held as ${shortType(result.type)}; a value that does not fit is rejected`}`
              : ""}
        </p>
        <div className="field-label" style={{ marginTop: 8 }}>
          Ready-made
        </div>
        <ReadyShapes
          columns={source}
          onWrite={(shape) => setDraft({ ...draft, as: shape.as, type: shape.type ?? draft.type })}
        />
        <div
          style={{ marginTop: 14, overflow: "auto", maxHeight: 260 }}
          aria-busy={isFetching}
          tabIndex={0}
          role="region"
          aria-label="Result on real rows"
        >
          <table className="plain mono" style={{ fontSize: 12 }}>
            <caption className="visually-hidden">The result on real rows</caption>
            <thead>
              <tr>
                {used.map((entry) => (
                  <th key={entry.name}>{entry.name}</th>
                ))}
                <th>{draft.name || "result"}</th>
              </tr>
            </thead>
            <tbody>
              {(data ?? good)?.rows.map((row, at) => (
                <tr key={at}>
                  {used.map((entry, place) => (
                    <td key={entry.name} className="quiet">
                      {row.values[`input ${place}`] ?? "null"}
                    </td>
                  ))}
                  <td>
                    {row.rejected ? (
                      <span className="lead">{row.rejected.replace(/^result /, "")}</span>
                    ) : (
                      (row.values.result ?? <span className="quiet">null</span>)
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {data && data.rows.length === 0 && <p className="quiet">The source has no rows to try it on.</p>}
        </div>
        <div className="actions" style={{ justifyContent: "space-between", marginTop: 16 }}>
          {onLeaveOut ? (
            <Button variant="default" onClick={onLeaveOut}>
              Leave the column out
            </Button>
          ) : (
            <span />
          )}
          <div className="actions">
            <Button variant="default" onClick={onClose}>
              Cancel
            </Button>
            <Button type="submit" disabled={!ready} title="Ctrl+Enter">
              Set
            </Button>
          </div>
        </div>
      </form>
    </Modal>
  );
}
