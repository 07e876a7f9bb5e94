import { Autocomplete, NumberInput, Select, SimpleGrid, TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { listedName } from "@undercoat/core/dataset/item";
import type { CsvFormat } from "@undercoat/core/pipeline/pipeline";
import { useState } from "react";
import { queries } from "../api/queries.ts";
import { useFill } from "../values/chosen.ts";
import { type EditorProps, fromElsewhere } from "./editors.tsx";
import { Form, inPopover } from "./Form.tsx";

const guessed = { value: "", label: "as guessed" };
const delimiters = [
  guessed,
  { value: ",", label: "comma" },
  { value: ";", label: "semicolon" },
  { value: "\t", label: "tab" },
  { value: "|", label: "bar" },
];
const encodings = ["utf-8", "utf-16", "windows-1252"].map((value) => ({ value, label: value }));
const decimals = [guessed, { value: ".", label: "point" }, { value: ",", label: "comma" }];
const heads = [guessed, { value: "yes", label: "names the columns" }, { value: "no", label: "is a row" }];

/** Which files of a folder are read, and how they are written where that is not as guessed. */
export function FilesEditor({ load, onSet, close }: EditorProps) {
  const fill = useFill();
  const listed = useQuery(queries.datasets(fill(load.from.connection)));
  const [files, setFiles] = useState(load.from.files ?? "");
  const [origin, setOrigin] = useState(load.from.origin ?? "");
  const [csv, setCsv] = useState<CsvFormat>(load.from.csv ?? {});
  const put = (change: { [Name in keyof CsvFormat]: CsvFormat[Name] | undefined }) =>
    setCsv(
      Object.fromEntries(Object.entries({ ...csv, ...change }).filter(([, value]) => value !== undefined)) as CsvFormat,
    );
  return (
    <Form
      disabled={!files.trim()}
      onSubmit={() => {
        const { connection } = load.from;
        const { watermark: _, ...rest } = load;
        const from = {
          connection,
          files: files.trim(),
          ...(origin.trim() ? { origin: origin.trim() } : {}),
          ...(Object.keys(csv).length ? { csv } : {}),
        };
        // Another pattern of the same folder keeps the shape.
        onSet(load.from.files === undefined ? fromElsewhere(rest, from) : { ...rest, from });
        close();
      }}
    >
      <Autocomplete
        label="File or pattern"
        description="* stands for any characters of a name, ** for any folders: 2026/**/*.csv"
        data={(listed.data ?? []).map(listedName)}
        value={files}
        onChange={setFiles}
        classNames={{ input: "mono" }}
        {...inPopover}
      />
      <TextInput
        label="Column that says which file a row came from"
        placeholder="none"
        value={origin}
        onChange={(event) => setOrigin(event.currentTarget.value)}
        classNames={{ input: "mono" }}
      />
      <SimpleGrid cols={3} spacing="sm">
        <Select
          label="Encoding"
          data={[guessed, ...encodings]}
          value={csv.encoding ?? ""}
          onChange={(value) => put({ encoding: (value || undefined) as CsvFormat["encoding"] })}
          allowDeselect={false}
          {...inPopover}
        />
        <Select
          label="Between fields"
          data={delimiters}
          value={csv.delimiter ?? ""}
          onChange={(value) => put({ delimiter: value || undefined })}
          allowDeselect={false}
          {...inPopover}
        />
        <Select
          label="Decimal sign"
          data={decimals}
          value={csv.decimal ?? ""}
          onChange={(value) => put({ decimal: (value || undefined) as CsvFormat["decimal"] })}
          allowDeselect={false}
          {...inPopover}
        />
        <TextInput
          label="Quote"
          placeholder={'"'}
          maxLength={1}
          value={csv.quote ?? ""}
          onChange={(event) => put({ quote: event.currentTarget.value || undefined })}
          classNames={{ input: "mono" }}
        />
        <Select
          label="The first line"
          data={heads}
          value={csv.header === undefined ? "" : csv.header ? "yes" : "no"}
          onChange={(value) => put({ header: value ? value === "yes" : undefined })}
          allowDeselect={false}
          {...inPopover}
        />
        <NumberInput
          label="Lines before it"
          min={0}
          max={10_000}
          allowDecimal={false}
          value={csv.skip ?? 0}
          onChange={(value) => put({ skip: Number(value) || undefined })}
        />
      </SimpleGrid>
    </Form>
  );
}
