import { Select, TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { useState } from "react";
import { queries } from "../api/queries.ts";
import { Form, inPopover } from "./Form.tsx";

/** `new tables of bookings.public join` or that none do. */
export function joinsSentence({ joins }: Pipeline): string {
  return joins
    ? `new tables ${joins.tables ?? "*"} of ${joins.connection}.${joins.schema} join`
    : "new tables don't join";
}

/** Which new tables of a source get a load by themselves. */
export function JoinsEditor({
  definition,
  onSet,
  close,
}: {
  definition: Pipeline;
  onSet: (definition: Pipeline) => void;
  close: () => void;
}) {
  const first = Object.values(definition.loads)[0];
  const connections = useQuery(queries.connections());
  const [connection, setConnection] = useState<string | null>(definition.joins?.connection ?? null);
  const [schema, setSchema] = useState(definition.joins?.schema ?? "public");
  const [tables, setTables] = useState(definition.joins?.tables ?? "");
  const [into, setInto] = useState(
    definition.joins?.into ?? first?.into.table.split(".")[0]?.replaceAll('"', "") ?? "",
  );
  return (
    <Form
      disabled={connection !== null && (!schema || !into)}
      onSubmit={() => {
        const { joins: _, ...rest } = definition;
        onSet(connection ? { ...rest, joins: { connection, schema, ...(tables ? { tables } : {}), into } } : rest);
        close();
      }}
    >
      <Select
        label="New tables of"
        placeholder="none join by themselves"
        clearable
        data={(connections.data ?? []).map((row) => row.name)}
        value={connection}
        onChange={setConnection}
        {...inPopover}
      />
      {connection && (
        <>
          <TextInput
            label="In the schema"
            value={schema}
            onChange={(event) => setSchema(event.currentTarget.value)}
            classNames={{ input: "mono" }}
          />
          <TextInput
            label="Whose names are like"
            description="* stands for any characters; empty takes all"
            placeholder="booking_*"
            value={tables}
            onChange={(event) => setTables(event.currentTarget.value)}
            classNames={{ input: "mono" }}
          />
          <TextInput
            label="Loaded into the warehouse schema"
            value={into}
            onChange={(event) => setInto(event.currentTarget.value)}
            classNames={{ input: "mono" }}
          />
        </>
      )}
    </Form>
  );
}
