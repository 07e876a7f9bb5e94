import { Button, Modal, Select, TextInput } from "@mantine/core";
import type { Preview } from "@undercoat/core/api/api";
import { type Breach, type Load, type Rule, ruleOf } from "@undercoat/core/pipeline/pipeline";
import { useState } from "react";
import { ExpressionField } from "./ExpressionField.tsx";
import { Lookup } from "./Lookup.tsx";

interface Row extends Rule {
  name: string;
}

function rowsOf(load: Load): Row[] {
  return Object.entries(load.rules ?? {}).map(([name, rule]) => ({ name, ...ruleOf(rule) }));
}

/** The load with these rules; one that only has a condition is written as that. */
function withRules(load: Load, rows: readonly Row[]): Load {
  const { rules: _, ...rest } = load;
  if (rows.length === 0) return rest;
  const written = rows.map(({ name, check, null: onNull, breach, from, of }): [string, string | Rule] => {
    const more = {
      ...(onNull === "pass" ? { null: onNull } : {}),
      ...(breach ? { breach } : {}),
      ...(from ? { from, ...(of ? { of } : {}) } : {}),
    };
    return [name.trim(), Object.keys(more).length ? { check: check.trim(), ...more } : check.trim()];
  });
  return { ...rest, rules: Object.fromEntries(written) };
}

interface Props {
  load: Load;
  preview: Preview | undefined;
  problems: { path: (string | number)[]; message: string }[];
  onSet: (load: Load) => void;
  onClose: () => void;
}

const breaches: { value: Breach; label: string }[] = [
  { value: "reject", label: "reject the row" },
  { value: "stop", label: "stop the load" },
  { value: "count", label: "only count it" },
];

/** The rules of a load: each a name and a condition over the warehouse columns, with what a null and a breach mean. */
export function RulesEditor({ load, preview, problems, onSet, onClose }: Props) {
  const [rows, setRows] = useState<Row[]>(() => {
    const found = rowsOf(load);
    return found.length ? found : [{ name: "", check: "" }];
  });
  const columns = preview?.columns ?? [];
  const [lookingUp, setLookingUp] = useState<number | null>(null);
  const change = (at: number, next: Partial<Row>) =>
    setRows((now) => now.map((row, place) => (place === at ? { ...row, ...next } : row)));
  const filled = rows.filter((row) => row.name.trim() !== "" || row.check.trim() !== "");
  const undated = filled.some((row) => row.from && !/^\d{4}-\d{2}-\d{2}$/.test(row.from));
  const halves = filled.some((row) => row.name.trim() === "" || row.check.trim() === "");
  const twice = new Set(filled.map((row) => row.name.trim())).size < filled.length;
  return (
    <Modal opened onClose={onClose} title="Rules" size={860}>
      <p className="quiet" style={{ marginBottom: 12 }}>
        A condition over the warehouse columns: true passes, false does not. It may look values up in a table of the
        warehouse: <code>port IN (SELECT code FROM fleet.port)</code>.
      </p>
      {rows.map((row, at) => {
        const wrong = problems.find((problem) => problem.path.includes("rules") && problem.path.includes(row.name));
        return (
          <fieldset key={at} className="rule-row" aria-label={row.name || `Rule ${at + 1}`}>
            <div
              style={{ display: "grid", gridTemplateColumns: "1fr 150px 150px 140px auto", gap: 10, alignItems: "end" }}
            >
              <TextInput
                size="xs"
                label="Name"
                placeholder="fare is not negative"
                value={row.name}
                onChange={(event) => change(at, { name: event.currentTarget.value })}
              />
              <Select
                size="xs"
                label="A breach does"
                data={breaches}
                value={row.breach ?? load.rejects?.breach ?? "reject"}
                onChange={(value) => change(at, { breach: (value ?? "reject") as Breach })}
                comboboxProps={{ withinPortal: false }}
              />
              <Select
                size="xs"
                label="A null answer"
                data={[
                  { value: "reject", label: "is a breach" },
                  { value: "pass", label: "passes" },
                ]}
                value={row.null ?? "reject"}
                onChange={(value) => change(at, { null: value === "pass" ? "pass" : "reject" })}
                comboboxProps={{ withinPortal: false }}
              />
              <TextInput
                size="xs"
                label="Holds from"
                placeholder="2026-01-31"
                error={row.from && !/^\d{4}-\d{2}-\d{2}$/.test(row.from) ? "A date, as 2026-01-31" : null}
                value={row.from ?? ""}
                onChange={(event) => change(at, { from: event.currentTarget.value || undefined })}
              />
              <Button
                size="xs"
                variant="default"
                onClick={() => setRows(rows.filter((_, place) => place !== at))}
                aria-label={`Remove the rule ${row.name}`}
              >
                Remove
              </Button>
            </div>
            <div style={{ marginTop: 8 }}>
              <ExpressionField
                label={`Condition of ${row.name || `rule ${at + 1}`}`}
                value={row.check}
                onChange={(check) => change(at, { check })}
                columns={columns}
                placeholder="fare >= 0"
                ofTheMoment
                problem={wrong ? { message: wrong.message, position: null } : null}
              />
              {wrong && <p className="wrong-text">{wrong.message}</p>}
              <button
                type="button"
                className="link"
                style={{ fontSize: 13 }}
                aria-expanded={lookingUp === at}
                onClick={() => setLookingUp(lookingUp === at ? null : at)}
              >
                Look a value up in a table
              </button>
              {lookingUp === at && (
                <Lookup
                  columns={columns}
                  onWrite={(check) => {
                    change(at, { check });
                    setLookingUp(null);
                  }}
                />
              )}
            </div>
            {row.from && (
              <Select
                size="xs"
                mt={8}
                w={320}
                label="Counted by"
                clearable
                placeholder="the day the row is read"
                data={columns.filter((column) => /date|timestamp/.test(column.type)).map((column) => column.name)}
                value={row.of ?? null}
                onChange={(of) => change(at, { of: of ?? undefined })}
                comboboxProps={{ withinPortal: false }}
              />
            )}
          </fieldset>
        );
      })}
      {halves && <p className="wrong-text">A rule needs a name and a condition.</p>}
      {twice && <p className="wrong-text">Two rules have one name.</p>}
      <div className="actions" style={{ justifyContent: "space-between", marginTop: 14 }}>
        <button type="button" className="link" onClick={() => setRows([...rows, { name: "", check: "" }])}>
          Add a rule
        </button>
        <div className="actions">
          <Button variant="default" onClick={onClose}>
            Cancel
          </Button>
          <Button disabled={halves || twice || undated} onClick={() => onSet(withRules(load, filled))}>
            Set {filled.length} {filled.length === 1 ? "rule" : "rules"}
          </Button>
        </div>
      </div>
    </Modal>
  );
}
