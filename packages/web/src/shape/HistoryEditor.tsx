import { Button, Checkbox, Modal, NumberInput, Select, TextInput } from "@mantine/core";
import type { Preview } from "@undercoat/core/api/api";
import { readingsOf, suggestChanges } from "@undercoat/core/history/suggest";
import type { ColumnChange, History, Load } from "@undercoat/core/pipeline/pipeline";
import { shortType, typeFamily } from "@undercoat/core/sql/type";
import { useState } from "react";

const changeWords: Record<string, string> = {
  version: "opens a version",
  overwrite: "is overwritten",
  keep: "is kept as it first was",
  previous: "keeps the value before",
};

/** `home_port and 3 more open a version, phone is overwritten` */
export function historySentence(load: Load): string {
  const changes = Object.entries(load.into.history?.columns ?? {});
  const named = (kind: string) =>
    changes.filter(([, change]) => (typeof change === "string" ? change : "previous") === kind).map(([name]) => name);
  const parts = (["overwrite", "keep", "previous"] as const).flatMap((kind) => {
    const names = named(kind);
    const verb = {
      overwrite: names.length > 1 ? "are overwritten" : "is overwritten",
      keep: names.length > 1 ? "are kept" : "is kept",
      previous: names.length > 1 ? "keep the value before" : "keeps the value before",
    }[kind];
    return names.length ? [`${names.join(", ")} ${verb}`] : [];
  });
  return ["a change opens a version", ...parts].join(", ");
}

/** `from updated_at on`, `from the read on` */
export function sinceSentence({ into }: Load): string {
  const since = into.history?.since;
  return since && since !== "run" ? `since its ${since}` : "since the read that brought it";
}

interface Props {
  load: Load;
  preview: Pick<Preview, "columns" | "sourceColumns" | "rows"> | undefined;
  onSet: (load: Load) => void;
  onClose: () => void;
}

/** An object without the members that say what goes without saying. */
function said(history: History): History {
  return Object.fromEntries(
    Object.entries(history).filter(([, value]) => value !== undefined && value !== "" && value !== null),
  ) as History;
}

