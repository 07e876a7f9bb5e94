import { Button, Popover, Select, TextInput } from "@mantine/core";
import type { Given } from "@undercoat/core/parameter/resolve";
import { settableIn } from "@undercoat/core/parameter/template";
import type { GivenValue } from "@undercoat/core/parameter/value";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { lazy, Suspense, useState } from "react";
import { ErrorNote } from "../parts/words.tsx";
import { useChosen } from "./chosen.ts";
import { originWords } from "./Filled.tsx";
import { ValueField } from "./ValueField.tsx";

const ParametersEditor = lazy(() => import("./ParametersEditor.tsx"));

interface Props {
  definition: Pipeline;
  given: Given;
  error: unknown;
  canEdit: boolean;
  onGiven: (given: Given) => void;
  onSet: (definition: Pipeline) => void;
}

/** The values a pipeline is shown and run with: a set of its own, the defaults, or some by hand. */
export function ValuesPanel({ definition, given, error, canEdit, onGiven, onSet }: Props) {
  const { values } = useChosen();
  const [editing, setEditing] = useState(false);
  const parameters = definition.parameters ?? {};
  const sets = Object.keys(definition.values ?? {});
  const names = Object.keys(parameters);
  return (
    <section aria-label="Values" style={{ marginBottom: 14 }}>
      {(canEdit || names.length > 0) && (
        <div className="quiet strong">{names.length > 0 ? "Values" : "Parameters"}</div>
      )}
      {names.length > 0 && (
        <>
          {sets.length > 0 && (
            <Select
              size="xs"
              aria-label="Shown with"
              mt={4}
              searchable={sets.length > 8}
              allowDeselect={false}
              data={[{ value: "", label: "the defaults" }, ...sets.map((set) => ({ value: set, label: set }))]}
              value={given.set ?? ""}
              onChange={(set) => onGiven({ ...given, set: set || null })}
            />
          )}
          <dl className="values">
            {names.map((name) => {
              const value = values[name];
              return (
                <div key={name} title={value ? `${name}: ${originWords[value.how]}` : parameters[name]?.note}>
                  <dt>{name}</dt>
                  <dd className={value?.how === "by hand" ? "strong" : undefined}>
                    {value ? value.text || "''" : <span className="lead">no value</span>}
                  </dd>
                </div>
              );
            })}
          </dl>
        </>
      )}
      {Object.entries(given.settings ?? {}).map(([address, name]) => (
        <div key={address} style={{ fontSize: 12.5 }}>
          <span className="quiet">{address}</span> <span className="mono strong">{name}</span>
        </div>
      ))}
      <ErrorNote error={error} />
      {(canEdit || names.length > 0) && <ByHand definition={definition} given={given} onGiven={onGiven} />}
      {canEdit && " · "}
      {canEdit && (
        <button type="button" className="link" onClick={() => setEditing(true)}>
          {names.length ? "Parameters" : "Add one"}
        </button>
      )}
      {editing && (
        <Suspense fallback={null}>
          <ParametersEditor
            definition={definition}
            onClose={() => setEditing(false)}
            onSet={(next) => {
              onSet(next);
              setEditing(false);
            }}
          />
        </Suspense>
      )}
    </section>
  );
}

/** Values, and other names for what the pipeline names, for this look and this run only. */
function ByHand({ definition, given, onGiven }: Pick<Props, "definition" | "given" | "onGiven">) {
  const { values: shown } = useChosen();
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState<Record<string, GivenValue>>({});
  const [settings, setSettings] = useState<Record<string, string>>({});
  const settable = settableIn(definition);
  const some = Object.keys({ ...given.values, ...given.settings }).length;
  const show = (values: Record<string, GivenValue>, names: Record<string, string>) => {
    const { values: _, settings: __, ...rest } = given;
    onGiven({
      ...rest,
      ...(Object.keys(values).length ? { values } : {}),
      ...(Object.keys(names).length ? { settings: names } : {}),
    });
    setOpen(false);
  };
  return (
    <Popover
      opened={open}
      onChange={setOpen}
      position="right-start"
      withArrow
      shadow="md"
      trapFocus
      returnFocus
      width={330}
    >
      <Popover.Target>
        <button
          type="button"
          className="link"
          aria-expanded={open}
          onClick={() => {
            setTyped(given.values ?? {});
            setSettings(given.settings ?? {});
            setOpen(!open);
          }}
        >
          {some ? `${some} by hand` : "By hand"}
        </button>
      </Popover.Target>
      <Popover.Dropdown>
        {open && (
          <form
            style={{ display: "grid", gap: 8, maxHeight: 460, overflow: "auto" }}
            onSubmit={(event) => {
              event.preventDefault();
              show(typed, Object.fromEntries(Object.entries(settings).filter(([, name]) => name.trim() !== "")));
            }}
          >
            {Object.entries(definition.parameters ?? {}).map(([name, parameter]) => (
              <ValueField
                key={name}
                label={name}
                parameter={parameter}
                value={typed[name]}
                placeholder={shown[name]?.text}
                onChange={(value) => {
                  const { [name]: _, ...others } = typed;
                  setTyped(value === undefined ? others : { ...others, [name]: value });
                }}
              />
            ))}
            {Object.keys(settings).map((address) => (
              <TextInput
                key={address}
                size="xs"
                label={address}
                placeholder={settable.find((one) => one.address === address)?.text}
                value={settings[address]}
                onChange={(event) => setSettings({ ...settings, [address]: event.currentTarget.value })}
                classNames={{ input: "mono" }}
              />
            ))}
            <Select
              size="xs"
              aria-label="Name something else this time"
              placeholder="name another connection or table …"
              searchable
              data={settable
                .filter(({ address }) => !Object.hasOwn(settings, address))
                .map(({ address, text }) => ({ value: address, label: `${address}: ${text}` }))}
              value={null}
              onChange={(address) => address && setSettings({ ...settings, [address]: "" })}
              comboboxProps={{ withinPortal: false }}
            />
            <div className="actions" style={{ justifyContent: "flex-end" }}>
              {some > 0 && (
                <Button size="xs" variant="default" onClick={() => show({}, {})}>
                  None by hand
                </Button>
              )}
              <Button size="xs" type="submit">
                Show with these
              </Button>
            </div>
          </form>
        )}
      </Popover.Dropdown>
    </Popover>
  );
}
