import { Checkbox, Select, TextInput } from "@mantine/core";
import { periodsOf, periodsProblem } from "@undercoat/core/http/periods";
import type { From } from "@undercoat/core/pipeline/pipeline";
import { inPopover } from "./Form.tsx";
import { said } from "./said.ts";

const splits = [
  { value: "", label: "all at once" },
  { value: "day", label: "day by day" },
  { value: "week", label: "week by week" },
  { value: "month", label: "month by month" },
];
const agains = [
  { value: "", label: "every time" },
  { value: "P1D", label: "one day back" },
  { value: "P3D", label: "three days back" },
  { value: "P7D", label: "a week back" },
  { value: "P1M", label: "a month back" },
  { value: "P3M", label: "three months back" },
];

/** How a report is asked for part by part, as a sentence behind others; nothing for what is none. */
export function reportWords(from: From): string {
  const periods = periodsOf(from);
  if (!periods) return "";
  const again = agains.find(({ value }) => value === periods.again)?.label ?? periods.again;
  return ` It is asked for ${splits.find(({ value }) => value === periods.unit)?.label}, from ${periods.from.text} to ${periods.to.text}; each ${periods.unit} takes the place of its own rows${again ? `, and those that are loaded are asked for again ${again}` : ""}.`;
}

/** The parameters that a report's own fields hold. */
export function reportParameters(from: From): string[] {
  const periods = periodsOf(from);
  return periods ? ["split", periods.from.parameter, periods.to.parameter] : [];
}

/** Fields of a form: whether an application is asked for all at once or for a report by date, part by part, and how. */
export function ReportFields({ from, onPut }: { from: From; onPut: (change: Partial<From>) => void }) {
  const periods = periodsOf(from);
  const { parameters = {}, period = {} } = from;
  const split = (unit: string | null) => {
    const { split: _, ...others } = parameters;
    if (unit) {
      const given = { from: "today-P30D", to: "today", ...others };
      onPut({ parameters: { ...(periods ? others : given), split: unit } });
      return;
    }
    const rest = Object.entries(others).filter(([name]) => !reportParameters(from).includes(name));
    onPut(said({ parameters: Object.fromEntries(rest), period: undefined }) as Partial<From>);
  };
  const put = (change: { [Name in keyof typeof period]?: (typeof period)[Name] | undefined }) => {
    const next = said({ ...period, ...change });
    onPut({ period: Object.keys(next).length ? next : undefined } as Partial<From>);
  };
  const bound = (name: "from" | "to", label: string) => {
    const { parameter = name, text = "" } = periods?.[name] ?? {};
    return (
      <TextInput
        label={`${label}: ${parameter}`}
        value={text}
        onChange={(event) => onPut({ parameters: { ...parameters, [parameter]: event.currentTarget.value.trim() } })}
        classNames={{ input: "mono" }}
      />
    );
  };
  const problem = periods ? periodsProblem(from) : null;
  return (
    <>
      <Select
        label="Asked for"
        error={problem}
        data={splits}
        value={periods?.unit ?? ""}
        onChange={split}
        allowDeselect={false}
        {...inPopover}
      />
      {periods && (
        <>
          {bound("from", "First day")}
          {bound("to", "Up to")}
          <Select
            label="The last day asked for"
            data={[
              { value: "excluded", label: "does not count" },
              { value: "included", label: "counts" },
            ]}
            value={period.ends ?? "excluded"}
            onChange={(value) => put({ ends: value as "included" | "excluded" })}
            allowDeselect={false}
            {...inPopover}
          />
          <TextInput
            label={`Column of the ${periods.unit}`}
            placeholder="period"
            value={period.column ?? ""}
            onChange={(event) => put({ column: event.currentTarget.value.trim() || undefined })}
            classNames={{ input: "mono" }}
          />
          <Select
            label={`Loaded ${periods.unit}s again`}
            data={
              agains.some(({ value }) => value === (period.again ?? ""))
                ? agains
                : [...agains, { value: period.again ?? "", label: period.again ?? "" }]
            }
            value={period.again ?? ""}
            onChange={(value) => put({ again: value || undefined })}
            allowDeselect={false}
            {...inPopover}
          />
        </>
      )}
    </>
  );
}

/** Parameters that name several of some things, each of which is ticked. */
export function Choices({
  choices,
  parameters,
  onPut,
}: {
  choices: readonly { parameter: string; values: string[] }[];
  parameters: Readonly<Record<string, string>>;
  onPut: (parameter: string, value: string) => void;
}) {
  return choices.map(({ parameter, values }) => (
    <Checkbox.Group
      key={parameter}
      label={parameter}
      value={parameters[parameter]?.split(",") ?? values}
      onChange={(ticked) => onPut(parameter, values.filter((value) => ticked.includes(value)).join(","))}
    >
      <div className="actions" style={{ marginTop: 4 }}>
        {values.map((value) => (
          <Checkbox key={value} size="xs" value={value} label={value} />
        ))}
      </div>
    </Checkbox.Group>
  ));
}
