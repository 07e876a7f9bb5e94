import { Button, Modal, Select, TextInput } from "@mantine/core";
import type { Load, Mode, Pipeline } from "@undercoat/core/pipeline/pipeline";
import { readDuration } from "@undercoat/core/schedule/duration";
import { formatTableName, parseTableName } from "@undercoat/core/sql/identifier";
import { useState } from "react";
import { Filter, matches } from "../parts/Filter.tsx";
import { counted } from "../parts/format.ts";

const asItIs = "";

/** What is changed of every chosen load; an empty field leaves it as it is. */
interface Change {
  mode: Mode | "";
  watermark: string;
  lookBack: string;
  schema: string;
  pattern: string;
}

/** A target's name after a pattern in which `*` stands for the present one. */
function renamed(table: string, { schema, pattern }: Change): string {
  const name = parseTableName(table);
  return formatTableName({
    schema: schema || name.schema,
    table: pattern ? pattern.replaceAll("*", name.table) : name.table,
  });
}

/** A load with the change made, or why it can't be. */
function changed(load: Load, change: Change): Load | string {
  try {
    const column = change.watermark || load.watermark?.column;
    const lookBack = readDuration(change.lookBack) ?? (change.lookBack || load.watermark?.lookBack);
    const mode = change.mode || load.into.mode;
    if (mode === "upsert" && !load.into.key) return "has no key, which an upsert needs";
    if (mode === "append" && !load.into.key && !column)
      return "has neither key nor watermark, one of which an append needs";
    const watermark =
      change.watermark || change.lookBack
        ? column
          ? { watermark: { column, ...(lookBack ? { lookBack } : {}) } }
          : {}
        : {};
    return { ...load, ...watermark, into: { ...load.into, mode, table: renamed(load.into.table, change) } };
  } catch (error) {
    return (error as Error).message;
  }
}

interface Props {
  definition: Pipeline;
  onSet: (definition: Pipeline) => void;
  onRun: ((loads: string[]) => void) | null;
  onClose: () => void;
}

/** Many loads at once: tick them, then change or run them together. */
export function ManyLoads({ definition, onSet, onRun, onClose }: Props) {
  const names = Object.keys(definition.loads);
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set(names));
  const [wanted, setWanted] = useState("");
  const [change, setChange] = useState<Change>({ mode: asItIs, watermark: "", lookBack: "", schema: "", pattern: "" });
  const shown = names.filter((name) => matches(wanted, name, definition.loads[name]?.into.table ?? ""));
  const chosen = names.filter((name) => picked.has(name));
  const results = new Map(chosen.map((name) => [name, changed(definition.loads[name] as Load, change)]));
  const problems = [...results.values()].filter((result) => typeof result === "string").length;
  const nothing = Object.values(change).every((value) => value === "");
  const toggle = (name: string) => {
    const next = new Set(picked);
    if (!next.delete(name)) next.add(name);
    setPicked(next);
  };
  const all = shown.length > 0 && shown.every((name) => picked.has(name));
  return (
    <Modal opened onClose={onClose} title="Many loads at once" size={980}>
      <div style={{ display: "grid", gridTemplateColumns: "repeat(5, 1fr)", gap: 10, marginBottom: 12 }}>
        <Select
          label="Mode"
          placeholder="as it is"
          clearable
          data={["upsert", "append", "replace"]}
          value={change.mode || null}
          onChange={(mode) => setChange({ ...change, mode: (mode ?? asItIs) as Change["mode"] })}
          comboboxProps={{ withinPortal: false }}
        />
        <TextInput
          label="Watermark"
          placeholder="as it is"
          value={change.watermark}
          onChange={(event) => setChange({ ...change, watermark: event.currentTarget.value })}
          classNames={{ input: "mono" }}
        />
        <TextInput
          label="Look-back"
          placeholder="as it is; 10 minutes"
          value={change.lookBack}
          onChange={(event) => setChange({ ...change, lookBack: event.currentTarget.value })}
        />
        <TextInput
          label="Warehouse schema"
          placeholder="as it is"
          value={change.schema}
          onChange={(event) => setChange({ ...change, schema: event.currentTarget.value })}
          classNames={{ input: "mono" }}
        />
        <TextInput
          label="Table's name"
          placeholder="as it is; raw_*"
          value={change.pattern}
          onChange={(event) => setChange({ ...change, pattern: event.currentTarget.value })}
          classNames={{ input: "mono" }}
        />
      </div>
      <Filter of="loads" size="xs" value={wanted} onChange={setWanted} mb={6} />
      <div style={{ maxHeight: 360, overflow: "auto" }} tabIndex={0} role="region" aria-label="Loads to change">
        <table className="plain">
          <thead>
            <tr>
              <th>
                <input
                  type="checkbox"
                  aria-label="Tick all shown"
                  checked={all}
                  onChange={() =>
                    setPicked(
                      new Set(all ? [...picked].filter((name) => !shown.includes(name)) : [...picked, ...shown]),
                    )
                  }
                />
              </th>
              <th>Load</th>
              <th>Into</th>
              <th>Mode</th>
              <th>Watermark</th>
            </tr>
          </thead>
          <tbody>
            {shown.map((name) => {
              const load = definition.loads[name] as Load;
              const result = results.get(name);
              const after = result && typeof result !== "string" ? result : load;
              const watermark = (of: Load) =>
                of.watermark
                  ? `${of.watermark.column}${of.watermark.lookBack ? `, ${of.watermark.lookBack}` : ""}`
                  : "none";
              const cell = (before: string, now: string) =>
                before === now ? (
                  <span>{before}</span>
                ) : (
                  <>
                    <span className="was">{before}</span>
                    <span className="now">{now}</span>
                  </>
                );
              return (
                <tr key={name}>
                  <td>
                    <input
                      type="checkbox"
                      aria-label={`Tick ${name}`}
                      checked={picked.has(name)}
                      onChange={() => toggle(name)}
                    />
                  </td>
                  <td className="mono">
                    {name}
                    {typeof result === "string" && <div className="wrong-text">{result}</div>}
                  </td>
                  <td className="mono">{cell(load.into.table, after.into.table)}</td>
                  <td>{cell(load.into.mode, after.into.mode)}</td>
                  <td className="mono">{cell(watermark(load), watermark(after))}</td>
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
      <div className="actions" style={{ justifyContent: "flex-end", marginTop: 16 }}>
        {onRun && (
          <Button variant="outline" disabled={chosen.length === 0 || !nothing} onClick={() => onRun(chosen)}>
            Run {counted(chosen.length, "load")}
          </Button>
        )}
        <Button
          disabled={chosen.length === 0 || nothing || problems > 0}
          onClick={() =>
            onSet({
              ...definition,
              loads: Object.fromEntries(
                names.map((name) => [
                  name,
                  (results.get(name) as Load | undefined) ?? (definition.loads[name] as Load),
                ]),
              ),
            })
          }
        >
          Change {counted(chosen.length, "load")}
        </Button>
      </div>
    </Modal>
  );
}
