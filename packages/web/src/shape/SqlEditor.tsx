import {
  autocompletion,
  type CompletionContext,
  type CompletionResult,
  completionStatus,
} from "@codemirror/autocomplete";
import { PostgreSQL, sql } from "@codemirror/lang-sql";
import { type Diagnostic, linter } from "@codemirror/lint";
import { EditorView } from "@codemirror/view";
import CodeMirror from "@uiw/react-codemirror";
import { scalarFunctions } from "@undercoat/core/expression/functions";
import { columnSql } from "@undercoat/core/shape/ready";
import { shortType } from "@undercoat/core/sql/type";
import { getNonce } from "get-nonce";
import { useMemo } from "react";

export interface Props {
  label: string;
  value: string;
  onChange: (value: string) => void;
  /** columns that may be named, offered while typing */
  columns: readonly { name: string; type: string }[];
  /** where an error stands, from 0, and what it is */
  problem?: { message: string; position: number | null } | null;
  placeholder?: string;
  /** true in a rule, which may depend on the moment of the run */
  ofTheMoment?: boolean;
}

/** Offers the columns first, then the functions that an expression may call. */
function completions(columns: Props["columns"], ofTheMoment: boolean) {
  const options = [
    ...columns.map(({ name, type }) => ({
      label: name,
      apply: columnSql(name),
      type: "variable",
      detail: shortType(type),
      boost: 2,
    })),
    ...scalarFunctions
      .filter((entry) => ofTheMoment || !entry.ofTheMoment)
      .map(({ name, takes, says }) => ({
        label: name,
        type: "function",
        detail: `(${takes})`,
        info: says,
        apply: (view: EditorView, _: unknown, from: number, to: number) =>
          view.dispatch({ changes: { from, to, insert: `${name}()` }, selection: { anchor: from + name.length + 1 } }),
      })),
  ];
  return (context: CompletionContext): CompletionResult | null => {
    const word = context.matchBefore(/[\p{L}_"][\p{L}\p{N}_"]*/u);
    return word || context.explicit
      ? { from: word?.from ?? context.pos, options, validFor: /^[\p{L}\p{N}_"]*$/u }
      : null;
  };
}

/** A field for an SQL expression: completes columns and functions, and underlines what is wrong where it is. */
export default function SqlEditor({
  label,
  value,
  onChange,
  columns,
  problem,
  placeholder,
  ofTheMoment = false,
}: Props) {
  const message = problem?.message;
  const position = problem?.position ?? null;
  const extensions = useMemo(() => {
    const nonce = getNonce();
    const mark = (view: EditorView): Diagnostic[] => {
      if (!message || position === null) return [];
      const from = Math.min(position, Math.max(0, view.state.doc.length - 1));
      const word = /^[\p{L}\p{N}_]+/u.exec(view.state.sliceDoc(from))?.[0].length ?? 1;
      return [{ from, to: Math.min(from + word, view.state.doc.length), severity: "error", message }];
    };
    return [
      sql({ dialect: PostgreSQL }),
      autocompletion({ override: [completions(columns, ofTheMoment)] }),
      linter(mark, { delay: 0 }),
      EditorView.lineWrapping,
      // While completions are open, Esc closes them and not the dialog around.
      EditorView.contentAttributes.of((view) => ({
        "aria-label": label,
        ...(completionStatus(view.state) === null ? {} : { "data-mantine-stop-propagation": "true" }),
      })),
      ...(nonce ? [EditorView.cspNonce.of(nonce)] : []),
    ];
  }, [columns, message, position, label, ofTheMoment]);
  return (
    <div className={`expression${message ? " wrong" : ""}`}>
      <CodeMirror
        value={value}
        onChange={onChange}
        extensions={extensions}
        placeholder={placeholder}
        theme="none"
        basicSetup={{
          lineNumbers: false,
          foldGutter: false,
          highlightActiveLine: false,
          autocompletion: false,
          searchKeymap: false,
        }}
      />
    </div>
  );
}
