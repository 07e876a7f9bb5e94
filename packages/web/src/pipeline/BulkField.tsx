import { NumberInput, Select, SimpleGrid, TextInput } from "@mantine/core";
import type { BulkForm } from "@undercoat/core/pipeline/pipeline";
import { useState } from "react";
import { inPopover } from "./Form.tsx";
import { said } from "./said.ts";

const formats = [
  { value: "csv", label: "CSV" },
  { value: "ndjson", label: "NDJSON" },
];

/** What is said of an export in words, each with its label and an example. */
const words = [
  { name: "begin", label: "Begun by POST to", example: "/exports" },
  { name: "id", label: "Its answer names it at", example: "id" },
  { name: "ask", label: "Asked for at", example: "/exports/{id}" },
  { name: "at", label: "How it stands is at", example: "state" },
  { name: "done", label: "Done is told as", example: "done" },
  { name: "failed", label: "Failed is told as", example: "not told" },
  { name: "parts", label: "Its parts are listed at", example: "parts" },
  { name: "count", label: "Records so far are at", example: "not told" },
] as const;

/** What is sent as it is typed: undefined where nothing is, null where it is no JSON object. */
function bodyOf(text: string): Record<string, unknown> | undefined | null {
  if (text.trim() === "") return undefined;
  try {
    const found: unknown = JSON.parse(text);
    return typeof found === "object" && found !== null && !Array.isArray(found)
      ? (found as Record<string, unknown>)
      : null;
  } catch {
    return null;
  }
}

/** How an application exports all of it in the background; what is missing is told beside the sentence. */
export function BulkField({
  bulk,
  onPut,
}: {
  bulk: BulkForm | undefined;
  onPut: (bulk: BulkForm | undefined) => void;
}) {
  const [body, setBody] = useState(bulk?.body ? JSON.stringify(bulk.body) : "");
  const put = (change: Partial<BulkForm>) => {
    const next = said({ ...bulk, ...change });
    const { format: _, ...rest } = next;
    // What nothing is said of is no export.
    onPut(Object.keys(rest).length ? ({ format: "csv", ...next } as BulkForm) : undefined);
  };
  return (
    <details>
      <summary>
        {bulk ? "All of it is exported in the background" : "It can export all of it in the background"}
      </summary>
      <SimpleGrid cols={3} spacing="sm" verticalSpacing={6}>
        {words.map(({ name, label, example }) => (
          <TextInput
            key={name}
            label={label}
            placeholder={example}
            value={bulk?.[name] ?? ""}
            onChange={(event) => put({ [name]: event.currentTarget.value.trim() || undefined })}
            classNames={{ input: "mono" }}
          />
        ))}
        <Select
          label="A part is"
          data={formats}
          value={bulk?.format ?? "csv"}
          onChange={(format) => bulk && put({ format: format as BulkForm["format"] })}
          allowDeselect={false}
          disabled={!bulk}
          {...inPopover}
        />
        <TextInput
          label="Sent with it, as JSON"
          placeholder="nothing"
          value={body}
          error={bodyOf(body) === null ? "This is no JSON object" : null}
          onChange={(event) => {
            const typed = event.currentTarget.value;
            setBody(typed);
            const next = bodyOf(typed);
            if (next !== null) put({ body: next });
          }}
          classNames={{ input: "mono" }}
        />
        <NumberInput
          label="Not for fewer records than"
          placeholder="10000"
          min={0}
          allowDecimal={false}
          value={bulk?.least ?? ""}
          onChange={(value) => put({ least: value === "" ? undefined : Number(value) })}
        />
      </SimpleGrid>
    </details>
  );
}
