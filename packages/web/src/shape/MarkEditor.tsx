import { NumberInput, Select, Textarea, TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { usualMarks } from "@undercoat/core/mark/mark";
import type { Load, MarkForm } from "@undercoat/core/pipeline/pipeline";
import { useState } from "react";
import { queries } from "../api/queries.ts";
import { Form, inPopover } from "../pipeline/Form.tsx";
import { said } from "../pipeline/said.ts";
import { useFill } from "../values/chosen.ts";

/** `its source is not told`, `its source is told by POST /scans/{scan_id}/comments` */
export function markSentence({ report, from }: Load): string {
  const who = report?.connection && report.connection !== from.connection ? report.connection : "its source";
  if (!report) return "its source is not told";
  return report.sql === undefined
    ? `${who} is told by ${report.method ?? "POST"} ${report.path}`
    : `${who} is told by SQL`;
}

/** True where somebody can be told of a load's rejected rows: an application that is its source, or a database that may be written to. */
export function useMayTell({ report, from }: Load): boolean {
  const fill = useFill();
  const { data = [] } = useQuery(queries.connections());
  const source = fill(from.connection);
  return (
    report !== undefined ||
    data.some(({ name, about }) => about.told === "statements" || (about.told && name === source))
  );
}

/** A body as it is typed; undefined where it is no JSON object. */
function bodyOf(text: string): Record<string, unknown> | undefined {
  try {
    const body: unknown = JSON.parse(text);
    return typeof body === "object" && body !== null && !Array.isArray(body)
      ? (body as Record<string, unknown>)
      : undefined;
  } catch {
    return undefined;
  }
}

/** What the source of a load, or a connection beside it that may write, is told of each row that was turned away. */
export function MarkEditor({ load, onSet, close }: { load: Load; onSet: (load: Load) => void; close: () => void }) {
  const fill = useFill();
  const { report, from } = load;
  const connections = useQuery(queries.connections()).data ?? [];
  const able = connections.filter(({ about }) => about.told !== null);
  const own = able.find(({ name }) => name === fill(from.connection));
  const [through, setThrough] = useState(report ? (report.connection ?? from.connection) : "");
  const [form, setForm] = useState<MarkForm>(report ?? {});
  const [body, setBody] = useState(report?.body ? JSON.stringify(report.body) : '{"text":"{reason}"}');
  const chosen = able.find(({ name }) => name === fill(through));
  const asks = through === "" ? null : (chosen?.about.told ?? (report?.sql === undefined ? "requests" : "statements"));
  const wrongBody = asks === "requests" && body.trim() !== "" && bodyOf(body) === undefined;
  const ready =
    asks === null ||
    (asks === "requests" ? /^\/[^\s#]*$/.test(form.path ?? "") && !wrongBody : Boolean(form.sql?.trim()));
  const others = able.filter(({ name }) => name !== own?.name);
  return (
    <Form
      disabled={!ready}
      onSubmit={() => {
        const { report: _, ...rest } = load;
        if (asks === null) onSet(rest);
        else {
          const beside = through === from.connection && asks === "requests" ? undefined : through;
          const { method, path, limit, sql } = form;
          const how = asks === "requests" ? { method, path, body: bodyOf(body) } : { sql };
          onSet({ ...rest, report: said({ connection: beside, ...how, limit }) });
        }
        close();
      }}
    >
      <Select
        label="Of a row that is rejected"
        data={[
          { value: "", label: "nobody is told" },
          ...(own ? [{ value: from.connection, label: `its source ${from.connection} is told` }] : []),
          ...others.map(({ name, about }) => ({ value: name, label: `${name} (${about.title}) is told` })),
        ]}
        value={through}
        onChange={(value) => setThrough(value ?? "")}
        allowDeselect={false}
        {...inPopover}
      />
      {asks === "requests" && (
        <>
          <div style={{ display: "grid", gridTemplateColumns: "110px 1fr", gap: 12 }}>
            <Select
              label="Method"
              data={["POST", "PUT", "PATCH"]}
              value={form.method ?? "POST"}
              onChange={(value) => setForm({ ...form, method: value === "POST" ? undefined : value } as MarkForm)}
              allowDeselect={false}
              {...inPopover}
            />
            <TextInput
              label="Path"
              placeholder="/scans/{scan_id}/comments"
              value={form.path ?? ""}
              onChange={(event) => setForm({ ...form, path: event.currentTarget.value.trim() })}
              classNames={{ input: "mono" }}
            />
          </div>
          <Textarea
            label="Sent with it, as JSON"
            description="{name} is the value of a column that is read; {reason} and {message} say what is wrong"
            autosize
            minRows={2}
            value={body}
            error={wrongBody ? "This is no JSON object" : null}
            onChange={(event) => setBody(event.currentTarget.value)}
            classNames={{ input: "mono" }}
          />
        </>
      )}
      {asks === "statements" && (
        <Textarea
          label="Statement"
          description=":name is the value of a column that is read; :reason and :message say what is wrong"
          placeholder="UPDATE repair SET note = :reason WHERE repair_id = :repair_id"
          autosize
          minRows={3}
          value={form.sql ?? ""}
          onChange={(event) => setForm({ ...form, sql: event.currentTarget.value })}
          classNames={{ input: "mono" }}
        />
      )}
      {asks !== null && (
        <NumberInput
          label="Most rows told in one run"
          description="The others wait for the next; each row is told once"
          placeholder={String(usualMarks)}
          min={1}
          max={10_000}
          allowDecimal={false}
          value={form.limit ?? ""}
          onChange={(value) => setForm({ ...form, limit: value === "" ? undefined : Number(value) } as MarkForm)}
        />
      )}
    </Form>
  );
}
