import { Button, Checkbox, MultiSelect, NumberInput, Select, Textarea, TextInput } from "@mantine/core";
import type { ComputedColumn } from "@undercoat/core/pipeline/pipeline";
import {
  type DateFormat,
  dateFormats,
  dateIn,
  defaulted,
  hashed,
  joined,
  mapped,
  numberIn,
  part,
  type ShapedColumn,
  tidied,
} from "@undercoat/core/shape/ready";
import { type ReactNode, useState } from "react";

interface FormProps {
  columns: readonly ShapedColumn[];
  onWrite: (shape: ComputedColumn) => void;
}

const within = { comboboxProps: { withinPortal: false }, size: "xs" as const };

function ColumnSelect({
  columns,
  value,
  onChange,
  label = "Column",
}: {
  columns: readonly ShapedColumn[];
  value: string | null;
  onChange: (name: string | null) => void;
  label?: string;
}) {
  return (
    <Select
      label={label}
      data={columns.map((column) => column.name)}
      value={value}
      onChange={onChange}
      searchable
      {...within}
    />
  );
}

/** One column and what is done to it. */
function useColumn(columns: readonly ShapedColumn[]) {
  const [name, setName] = useState<string | null>(null);
  return { name, setName, column: columns.find((entry) => entry.name === name) };
}

function Write({ shape, onWrite }: { shape: ComputedColumn | undefined; onWrite: FormProps["onWrite"] }) {
  return (
    <Button
      size="xs"
      variant="outline"
      disabled={!shape}
      onClick={() => shape && onWrite(shape)}
      style={{ alignSelf: "end" }}
    >
      Write it
    </Button>
  );
}

function Join({ columns, onWrite }: FormProps) {
  const [names, setNames] = useState<string[]>([]);
  const [delimiter, setDelimiter] = useState(" ");
  const [empty, setEmpty] = useState("");
  const chosen = names.flatMap((name) => columns.find((column) => column.name === name) ?? []);
  return (
    <>
      <MultiSelect
        label="Columns, in this order"
        data={columns.map((column) => column.name)}
        value={names}
        onChange={setNames}
        searchable
        {...within}
      />
      <TextInput
        label="Between them"
        value={delimiter}
        onChange={(event) => setDelimiter(event.currentTarget.value)}
        size="xs"
      />
      <TextInput
        label="For an empty one"
        placeholder="left out"
        value={empty}
        onChange={(event) => setEmpty(event.currentTarget.value)}
        size="xs"
      />
      <Write shape={chosen.length ? joined(chosen, delimiter, empty || null) : undefined} onWrite={onWrite} />
    </>
  );
}

function Split({ columns, onWrite }: FormProps) {
  const { name, setName, column } = useColumn(columns);
  const [delimiter, setDelimiter] = useState(",");
  const [number, setNumber] = useState(1);
  return (
    <>
      <ColumnSelect columns={columns} value={name} onChange={setName} />
      <TextInput
        label="Split at"
        value={delimiter}
        onChange={(event) => setDelimiter(event.currentTarget.value)}
        size="xs"
      />
      <NumberInput
        label="Take part"
        min={1}
        value={number}
        onChange={(value) => setNumber(Number(value) || 1)}
        size="xs"
      />
      <Write shape={column && delimiter ? part(column, delimiter, number) : undefined} onWrite={onWrite} />
    </>
  );
}

function Default({ columns, onWrite }: FormProps) {
  const { name, setName, column } = useColumn(columns);
  const [value, setValue] = useState("");
  return (
    <>
      <ColumnSelect columns={columns} value={name} onChange={setName} />
      <TextInput
        label="Where it is missing"
        value={value}
        onChange={(event) => setValue(event.currentTarget.value)}
        size="xs"
      />
      <Write shape={column ? defaulted(column, value) : undefined} onWrite={onWrite} />
    </>
  );
}

const cases = ["as they are", "small", "capital", "Each Word"] as const;

function Tidy({ columns, onWrite }: FormProps) {
  const { name, setName, column } = useColumn(columns);
  const [spaces, setSpaces] = useState(true);
  const [letters, setLetters] = useState<(typeof cases)[number]>("as they are");
  return (
    <>
      <ColumnSelect columns={columns} value={name} onChange={setName} />
      <Select
        label="Letters"
        data={cases}
        value={letters}
        onChange={(value) => setLetters((value ?? "as they are") as (typeof cases)[number])}
        {...within}
      />
      <Checkbox
        label="trim and collapse spaces"
        checked={spaces}
        onChange={(event) => setSpaces(event.currentTarget.checked)}
        size="xs"
        style={{ alignSelf: "end", paddingBottom: 6 }}
      />
      <Write shape={column ? tidied(column, { spaces, letters }) : undefined} onWrite={onWrite} />
    </>
  );
}

