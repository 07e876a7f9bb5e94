import { TextInput, type TextInputProps } from "@mantine/core";

interface Props extends Omit<TextInputProps, "value" | "onChange"> {
  /** what is filtered: `tables` */
  of: string;
  value: string;
  onChange: (value: string) => void;
}

/** The field that narrows a list while it is typed into. */
export function Filter({ of, value, onChange, ...rest }: Props) {
  return (
    <TextInput
      aria-label={`Filter ${of}`}
      placeholder="Filter as you type"
      value={value}
      onChange={(event) => onChange(event.currentTarget.value)}
      w={240}
      {...rest}
    />
  );
}

/** What holds the wanted text in one of its names, in whichever case. */
export function matches(wanted: string, ...names: string[]): boolean {
  const text = wanted.trim().toLowerCase();
  return names.some((name) => name.toLowerCase().includes(text));
}
