import { NumberInput, Select, TextInput } from "@mantine/core";
import type { Deletions, Drift, Load, Rejects } from "@undercoat/core/pipeline/pipeline";
import { durationWords } from "@undercoat/core/schedule/duration";
import { useState } from "react";
import { Form, inPopover } from "../pipeline/Form.tsx";

interface EditorProps {
  load: Load;
  onSet: (load: Load) => void;
  close: () => void;
}

/** An object without the members that say nothing; undefined where none is left. */
function said<T extends object>(value: T): T | undefined {
  const kept = Object.entries(value).filter(([, member]) => member !== undefined && member !== "");
  return kept.length ? (Object.fromEntries(kept) as T) : undefined;
}

/** `is rejected, at most 100 of them` */
export function rejectsSentence({ rejects }: Load): string {
  if (rejects?.breach === "stop" || rejects?.limit === 0) return "stops the load";
  const limit = rejects?.limit;
  return limit === undefined
    ? "is rejected"
    : `is rejected, at most ${typeof limit === "string" ? `${limit.replace("%", " %")} of them` : limit}`;
}

export function RejectsEditor({ load, onSet, close }: EditorProps) {
  const [breach, setBreach] = useState<"stop" | "reject">(load.rejects?.breach ?? "reject");
  const [duplicates, setDuplicates] = useState<"stop" | "reject">(load.rejects?.duplicates ?? "reject");
  const [limit, setLimit] = useState(String(load.rejects?.limit ?? ""));
  const [keep, setKeep] = useState<number | undefined>(load.rejects?.keep);
  const wrong = limit !== "" && !/^\d{1,15}$|^\d{1,3}(\.\d{1,6})?%$/.test(limit.replaceAll(" ", ""));
  return (
    <Form
      disabled={wrong}
      onSubmit={() => {
        const { rejects: _, ...rest } = load;
        const plain = limit.replaceAll(" ", "");
        const next = said<Rejects>({
          breach: breach === "stop" ? breach : undefined,
          duplicates: duplicates === "stop" ? duplicates : undefined,
          limit: plain === "" ? undefined : plain.endsWith("%") ? plain : Number(plain),
          keep,
        });
        onSet(next ? { ...rest, rejects: next } : rest);
        close();
      }}
    >
      <Select
        label="A row that breaks a type or a rule"
        data={[
          { value: "reject", label: "is rejected" },
          { value: "stop", label: "stops the load" },
        ]}
        value={breach}
        onChange={(value) => setBreach(value === "stop" ? "stop" : "reject")}
        {...inPopover}
      />
      <Select
        label="Of several rows with one key"
        data={[
          { value: "reject", label: "the latest counts, the others are rejected" },
          { value: "stop", label: "the load stops" },
        ]}
        value={duplicates}
        onChange={(value) => setDuplicates(value === "stop" ? "stop" : "reject")}
        {...inPopover}
      />
      <TextInput
        label="The load fails beyond"
        description="A number of rows, or a share of those read such as 2%; empty sets no limit"
        value={limit}
        error={wrong ? "Write 100 or 2%" : null}
        onChange={(event) => setLimit(event.currentTarget.value)}
      />
      <NumberInput
        label="Rows kept with their values"
        description="Of each run; more are kept by their key only"
        placeholder="10,000"
        min={0}
        max={1_000_000}
        value={keep ?? ""}
        onChange={(value) => setKeep(value === "" ? undefined : Number(value))}
      />
    </Form>
  );
}

/** `new columns are taken, other changes stop the load` */
export function driftSentence({ drift }: Load): string {
  const { added = "take", changed = "stop", gone = "stop" } = drift ?? {};
  const news = { take: "new columns are taken", ignore: "new columns are ignored", stop: "new columns stop the load" }[
    added
  ];
  if (changed === "stop" && gone === "stop")
    return added === "stop" ? "the load stops" : `${news}, other changes stop the load`;
  const types = {
    stop: "other types stop it",
    null: "other types become null",
    take: "other types are checked row by row",
  }[changed];
  return `${news}, ${types}, lost columns ${gone === "null" ? "become null" : "stop it"}`;
}