function MapValues({ columns, onWrite }: FormProps) {
  const { name, setName, column } = useColumn(columns);
  const [table, setTable] = useState("");
  const [others, setOthers] = useState<"keep" | "null">("keep");
  const pairs = table.split("\n").flatMap((line): [string, string][] => {
    const at = line.indexOf("=");
    return at > 0 ? [[line.slice(0, at).trim(), line.slice(at + 1).trim()]] : [];
  });
  return (
    <>
      <ColumnSelect columns={columns} value={name} onChange={setName} />
      <Textarea
        label="From = to, one a line"
        size="xs"
        rows={3}
        value={table}
        onChange={(event) => setTable(event.currentTarget.value)}
        classNames={{ input: "mono" }}
      />
      <Select
        label="Other values"
        data={[
          { value: "keep", label: "stay" },
          { value: "null", label: "become null" },
        ]}
        value={others}
        onChange={(value) => setOthers(value === "null" ? "null" : "keep")}
        {...within}
      />
      <Write shape={column && pairs.length ? mapped(column, pairs, others) : undefined} onWrite={onWrite} />
    </>
  );
}

function DateIn({ columns, onWrite }: FormProps) {
  const { name, setName, column } = useColumn(columns);
  const [format, setFormat] = useState<DateFormat>("DD.MM.YYYY");
  return (
    <>
      <ColumnSelect columns={columns} value={name} onChange={setName} />
      <Select
        label="Written as"
        data={Object.keys(dateFormats)}
        value={format}
        onChange={(value) => setFormat((value ?? "DD.MM.YYYY") as DateFormat)}
        {...within}
      />
      <Write shape={column ? dateIn(column, format) : undefined} onWrite={onWrite} />
    </>
  );
}

function NumberIn({ columns, onWrite }: FormProps) {
  const { name, setName, column } = useColumn(columns);
  const [style, setStyle] = useState("1.234,56");
  const signs: Record<string, [",", "." | "'" | " "] | [".", "," | "'" | " "]> = {
    "1.234,56": [",", "."],
    "1 234,56": [",", " "],
    "1,234.56": [".", ","],
    "1'234.56": [".", "'"],
  };
  const [decimal, thousands] = signs[style] ?? [".", ","];
  return (
    <>
      <ColumnSelect columns={columns} value={name} onChange={setName} />
      <Select
        label="Written as"
        data={Object.keys(signs)}
        value={style}
        onChange={(value) => setStyle(value ?? "1.234,56")}
        {...within}
      />
      <Write shape={column ? numberIn(column, decimal, thousands) : undefined} onWrite={onWrite} />
    </>
  );
}

function Hash({ columns, onWrite }: FormProps) {
  const { name, setName, column } = useColumn(columns);
  const [before, setBefore] = useState("");
  return (
    <>
      <ColumnSelect columns={columns} value={name} onChange={setName} />
      <TextInput
        label="A text put in front"
        placeholder="makes it hard to guess"
        value={before}
        onChange={(event) => setBefore(event.currentTarget.value)}
        size="xs"
      />
      <Write shape={column ? hashed(column, before) : undefined} onWrite={onWrite} />
    </>
  );
}

const shapes: Record<string, (props: FormProps) => ReactNode> = {
  "join texts": Join,
  "split a text": Split,
  "default for missing": Default,
  "trim, case, spaces": Tidy,
  "map values": MapValues,
  "date in a format": DateIn,
  "number in a format": NumberIn,
  "hash a personal value": Hash,
};

/** Ready-made shapes: each writes an expression, which stands in the editor to be changed. */
export function ReadyShapes(props: FormProps) {
  const [open, setOpen] = useState<string | null>(null);
  const Form = open ? shapes[open] : undefined;
  return (
    <div>
      <div className="chips" role="group" aria-label="Ready-made shapes">
        {Object.keys(shapes).map((name) => (
          <button
            key={name}
            type="button"
            className="chip"
            aria-pressed={open === name}
            onClick={() => setOpen(open === name ? null : name)}
          >
            {name}
          </button>
        ))}
      </div>
      {Form && (
        <div className="ready">
          <Form {...props} />
        </div>
      )}
    </div>
  );
}
