import { Select, TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import type { GivenValue, Parameter } from "@undercoat/core/parameter/value";
import { queries } from "../api/queries.ts";

interface Props {
  label: string;
  parameter: Parameter;
  value: GivenValue | undefined;
  /** undefined takes the value away, so that the default counts */
  onChange: (value: GivenValue | undefined) => void;
  placeholder?: string;
  /** in a table its column's head is the label */
  bare?: boolean;
}

/** A value as it is typed; a list has a comma between its members. */
export const typed = (value: GivenValue | undefined) =>
  value === undefined || value === null ? "" : Array.isArray(value) ? value.join(", ") : String(value);

/** A list as its members, anything else as it is. */
const given = (parameter: Parameter, text: string): GivenValue =>
  parameter.type.endsWith("[]") ? text.split(",").map((one) => one.trim()) : text;

const hints: Partial<Record<Parameter["type"], string>> = {
  date: "2026-01-31, or today-P1Y",
  timestamptz: "2026-01-31T06:00Z, or now-PT6H",
  interval: "PT6H",
};

/** The field for one value, by its parameter's type. */
export function ValueField({ label, parameter, value, onChange, placeholder, bare }: Props) {
  const connections = useQuery({ ...queries.connections(), enabled: parameter.type === "connection" });
  const named = bare ? { "aria-label": label } : { label };
  const choices =
    parameter.oneOf?.map(String) ??
    (parameter.type === "boolean"
      ? ["true", "false"]
      : parameter.type === "connection"
        ? (connections.data ?? []).map((row) => row.name)
        : null);
  if (choices && !parameter.type.endsWith("[]"))
    return (
      <Select
        size="xs"
        {...named}
        data={choices}
        value={typed(value) || null}
        placeholder={placeholder}
        clearable
        onChange={(next) => onChange(next ?? undefined)}
        comboboxProps={{ withinPortal: false }}
      />
    );
  return (
    <TextInput
      size="xs"
      {...named}
      description={bare ? undefined : (parameter.note ?? hints[parameter.type])}
      placeholder={placeholder ?? hints[parameter.type]}
      value={typed(value)}
      onChange={(event) => {
        const text = event.currentTarget.value;
        onChange(text === "" ? undefined : given(parameter, text));
      }}
      classNames={{ input: "mono" }}
    />
  );
}
