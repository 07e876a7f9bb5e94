import { Button, Select, TextInput } from "@mantine/core";
import { columnSql } from "@undercoat/core/shape/ready";
import { identifier, parseTableName, qualified } from "@undercoat/core/sql/identifier";
import { useState } from "react";

/** A table's name as a person would write it, quoted only where it must be. */
function tableSql(text: string): string | null {
  try {
    const { schema, table } = parseTableName(text);
    return columnSql(schema) === schema && columnSql(table) === table
      ? `${schema}.${table}`
      : qualified({ schema, table });
  } catch {
    return null;
  }
}

/** Writes a condition that looks a value up in a table of the warehouse. */
export function Lookup({
  columns,
  onWrite,
}: {
  columns: readonly { name: string }[];
  onWrite: (check: string) => void;
}) {
  const [column, setColumn] = useState<string | null>(null);
  const [how, setHow] = useState<"is one of" | "exists in">("is one of");
  const [table, setTable] = useState("");
  const [key, setKey] = useState("");
  const named = tableSql(table);
  const value = column ? columnSql(column) : "";
  // Inside the table's own scope a bare name could be one of its columns; IN keeps the load's column outside.
  const check =
    named && column && key
      ? how === "is one of"
        ? `${value} IN (SELECT ${columnSql(key)} FROM ${named})`
        : `${value} IS NULL OR ${value} IN (SELECT looked.${identifier(key)} FROM ${named} looked)`
      : null;
  return (
    <div className="ready">
      <Select
        label="Column"
        size="xs"
        data={columns.map((entry) => entry.name)}
        value={column}
        onChange={setColumn}
        searchable
        comboboxProps={{ withinPortal: false }}
      />
      <Select
        label="Must be"
        size="xs"
        data={[
          { value: "is one of", label: "one of" },
          { value: "exists in", label: "null or one of" },
        ]}
        value={how}
        onChange={(next) => setHow(next === "exists in" ? next : "is one of")}
        comboboxProps={{ withinPortal: false }}
      />
      <TextInput
        label="Table of the warehouse"
        size="xs"
        placeholder="fleet.port"
        value={table}
        error={table && !named ? "schema.table" : null}
        onChange={(event) => setTable(event.currentTarget.value)}
        classNames={{ input: "mono" }}
      />
      <TextInput
        label="Its column"
        size="xs"
        placeholder="code"
        value={key}
        onChange={(event) => setKey(event.currentTarget.value)}
        classNames={{ input: "mono" }}
      />
      <Button
        size="xs"
        variant="outline"
        disabled={!check}
        onClick={() => check && onWrite(check)}
        style={{ alignSelf: "end" }}
      >
        Write it
      </Button>
    </div>
  );
}
