import { Autocomplete, NumberInput, Select, SimpleGrid, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useQuery } from "@tanstack/react-query";
import { listedName } from "@undercoat/core/dataset/item";
import { formatOf } from "@undercoat/core/file/format";
import type { CsvFormat, From } from "@undercoat/core/pipeline/pipeline";
import { useState } from "react";
import { queries } from "../api/queries.ts";
import { useFill } from "../values/chosen.ts";
import { type EditorProps, fromElsewhere } from "./editors.tsx";
import { FileGlance } from "./FileGlance.tsx";
import { Form, inPopover } from "./Form.tsx";
import { said } from "./said.ts";
import { TypesScan } from "./TypesScan.tsx";

const delimiters = [
  { value: ",", label: "comma" },
  { value: ";", label: "semicolon" },
  { value: "\t", label: "tab" },
  { value: "|", label: "bar" },
];
const encodings = ["utf-8", "utf-16", "windows-1252"].map((value) => ({ value, label: value }));
const decimals = [
  { value: ".", label: "point" },
  { value: ",", label: "comma" },
];
const dates = [
  { value: "dmy", label: "day, month, year" },
  { value: "mdy", label: "month, day, year" },
];
const heads = [
  { value: "yes", label: "names columns" },
  { value: "no", label: "is a row" },
];
const afterwards = [
  { value: "keep", label: "stay where they are" },
  { value: "delete", label: "are deleted" },
  { value: "move", label: "are moved to a folder" },
];

/** What is done with files once they are loaded, as a sentence behind others; nothing where they stay. */
export function afterWords(after = "keep"): string {
  if (after === "keep") return "";
  return after === "delete"
    ? " Once they are loaded they are deleted."
    : ` Once they are loaded they are moved to ${after.slice("move:".length)}.`;
}

