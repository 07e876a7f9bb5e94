import { Button, Modal, Select, TextInput } from "@mantine/core";
import { mentionsIn, slotsOf } from "@undercoat/core/parameter/template";
import { type GivenValue, type Parameter, type ParameterType, parameterTypes } from "@undercoat/core/parameter/value";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { useState } from "react";
import { Filter, matches } from "../parts/Filter.tsx";
import { counted } from "../parts/format.ts";
import { ErrorNote } from "../parts/words.tsx";
import { typed, ValueField } from "./ValueField.tsx";

interface Props {
  definition: Pipeline;
  onSet: (definition: Pipeline) => void;
  onClose: () => void;
}

const isName = (name: string) => /^[A-Za-z_][A-Za-z0-9_]{0,62}$/.test(name) && name !== "from" && name !== "to";
const isSet = (name: string) => /^[A-Za-z0-9][A-Za-z0-9_-]{0,62}$/.test(name);

/** What a pipeline can be run with: its parameters, and the named sets of their values. */
export default function ParametersEditor({ definition, onSet, onClose }: Props) {
  const [parameters, setParameters] = useState<[string, Parameter][]>(Object.entries(definition.parameters ?? {}));
  const [sets, setSets] = useState<[string, Record<string, GivenValue>][]>(Object.entries(definition.values ?? {}));
  const [zone, setZone] = useState(definition.zone ?? "");
  const [wanted, setWanted] = useState("");
  const [trouble, setTrouble] = useState<Error | null>(null);
  const uses = new Map<string, number>();
  for (const slot of slotsOf(definition))
    for (const { name } of mentionsIn(slot)) uses.set(name, (uses.get(name) ?? 0) + 1);
  const change = (at: number, name: string, parameter: Parameter) =>
    setParameters(parameters.map((entry, place) => (place === at ? [name, parameter] : entry)));
  const names = parameters.map(([name]) => name);
  const wrong =
    names.find((name) => !isName(name) || names.filter((other) => other === name).length > 1) ??
    sets.map(([set]) => set).find((set, at, all) => !isSet(set) || all.indexOf(set) !== at);
  const shown = sets
    .map((set, at) => ({ set, at }))
    .filter(({ set }) => matches(wanted, set[0], ...Object.values(set[1]).map(typed)));
  const take = async (file: File | null) => {
    if (!file) return;
    try {
      const { readValueFile } = await import("@undercoat/core/parameter/valuefile");
      const rows = readValueFile(await file.text(), file.name);
      const first = names[0] ?? "";
      const taken = new Set(sets.map(([set]) => set));
      const added = rows.map((row, at): [string, Record<string, GivenValue>] => {
        let name =
          String(row.set ?? row[first] ?? `set-${at + 1}`)
            .replace(/[^A-Za-z0-9_-]+/g, "-")
            .slice(0, 60) || `set-${at + 1}`;
        for (let number = 2; taken.has(name); number++) name = `${name.replace(/-\d+$/, "")}-${number}`;
        taken.add(name);
        const { set: _, ...values } = row;
        return [name, values];
      });
      setSets([...sets, ...added]);
      setTrouble(null);
    } catch (error) {
      setTrouble(error as Error);
    }
  };
  return (
    <Modal opened onClose={onClose} title="What it is run with" size={1080}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          const { parameters: _, values: __, zone: ___, ...rest } = definition;
          onSet({
            ...rest,
            ...(zone.trim() ? { zone: zone.trim() } : {}),
            ...(parameters.length ? { parameters: Object.fromEntries(parameters) } : {}),
            ...(sets.length ? { values: Object.fromEntries(sets) } : {}),
          });
        }}
      >
        <section aria-label="Parameters">
          <table className="plain">
            <thead>
              <tr>
                <th style={{ width: 150 }}>Parameter</th>
                <th style={{ width: 130 }}>Type</th>
                <th>Default</th>
                <th>One of</th>
                <th>Note</th>
                <th style={{ width: 90 }}>Stands in</th>
                <td />
              </tr>
            </thead>
            <tbody>
              {parameters.map(([name, parameter], at) => (
                <tr key={at}>
                  <td>
                    <TextInput
                      size="xs"
                      aria-label={`Name of parameter ${at + 1}`}
                      value={name}
                      error={name !== "" && !isName(name)}
                      onChange={(event) => change(at, event.currentTarget.value, parameter)}
                      classNames={{ input: "mono" }}
                    />
                  </td>
                  <td>
                    <Select
                      size="xs"
                      aria-label={`Type of ${name}`}
                      data={[...parameterTypes]}
                      value={parameter.type}
                      allowDeselect={false}
                      onChange={(type) => type && change(at, name, { ...parameter, type: type as ParameterType })}
                    />
                  </td>
                  <td>
                    <ValueField
                      bare
                      label={`Default of ${name}`}
                      parameter={parameter}
                      value={parameter.default}
                      placeholder="none: it must be given"
                      onChange={(value) => {
                        const { default: _, ...rest } = parameter;
                        change(at, name, value === undefined ? rest : { ...rest, default: value });
                      }}
                    />
                  </td>
                  <td>
                    <TextInput
                      size="xs"
                      aria-label={`Values that ${name} may have`}
                      placeholder="anything"
                      value={(parameter.oneOf ?? []).join(", ")}
                      onChange={(event) => {
                        const { oneOf: _, ...rest } = parameter;
                        const list = event.currentTarget.value.split(",").map((one) => one.trimStart());
                        change(at, name, event.currentTarget.value === "" ? rest : { ...rest, oneOf: list });
                      }}
                      classNames={{ input: "mono" }}
                    />
                  </td>
                  <td>
                    <TextInput
                      size="xs"
                      aria-label={`Note on ${name}`}
                      value={parameter.note ?? ""}
                      onChange={(event) => {
                        const { note: _, ...rest } = parameter;
                        const note = event.currentTarget.value;
                        change(at, name, note === "" ? rest : { ...rest, note });
                      }}
                    />
                  </td>
                  <td className="quiet nowrap middle">
                    {uses.get(name) ? counted(uses.get(name) ?? 0, "place") : <span className="lead">nowhere</span>}
                  </td>
                  <td className="right middle">
                    <button
                      type="button"
                      className="link"
                      onClick={() => setParameters(parameters.filter((_, place) => place !== at))}
                    >
                      Remove
                    </button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          <div className="actions" style={{ margin: "8px 0 18px" }}>
            <button
              type="button"
              className="link"
              onClick={() => setParameters([...parameters, [`parameter_${parameters.length + 1}`, { type: "text" }]])}
            >
              Add a parameter
            </button>
            <span className="quiet">
              <code>:name</code> stands for its value in SQL, <code>{"{name}"}</code> in names of connections and
              tables.
            </span>
          </div>
        </section>
        {names.length > 0 && (
          <section aria-label="Sets of values">
            <div className="head" style={{ marginBottom: 6, alignItems: "center" }}>
              <h3>{sets.length ? counted(sets.length, "set") : "No sets of values"}</h3>
              <div className="actions">
                {sets.length > 6 && <Filter of="sets" size="xs" w={170} value={wanted} onChange={setWanted} />}
                <label className="link">
                  Take sets from a file
                  <input
                    type="file"
                    accept=".csv,.yaml,.yml,.json"
                    className="visually-hidden"
                    onChange={(event) => take(event.currentTarget.files?.[0] ?? null)}
                  />
                </label>
              </div>
            </div>
            <ErrorNote error={trouble} />
            <div style={{ maxHeight: 280, overflow: "auto" }} tabIndex={0} role="region" aria-label="Values by set">
              <table className="plain">
                <thead>
                  <tr>
                    <th style={{ width: 150 }}>Set</th>
                    {names.map((name) => (
                      <th key={name} className="mono">
                        {name}
                      </th>
                    ))}
                    <td />
                  </tr>
                </thead>
                <tbody>
                  {shown.map(({ set: [set, values], at }) => (
                    <tr key={at}>
                      <td>
                        <TextInput
                          size="xs"
                          aria-label={`Name of set ${at + 1}`}
                          value={set}
                          error={!isSet(set)}
                          onChange={(event) => {
                            const name = event.currentTarget.value;
                            setSets(sets.map((entry, place) => (place === at ? [name, values] : entry)));
                          }}
                        />
                      </td>
                      {parameters.map(([name, parameter]) => (
                        <td key={name}>
                          <ValueField
                            bare
                            label={`${name} of ${set}`}
                            parameter={parameter}
                            value={values[name]}
                            placeholder={typed(parameter.default)}
                            onChange={(value) => {
                              const { [name]: _, ...others } = values;
                              const next = value === undefined ? others : { ...others, [name]: value };
                              setSets(sets.map((entry, place) => (place === at ? [set, next] : entry)));
                            }}
                          />
                        </td>
                      ))}
                      <td className="right middle">
                        <button
                          type="button"
                          className="link"
                          onClick={() => setSets(sets.filter((_, place) => place !== at))}
                        >
                          Remove
                        </button>
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
            <div style={{ margin: "8px 0" }}>
              <button type="button" className="link" onClick={() => setSets([...sets, [`set-${sets.length + 1}`, {}]])}>
                Add a set
              </button>
            </div>
          </section>
        )}
        <div className="actions" style={{ justifyContent: "space-between", alignItems: "flex-end", marginTop: 10 }}>
          <TextInput
            size="xs"
            label="Where a day begins, for today and the like"
            placeholder="UTC"
            value={zone}
            onChange={(event) => setZone(event.currentTarget.value)}
            w={260}
          />
          <Button type="submit" disabled={wrong !== undefined}>
            Set
          </Button>
        </div>
      </form>
    </Modal>
  );
}
