import { MultiSelect, NumberInput, Radio, Select, Stack, TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import type { Preview } from "@undercoat/core/api/api";
import { readingsOf, suggestChanges } from "@undercoat/core/history/suggest";
import type { Load, Mode, ProofBy, SliceUnit } from "@undercoat/core/pipeline/pipeline";
import { formatFigure, parseFigure } from "@undercoat/core/proof/figure";
import { durationWords, readDuration, suggestLookBack } from "@undercoat/core/schedule/duration";
import { formatTableName } from "@undercoat/core/sql/identifier";
import { canBeWatermark, shortType, typeFamily } from "@undercoat/core/sql/type";
import { useState } from "react";
import { queries } from "../api/queries.ts";
import { counted, zone } from "../parts/format.ts";
import { useFill } from "../values/chosen.ts";
import { Form, inPopover } from "./Form.tsx";
import { FromSql, useFromCheck } from "./FromSql.tsx";

/** The small forms behind a band's phrases. Each gets the load and gives the changed one; Enter sets, Esc leaves it as it was. */
export interface EditorProps {
  load: Load;
  /** the warehouse's connection */
  warehouse: string;
  /** what is known of the columns of both sides */
  preview: Pick<Preview, "columns" | "sourceColumns" | "late" | "rows" | "tracked"> | undefined;
  onSet: (load: Load) => void;
  close: () => void;
}

/** Leaves out what a load's new dataset may not have. */
export function fromElsewhere(load: Load, from: Load["from"]): Load {
  const { columns: _, rules: __, ...rest } = load;
  return { ...rest, from };
}

/** A mark for a table among several of one shape: what tells its name from the others'. */
function markOf(table: string, tables: readonly string[]): string {
  const bare = (name: string) => name.split(".").at(-1)?.replaceAll('"', "") ?? name;
  const names = tables.map(bare);
  const first = names[0] ?? "";
  let shared = 0;
  while (names.length > 1 && shared < first.length && names.every((name) => name[shared] === first[shared])) shared++;
  return bare(table).slice(shared).replace(/^_+/, "") || bare(table);
}

export function DatasetEditor({ load, warehouse, onSet, close }: EditorProps) {
  const [kind, setKind] = useState(load.from.query ? "query" : load.from.tables ? "tables" : "table");
  const [tables, setTables] = useState<string[]>(Object.values(load.from.tables ?? {}));
  const [origin, setOrigin] = useState(load.from.origin ?? "origin");
  const [table, setTable] = useState(load.from.table ?? "");
  const [query, setQuery] = useState(load.from.query ?? "");
  const { connection, where } = load.from;
  const checked = useFromCheck({ connection, query, ...(where ? { where } : {}) }, "query", { load, warehouse });
  const fill = useFill();
  const datasets = useQuery(queries.datasets(fill(load.from.connection)));
  const names = (datasets.data ?? []).map((row) => formatTableName({ schema: row.schema, table: row.name }));
  return (
    <Form
      disabled={
        kind === "table"
          ? !table
          : kind === "tables"
            ? tables.length === 0 || !origin.trim()
            : !query.trim() || checked.problem !== null
      }
      onSubmit={() => {
        const { table: _t, query: _q, tables: _s, origin: _o, ...from } = load.from;
        const several = {
          tables: Object.fromEntries(tables.map((name) => [markOf(name, tables), name])),
          origin: origin.trim(),
        };
        onSet(
          fromElsewhere(load, { ...from, ...(kind === "table" ? { table } : kind === "tables" ? several : { query }) }),
        );
        close();
      }}
    >
      <Radio.Group value={kind} onChange={setKind} label="Read from">
        <Stack gap={4} mt={4}>
          <Radio value="table" label="a table or view" />
          <Radio value="tables" label="several tables of one shape" />
          <Radio value="query" label="a query that only reads" />
        </Stack>
      </Radio.Group>
      {kind === "table" ? (
        <Select
          label="Table"
          data={[...new Set([...(table ? [table] : []), ...names])]}
          value={table}
          onChange={(value) => setTable(value ?? "")}
          searchable
          {...inPopover}
        />
      ) : kind === "tables" ? (
        <>
          <MultiSelect
            label="Tables"
            data={[...new Set([...tables, ...names])]}
            value={tables}
            onChange={setTables}
            searchable
            maxDropdownHeight={180}
            {...inPopover}
          />
          <TextInput
            label="Column that says where a row came from"
            description={
              tables.length
                ? `It holds ${tables.map((name) => markOf(name, tables)).join(", ")}; put it into the key`
                : undefined
            }
            value={origin}
            onChange={(event) => setOrigin(event.currentTarget.value)}
            classNames={{ input: "mono" }}
          />
        </>
      ) : (
        <FromSql label="Query" value={query} onChange={setQuery} checked={checked} placeholder="SELECT … FROM …" />
      )}
    </Form>
  );
}

export function ConnectionEditor({ load, onSet, close }: EditorProps) {
  const connections = useQuery(queries.connections());
  const [name, setName] = useState(load.from.connection);
  return (
    <Form
      onSubmit={() => {
        onSet({ ...load, from: { ...load.from, connection: name } });
        close();
      }}
    >
      <Select
        label="Source connection"
        data={[...new Set([load.from.connection, ...(connections.data ?? []).map((row) => row.name)])]}
        value={name}
        onChange={(value) => setName(value ?? name)}
        {...inPopover}
      />
    </Form>
  );
}

export function ConditionEditor({ load, warehouse, onSet, close }: EditorProps) {
  const [where, setWhere] = useState(load.from.where ?? "");
  const { where: _, ...rest } = load.from;
  const from = where.trim() ? { ...rest, where: where.trim() } : rest;
  const checked = useFromCheck(where.trim() ? { ...rest, where } : rest, "where", { load, warehouse });
  return (
    <Form
      disabled={checked.problem !== null}
      onSubmit={() => {
        onSet({ ...load, from });
        close();
      }}
    >
      <FromSql
        label="Only rows where"
        description="An SQL condition over the source's columns; empty reads all rows"
        value={where}
        onChange={setWhere}
        checked={checked}
        placeholder="region = 'north'"
      />
    </Form>
  );
}

export function WatermarkEditor({ load, preview, onSet, close }: EditorProps) {
  const [column, setColumn] = useState<string | null>(load.watermark?.column ?? null);
  const [lookBack, setLookBack] = useState(load.watermark?.lookBack ?? "");
  const candidates = (preview?.sourceColumns ?? []).filter((entry) => canBeWatermark(entry.type));
  const chosen = candidates.find((entry) => entry.name === column);
  const moment = !chosen || typeFamily(chosen.type) === "moment";
  const read = lookBack.trim() === "" ? "" : moment ? readDuration(lookBack) : lookBack.trim();
  return (
    <Form
      disabled={read === null}
      onSubmit={() => {
        const { watermark: _, ...rest } = load;
        onSet(column ? { ...rest, watermark: { column, ...(read ? { lookBack: read } : {}) } } : rest);
        close();
      }}
    >
      <Select
        label="Read only what passed the highest"
        placeholder={preview?.tracked ? "none: the source tells what changed" : "none: read all rows every time"}
        clearable
        data={candidates.map((entry) => ({ value: entry.name, label: `${entry.name} (${shortType(entry.type)})` }))}
        value={column}
        onChange={setColumn}
        {...inPopover}
      />
      {column && preview?.late && (
        <p className="quiet" style={{ fontSize: 13 }}>
          In {counted(preview.late.runs, "run")}, rows came up to <b className="mono">{preview.late.most}</b> late.{" "}
          <button type="button" className="link" onClick={() => setLookBack(suggestLookBack(preview.late?.most ?? ""))}>
            Look back {durationWords(suggestLookBack(preview.late.most))}
          </button>
        </p>
      )}
      {column && (
        <TextInput
          label="Looking back"
          description={
            moment
              ? "Such as 10 minutes, 1 day or PT10M; it covers rows that are committed late"
              : "A whole number; it covers rows that are committed late"
          }
          value={lookBack}
          onChange={(event) => setLookBack(event.currentTarget.value)}
          error={read === null ? `${lookBack} is not a length of time; write one like 10 minutes` : undefined}
        />
      )}
    </Form>
  );
}

export function TargetEditor({ load, onSet, close }: EditorProps) {
  const [table, setTable] = useState(load.into.table);
  return (
    <Form
      disabled={!table.includes(".")}
      onSubmit={() => {
        onSet({ ...load, into: { ...load.into, table } });
        close();
      }}
    >
      <TextInput
        label="Warehouse table"
        description="schema.table; it is made where it is missing"
        value={table}
        onChange={(event) => setTable(event.currentTarget.value)}
        classNames={{ input: "mono" }}
        data-autofocus
      />
    </Form>
  );
}

/** `those where region = 'north'`; all of a table's rows where a load does not say. */
export function PartEditor({ load, preview, onSet, close }: EditorProps) {
  const [part, setPart] = useState(load.into.part ?? "");
  return (
    <Form
      onSubmit={() => {
        const { part: _, ...into } = load.into;
        onSet({ ...load, into: part.trim() ? { ...into, part: part.trim() } : into });
        close();
      }}
    >
      <FromSql
        label="Of the table's rows this load's are those where"
        description="A condition over warehouse columns, for a table that several loads or sets of values share; empty: all"
        value={part}
        onChange={setPart}
        checked={{
          problem: null,
          columns: (preview?.columns ?? []).map(({ name, type }) => ({ name, type, notNull: false })),
        }}
        placeholder="region = :region"
      />
    </Form>
  );
}

export const modeWords: Record<Mode, { title: string; says: string }> = {
  upsert: { title: "upsert", says: "New rows are added, changed rows updated; rows that are the same are left alone." },
  append: { title: "append", says: "New rows are added; none is changed. A row read twice is not added twice." },
  replace: { title: "replace", says: "All rows are replaced by the source's at every run." },
  history: {
    title: "history",
    says: "A changed row opens a version; the one before ends. What a change does is chosen by column.",
  },
};

/** What says only how versions are kept goes with the mode; a history begins with what is suggested for it. */
function inMode(into: Load["into"], mode: Mode, preview: EditorProps["preview"]): Load["into"] {
  const { history, deleted, ...rest } = into;
  if (mode !== "history") return { ...rest, mode, ...(deleted && deleted !== "close" ? { deleted } : {}) };
  if (into.mode === "history") return into;
  const columns = (preview?.columns ?? []).filter((column) => !into.key?.includes(column.name));
  const suggested = Object.entries(suggestChanges(columns, readingsOf(preview?.rows ?? [], into.key ?? [])))
    .filter(([, { change }]) => change !== "version")
    .map(([name, { change }]) => [name, change] as const);
  return {
    ...rest,
    mode,
    ...(deleted === "mark" || deleted === "remove" ? { deleted: "close" as const } : {}),
    ...(history ? { history } : suggested.length ? { history: { columns: Object.fromEntries(suggested) } } : {}),
  };
}

export function ModeEditor({ load, preview, onSet, close }: EditorProps) {
  const [mode, setMode] = useState<Mode>(load.into.mode);
  return (
    <Form
      onSubmit={() => {
        onSet({ ...load, into: inMode(load.into, mode, preview) });
        close();
      }}
    >
      <Radio.Group value={mode} onChange={(value) => setMode(value as Mode)} label="How rows are written">
        <Stack gap={8} mt={6}>
          {(Object.keys(modeWords) as Mode[]).map((name) => (
            <Radio key={name} value={name} label={modeWords[name].title} description={modeWords[name].says} />
          ))}
        </Stack>
      </Radio.Group>
    </Form>
  );
}

export function KeyEditor({ load, preview, onSet, close }: EditorProps) {
  const [key, setKey] = useState(load.into.key ?? []);
  return (
    <Form
      onSubmit={() => {
        const { key: _, ...into } = load.into;
        onSet({ ...load, into: key.length ? { ...into, key } : into });
        close();
      }}
    >
      <MultiSelect
        label="Columns that identify a row"
        description="In this order; warehouse names"
        data={(preview?.columns ?? []).map((entry) => entry.name)}
        value={key}
        onChange={setKey}
        searchable
        {...inPopover}
      />
    </Form>
  );
}

export function SliceEditor({ load, preview, onSet, close }: EditorProps) {
  const by = load.proof?.by;
  const [column, setColumn] = useState<string | null>(by?.column ?? null);
  const [slice, setSlice] = useState<SliceUnit>(by?.slice ?? "day");
  const [inZone, setInZone] = useState(by?.zone ?? zone);
  const names = (preview?.columns ?? []).map((entry) => entry.name);
  const moments = (preview?.columns ?? []).filter((entry) => typeFamily(entry.type) === "moment");
  const origin = names.find((name) => name === load.from.origin);
  const byOrigin = column !== null && column === origin;
  const zoned = moments.find((entry) => entry.name === column)?.type.includes("with time zone") ?? false;
  return (
    <Form
      onSubmit={() => {
        const figures = load.proof?.figures ?? ["rows"];
        const next: ProofBy | null = !column
          ? null
          : byOrigin
            ? { column, slice: "origin" }
            : { column, slice: slice === "origin" ? "day" : slice, ...(zoned ? { zone: inZone } : {}) };
        const { by: _, ...rest } = load.proof ?? { figures };
        onSet({ ...load, proof: { ...rest, ...(next ? { by: next } : {}), figures } });
        close();
      }}
    >
      <Select
        label="Slices of"
        placeholder="none: the whole table is one slice"
        clearable
        data={[...(origin ? [origin] : []), ...moments.map((entry) => entry.name)]}
        value={column}
        onChange={setColumn}
        {...inPopover}
      />
      {column && !byOrigin && (
        <Select
          label="Each slice is a"
          data={["hour", "day", "week", "month", "year"]}
          value={slice === "origin" ? "day" : slice}
          onChange={(value) => setSlice((value ?? "day") as SliceUnit)}
          {...inPopover}
        />
      )}
      {column && zoned && (
        <TextInput label="In the zone" value={inZone} onChange={(event) => setInZone(event.currentTarget.value)} />
      )}
    </Form>
  );
}

/** `each row finds one version in fleet.vessel_history` */
export function withinSentence({ proof }: Load): string {
  return proof?.within ? `each row finds one version in ${proof.within.dimension}` : "no versions looked up";
}

/** Which versions each row must find exactly one of. */
export function WithinEditor({ load, warehouse, preview, onSet, close }: EditorProps) {
  const within = load.proof?.within;
  const histories = useQuery(queries.histories());
  const [dimension, setDimension] = useState<string | null>(within?.dimension ?? null);
  const [key, setKey] = useState<string[]>(within ? [within.key].flat() : []);
  const [at, setAt] = useState<string | null>(within?.at ?? null);
  const kept = (histories.data ?? []).filter((one) => one.connection === warehouse);
  const goesBy = kept.find((one) => one.target === dimension)?.shape.key ?? [];
  const names = (preview?.columns ?? []).map((entry) => entry.name);
  const moments = (preview?.columns ?? []).filter((entry) => typeFamily(entry.type) === "moment");
  return (
    <Form
      disabled={dimension !== null && (!at || key.length === 0 || (goesBy.length > 0 && key.length !== goesBy.length))}
      onSubmit={() => {
        const { within: _, ...proof } = load.proof ?? { figures: ["rows"] };
        const next = dimension && at ? { dimension, key: key.length === 1 ? (key[0] ?? "") : key, at } : null;
        onSet({ ...load, proof: next ? { ...proof, within: next } : proof });
        close();
      }}
    >
      <Select
        label="Each row finds exactly one version in"
        placeholder="none: it looks no versions up"
        clearable
        data={[...new Set([...(within ? [within.dimension] : []), ...kept.map((one) => one.target)])]}
        value={dimension}
        onChange={setDimension}
        {...inPopover}
      />
      {dimension && (
        <>
          <MultiSelect
            label={
              goesBy.length ? `By the columns that hold its ${goesBy.join(", ")}` : "By the columns that hold its key"
            }
            data={names}
            value={key}
            onChange={setKey}
            searchable
            {...inPopover}
          />
          <Select
            label="At the time in"
            data={moments.map((entry) => entry.name)}
            value={at}
            onChange={setAt}
            {...inPopover}
          />
        </>
      )}
    </Form>
  );
}

export function FiguresEditor({ load, preview, onSet, close }: EditorProps) {
  const [figures, setFigures] = useState(load.proof?.figures ?? ["rows"]);
  const possible = (preview?.columns ?? []).flatMap((entry) => {
    const family = typeFamily(entry.type);
    const sums = ["integer", "numeric", "float"].includes(family) ? [formatFigure("sum", entry.name)] : [];
    const ends = family === "other" ? [] : [formatFigure("min", entry.name), formatFigure("max", entry.name)];
    return [...sums, ...ends, formatFigure("count", entry.name)];
  });
  const known = figures.filter((figure) => figure !== "rows" && !possible.includes(figure) && parseFigure(figure));
  return (
    <Form
      disabled={figures.length === 0}
      onSubmit={() => {
        onSet({ ...load, proof: { ...load.proof, figures } });
        close();
      }}
    >
      <MultiSelect
        label="Figures that both sides compute"
        data={["rows", ...possible, ...known]}
        value={figures}
        onChange={setFigures}
        searchable
        maxDropdownHeight={220}
        {...inPopover}
      />
    </Form>
  );
}

export function MinutesInput({
  label = "Minutes",
  description,
  value,
  onChange,
}: {
  label?: string;
  description?: string;
  value: number;
  onChange: (value: number) => void;
}) {
  return (
    <NumberInput
      label={label}
      description={description}
      min={1}
      max={44_640}
      value={value}
      onChange={(next) => onChange(Number(next) || 1)}
    />
  );
}