/** How a table keeps versions: what each column's change does, from when a version is valid, and the columns that say so. */
export function HistoryEditor({ load, preview, onSet, onClose }: Props) {
  const [history, setHistory] = useState<History>(load.into.history ?? {});
  const put = (change: Partial<History>) => setHistory({ ...history, ...change });
  const [many, setMany] = useState<string[]>([]);
  const key = new Set(load.into.key ?? []);
  const columns = (preview?.columns ?? []).filter((column) => !key.has(column.name));
  const suggested = suggestChanges(columns, readingsOf(preview?.rows ?? [], load.into.key ?? []));
  const changes = history.columns ?? {};
  /** columns that tell when a row changed, and whose own change is none unless somebody says so */
  const telling = new Set(
    columns
      .filter(({ source }) => source === history.since || source === load.watermark?.column)
      .map(({ name }) => name),
  );
  const kindOf = (name: string) => {
    const change = changes[name];
    if (change === undefined) return telling.has(name) ? "follow" : "version";
    return typeof change === "string" ? change : "previous";
  };
  const changeTo = (names: readonly string[], kind: string) => {
    const next: Record<string, ColumnChange> = { ...changes };
    for (const name of names) {
      if (kind === "follow" || (kind === "version" && !telling.has(name))) delete next[name];
      else next[name] = kind === "previous" ? { previous: `former_${name}` } : (kind as ColumnChange);
    }
    put({ columns: next });
  };
  const moments = (preview?.sourceColumns ?? []).filter((column) => typeFamily(column.type) === "moment");
  const current = typeof history.current === "object" ? history.current.column : (history.current ?? "");
  const kinds = Object.entries(changeWords).map(([value, label]) => ({ value, label }));
  return (
    <Modal opened onClose={onClose} title="How history is kept" size={980}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          const next = said({ ...history, columns: Object.keys(changes).length ? changes : undefined });
          const { history: _, ...into } = load.into;
          onSet({ ...load, into: Object.keys(next).length ? { ...into, history: next } : into });
        }}
      >
        <div style={{ display: "grid", gridTemplateColumns: "minmax(0, 1fr) 300px", gap: 28 }}>
          <section aria-label="What a change does">
            <div className="head" style={{ marginBottom: 6, alignItems: "center" }}>
              <h3>What a change does</h3>
              <span className="actions">
                {many.length > 0 && (
                  <Select
                    size="xs"
                    aria-label={`Of the ${many.length} ticked`}
                    placeholder={`the ${many.length} ticked …`}
                    data={kinds}
                    value={null}
                    onChange={(kind) => kind && changeTo(many, kind)}
                  />
                )}
                <button
                  type="button"
                  className="link"
                  onClick={() =>
                    put({
                      columns: Object.fromEntries(
                        columns.flatMap(({ name }) => {
                          const change = suggested[name]?.change ?? "version";
                          return change === "version" || telling.has(name) ? [] : [[name, change]];
                        }),
                      ),
                    })
                  }
                >
                  Take what is suggested
                </button>
              </span>
            </div>
            <div style={{ maxHeight: 430, overflow: "auto" }} tabIndex={0} role="region" aria-label="Columns">
              <table className="plain">
                <tbody>
                  {columns.map(({ name, type }) => {
                    const kind = kindOf(name);
                    const hint = suggested[name];
                    const change = changes[name];
                    return (
                      <tr key={name}>
                        <td>
                          <Checkbox
                            size="xs"
                            aria-label={name}
                            checked={many.includes(name)}
                            onChange={() =>
                              setMany(many.includes(name) ? many.filter((one) => one !== name) : [...many, name])
                            }
                          />
                        </td>
                        <td>
                          <span className="mono">{name}</span> <span className="quiet">{shortType(type)}</span>
                          {hint && kind !== "follow" && hint.change !== kind && (
                            <div className="quiet" style={{ fontSize: 12 }}>
                              {changeWords[String(hint.change)]}? {hint.why}
                            </div>
                          )}
                        </td>
                        <td style={{ width: 210 }}>
                          <Select
                            size="xs"
                            aria-label={`A change of ${name}`}
                            data={
                              telling.has(name) ? [{ value: "follow", label: "only tells the time" }, ...kinds] : kinds
                            }
                            value={kind}
                            onChange={(next) => next && changeTo([name], next)}
                          />
                          {typeof change === "object" && (
                            <TextInput
                              size="xs"
                              mt={4}
                              aria-label={`The column for the value before of ${name}`}
                              value={change.previous}
                              onChange={(event) =>
                                put({ columns: { ...changes, [name]: { previous: event.currentTarget.value } } })
                              }
                              classNames={{ input: "mono" }}
                            />
                          )}
                        </td>
                      </tr>
                    );
                  })}
                </tbody>
              </table>
            </div>
          </section>
          <section aria-label="Versions" style={{ display: "grid", gap: 10, alignContent: "start" }}>
            <h3>Versions</h3>
            <Select
              label="A version is valid from"
              data={[
                { value: "run", label: "the read that brought it" },
                ...moments.map((column) => ({
                  value: column.name,
                  label: `${column.name} (${shortType(column.type)})`,
                })),
              ]}
              value={history.since ?? "run"}
              onChange={(since) => put({ since: since === "run" || since === null ? undefined : since })}
            />
            <TextInput
              label="A key's first version from"
              placeholder="its own time"
              description="Such as 2020-01-01 or -infinity"
              value={history.first ?? ""}
              onChange={(event) => put({ first: event.currentTarget.value })}
            />
            <Select
              label="What is overwritten changes in"
              data={[
                { value: "all", label: "all versions" },
                { value: "current", label: "the current version" },
              ]}
              value={history.overwrite ?? "all"}
              onChange={(value) => put({ overwrite: value === "current" ? "current" : undefined })}
            />
            <Select
              label="A row that changes what is kept"
              data={[
                { value: "reject", label: "is rejected" },
                { value: "stop", label: "stops the load" },
                { value: "count", label: "is counted" },
              ]}
              value={history.breach ?? "reject"}
              onChange={(value) => put({ breach: value === "stop" || value === "count" ? value : undefined })}
            />
            <Select
              label="Of a column that comes later, old versions hold"
              data={[
                { value: "null", label: "nothing" },
                { value: "fill", label: "what the source says then" },
              ]}
              value={history.added ?? "null"}
              onChange={(value) => put({ added: value === "fill" ? "fill" : undefined })}
            />
            <div style={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 8 }}>
              {(
                [
                  ["from", "From", "valid_from"],
                  ["to", "To", "valid_to"],
                ] as const
              ).map(([name, label, usual]) => (
                <TextInput
                  key={name}
                  label={label}
                  placeholder={usual}
                  value={history[name] ?? ""}
                  onChange={(event) => put({ [name]: event.currentTarget.value })}
                  classNames={{ input: "mono" }}
                />
              ))}
              <TextInput
                label="Marks the current"
                placeholder="is_current"
                value={current}
                onChange={(event) => put({ current: event.currentTarget.value })}
                classNames={{ input: "mono" }}
              />
              <TextInput
                label="What it came by"
                placeholder="no column"
                value={history.change ?? ""}
                onChange={(event) => put({ change: event.currentTarget.value })}
                classNames={{ input: "mono" }}
              />
              <TextInput
                label="Numbers versions"
                placeholder="no column"
                value={history.surrogate?.column ?? ""}
                onChange={(event) =>
                  put({
                    surrogate: event.currentTarget.value
                      ? { ...history.surrogate, column: event.currentTarget.value }
                      : undefined,
                  })
                }
                classNames={{ input: "mono" }}
              />
              <NumberInput
                label="Starting with"
                placeholder="1"
                min={0}
                disabled={!history.surrogate}
                value={history.surrogate?.start ?? ""}
                onChange={(start) =>
                  history.surrogate &&
                  put({ surrogate: { ...history.surrogate, start: start === "" ? undefined : Number(start) } })
                }
              />
            </div>
            <Checkbox.Group
              label="No change in a text"
              value={history.compare?.ignore ?? []}
              onChange={(ignore) =>
                put({
                  compare: ignore.length
                    ? { ...history.compare, ignore: ignore as NonNullable<History["compare"]>["ignore"] }
                    : undefined,
                })
              }
            >
              <div className="actions" style={{ marginTop: 4 }}>
                <Checkbox size="xs" value="case" label="case" />
                <Checkbox size="xs" value="space" label="space around" />
                <Checkbox size="xs" value="accents" label="accents" />
              </div>
            </Checkbox.Group>
          </section>
        </div>
        <div className="right" style={{ marginTop: 14 }}>
          <Button type="submit">Set</Button>
        </div>
      </form>
    </Modal>
  );
}