export function DriftEditor({ load, onSet, close }: EditorProps) {
  const [drift, setDrift] = useState<Required<Drift>>({ added: "take", changed: "stop", gone: "stop", ...load.drift });
  return (
    <Form
      onSubmit={() => {
        const { drift: _, ...rest } = load;
        const next = said<Drift>({
          added: drift.added === "take" ? undefined : drift.added,
          changed: drift.changed === "stop" ? undefined : drift.changed,
          gone: drift.gone === "stop" ? undefined : drift.gone,
        });
        onSet(next ? { ...rest, drift: next } : rest);
        close();
      }}
    >
      <Select
        label="A new column"
        data={[
          { value: "take", label: "is taken, with its values in every row" },
          { value: "ignore", label: "is ignored" },
          { value: "stop", label: "stops the load" },
        ]}
        value={drift.added}
        onChange={(value) => setDrift({ ...drift, added: (value ?? "take") as Required<Drift>["added"] })}
        {...inPopover}
      />
      <Select
        label="A type that got narrower or is another"
        description="A wider type widens the target"
        data={[
          { value: "stop", label: "stops the load" },
          { value: "take", label: "is checked row by row against the old one" },
          { value: "null", label: "is filled with null" },
        ]}
        value={drift.changed}
        onChange={(value) => setDrift({ ...drift, changed: (value ?? "stop") as Required<Drift>["changed"] })}
        {...inPopover}
      />
      <Select
        label="A column that is gone"
        data={[
          { value: "stop", label: "stops the load" },
          { value: "null", label: "is filled with null" },
        ]}
        value={drift.gone}
        onChange={(value) => setDrift({ ...drift, gone: (value ?? "stop") as Required<Drift>["gone"] })}
        {...inPopover}
      />
    </Form>
  );
}

/** `kept`, `marked in deleted_at`, `removed` */
export function deletedSentence({ into }: Load): string {
  const often = into.deletions?.every ? `, looked for every ${durationWords(into.deletions.every)}` : "";
  if (into.deleted === "mark") return `marked in ${into.deletions?.column ?? "deleted_at"}${often}`;
  return into.deleted === "remove" ? `removed${often}` : "kept";
}

export function DeletedEditor({ load, onSet, close }: EditorProps) {
  const [deleted, setDeleted] = useState(load.into.deleted ?? "keep");
  const [most, setMost] = useState<number | undefined>(load.into.deletions?.most);
  const [every, setEvery] = useState(load.into.deletions?.every ?? "");
  const [column, setColumn] = useState(load.into.deletions?.column ?? "");
  return (
    <Form
      onSubmit={() => {
        const { deleted: _, deletions: __, ...into } = load.into;
        const next = said<Deletions>({
          most,
          every: every || undefined,
          column: deleted === "mark" ? column || undefined : undefined,
        });
        onSet({
          ...load,
          into: deleted === "keep" ? into : { ...into, deleted, ...(next ? { deletions: next } : {}) },
        });
        close();
      }}
    >
      <Select
        label="Rows gone from the source are"
        data={
          load.into.mode === "history"
            ? [
                { value: "keep", label: "kept, their versions go on" },
                { value: "close", label: "closed: their versions end" },
              ]
            : [
                { value: "keep", label: "kept" },
                { value: "mark", label: "marked with a time" },
                { value: "remove", label: "removed" },
              ]
        }
        value={deleted}
        onChange={(value) => setDeleted((value ?? "keep") as NonNullable<Load["into"]["deleted"]>)}
        {...inPopover}
      />
      {deleted === "mark" && (
        <TextInput
          label="Column that holds the time"
          placeholder="deleted_at"
          value={column}
          onChange={(event) => setColumn(event.currentTarget.value)}
          classNames={{ input: "mono" }}
        />
      )}
      {deleted !== "keep" && (
        <TextInput
          label="Looked for"
          description="An ISO 8601 duration such as P1D; empty looks at every run"
          placeholder="at every run"
          value={every}
          onChange={(event) => setEvery(event.currentTarget.value)}
        />
      )}
      {deleted !== "keep" && (
        <NumberInput
          label="The load stops when more would go than"
          description="Percent of the table"
          placeholder="50"
          min={0}
          max={100}
          suffix=" %"
          value={most ?? ""}
          onChange={(value) => setMost(value === "" ? undefined : Number(value))}
        />
      )}
    </Form>
  );
}