/** Which files of a folder are read, how they are written where that is not as guessed, and what becomes of them; beside it their beginning as it stands. */
export function FilesEditor({ load, onSet, close }: EditorProps) {
  const fill = useFill();
  const { connection } = load.from;
  const listed = useQuery(queries.datasets(fill(connection)));
  const [from, setFrom] = useState<From>(load.from.files === undefined ? { connection } : load.from);
  const put = (change: Partial<From>) => setFrom(said({ ...from, ...change }));
  const csv = from.csv ?? {};
  const write = (change: { [Name in keyof CsvFormat]: CsvFormat[Name] | undefined }) => {
    const next = said({ ...csv, ...change }) as CsvFormat;
    put({ csv: Object.keys(next).length ? next : undefined });
  };
  const files = from.files ?? "";
  const format = formatOf(files.replace(/\{,?\.?gz,?\}$/, ""));
  const [asked] = useDebouncedValue({ ...from, connection: fill(connection), files: fill(files.trim()) }, 300);
  const glance = useQuery(queries.glance(asked));
  const form = glance.data?.form;
  const guessed = (label: string | undefined) => ({ value: "", label: label ? `guessed: ${label}` : "as guessed" });
  const labelOf = (list: { value: string; label: string }[], value: string | undefined) =>
    list.find((one) => one.value === value)?.label;
  const workbook = format === "xlsx";
  const json = format === "json" || format === "ndjson";
  const text = !json && !workbook && format !== "parquet";
  const after = from.after?.startsWith("move:") ? "move" : (from.after ?? "keep");
  return (
    <Form
      disabled={!files.trim()}
      onSubmit={() => {
        const { watermark: _, ...rest } = load;
        const next = said({ ...from, files: files.trim(), origin: from.origin?.trim() });
        // Another pattern of the same folder keeps the shape.
        onSet(load.from.files === undefined ? fromElsewhere(rest, next) : { ...rest, from: next });
        close();
      }}
    >
      <SimpleGrid cols={2} spacing="sm">
        <Autocomplete
          label="File or pattern"
          description="* stands for any characters of a name, ** for any folders: 2026/**/*.csv"
          data={(listed.data ?? []).map(listedName)}
          value={files}
          onChange={(value) => put({ files: value })}
          openOnFocus={false}
          classNames={{ input: "mono" }}
          {...inPopover}
        />
        <TextInput
          label={
            workbook ? "Column that says which sheet a row came from" : "Column that says which file a row came from"
          }
          description="With it, rows of a file that is gone can go too"
          placeholder="none"
          value={from.origin ?? ""}
          onChange={(event) => put({ origin: event.currentTarget.value })}
          classNames={{ input: "mono" }}
        />
      </SimpleGrid>
      <SimpleGrid cols={4} spacing="sm">
        {json || format === "parquet" ? null : workbook ? (
          <>
            <TextInput
              label="Sheet or pattern"
              placeholder="the first that is shown"
              value={from.sheets ?? ""}
              onChange={(event) => put({ sheets: event.currentTarget.value })}
            />
            <TextInput
              label="Block of cells"
              placeholder="all, or B3:H200"
              value={from.range ?? ""}
              onChange={(event) => put({ range: event.currentTarget.value.toUpperCase() })}
              classNames={{ input: "mono" }}
            />
          </>
        ) : (
          <>
            <Select
              label="Encoding"
              data={[guessed(form?.encoding), ...encodings]}
              value={csv.encoding ?? ""}
              onChange={(value) => write({ encoding: (value || undefined) as CsvFormat["encoding"] })}
              allowDeselect={false}
              {...inPopover}
            />
            <Select
              label="Between fields"
              data={[guessed(labelOf(delimiters, form?.delimiter)), ...delimiters]}
              value={csv.delimiter ?? ""}
              onChange={(value) => write({ delimiter: value || undefined })}
              allowDeselect={false}
              {...inPopover}
            />
            <Select
              label="Decimal sign"
              data={[
                guessed(glance.data ? (glance.data.columns.some((one) => one.decimal) ? "comma" : "point") : undefined),
                ...decimals,
              ]}
              value={csv.decimal ?? ""}
              onChange={(value) => write({ decimal: (value || undefined) as CsvFormat["decimal"] })}
              allowDeselect={false}
              {...inPopover}
            />
            <Select
              label="Dates"
              data={[guessed(labelOf(dates, form?.dates) ?? (form ? "as ISO 8601" : undefined)), ...dates]}
              value={csv.dates ?? ""}
              onChange={(value) => write({ dates: (value || undefined) as CsvFormat["dates"] })}
              allowDeselect={false}
              {...inPopover}
            />
            <TextInput
              label="Quote"
              placeholder={'"'}
              maxLength={1}
              value={csv.quote ?? ""}
              onChange={(event) => write({ quote: event.currentTarget.value || undefined })}
              classNames={{ input: "mono" }}
            />
          </>
        )}
        {json ? (
          <Select
            label="Objects within a record"
            data={[
              { value: "no", label: "stay whole, as jsonb" },
              { value: "yes", label: "are taken apart" },
            ]}
            value={from.flatten ? "yes" : "no"}
            onChange={(value) => put({ flatten: value === "yes" || undefined })}
            allowDeselect={false}
            {...inPopover}
          />
        ) : null}
        {(workbook || text) && (
          <Select
            label={workbook ? "The first row" : "The first line"}
            data={[guessed(form ? labelOf(heads, form.header ? "yes" : "no") : undefined), ...heads]}
            value={csv.header === undefined ? "" : csv.header ? "yes" : "no"}
            onChange={(value) => write({ header: value ? value === "yes" : undefined })}
            allowDeselect={false}
            {...inPopover}
          />
        )}
        {(workbook || text) && (
          <NumberInput
            label={workbook ? "Rows before it" : "Lines before it"}
            min={0}
            max={10_000}
            allowDecimal={false}
            value={csv.skip ?? 0}
            onChange={(value) => write({ skip: Number(value) || undefined })}
          />
        )}
        <Select
          label="Once loaded, files"
          data={afterwards}
          value={after}
          onChange={(value) =>
            put({ after: value === "keep" ? undefined : value === "move" ? "move:done" : (value ?? undefined) })
          }
          allowDeselect={false}
          {...inPopover}
        />
        {after === "move" && (
          <TextInput
            label="To the folder"
            value={from.after?.slice("move:".length) ?? ""}
            onChange={(event) => put({ after: `move:${event.currentTarget.value}` })}
            classNames={{ input: "mono" }}
          />
        )}
      </SimpleGrid>
      {files.trim() !== "" && (
        <TypesScan
          from={asked}
          types={from.types}
          onFound={(scan) =>
            put({ types: scan.types, ...(scan.decimal ? { csv: { ...csv, decimal: scan.decimal } } : {}) })
          }
          onForget={() => put({ types: undefined })}
        />
      )}
      <FileGlance glance={glance.data} error={glance.error} />
    </Form>
  );
}
