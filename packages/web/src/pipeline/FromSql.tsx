import { Input } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import type { BothColumns } from "@undercoat/core/api/api";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import { ApiProblem } from "../api/client.ts";
import { queries } from "../api/queries.ts";
import { ExpressionField } from "../shape/ExpressionField.tsx";
import { useChosen } from "../values/chosen.ts";

/** What the source says to SQL that is being typed. */
interface Checked {
  problem: { message: string; position: number | null } | null;
  /** the source's columns, as last known */
  columns: BothColumns["source"];
}

/** Asks the source, while it is typed, whether it takes a load's query or condition. */
export function useFromCheck(
  from: Load["from"],
  part: "query" | "where",
  { load, warehouse }: { load: Load; warehouse: string },
): Checked {
  const [settled] = useDebouncedValue(from, 250);
  const { declared, given } = useChosen();
  const { data, error } = useQuery({
    ...queries.columns({ from: settled, warehouse, table: load.into.table, declared, given }),
    enabled: settled[part]?.trim() !== undefined && settled[part]?.trim() !== "",
    placeholderData: keepPreviousData,
  });
  const columns = data?.source ?? [];
  if (!(error instanceof ApiProblem) || !from[part]?.trim()) return { problem: null, columns };
  const problems = error.problem.problems ?? [];
  const own = problems.find((problem) => problem.path.includes(part));
  // What is wrong elsewhere in the load is told where it stands.
  if (!own && problems.length) return { problem: null, columns };
  return { problem: { message: own?.message ?? error.message, position: own?.position ?? null }, columns };
}

interface Props {
  label: string;
  description?: string;
  value: string;
  onChange: (value: string) => void;
  checked: Checked;
  placeholder: string;
}

/** The field for a load's query or condition, with what is wrong underlined where it stands. */
export function FromSql({ label, description, value, onChange, checked: { problem, columns }, placeholder }: Props) {
  return (
    <Input.Wrapper
      label={label}
      description={description}
      error={problem?.message}
      labelElement="div"
      inputContainer={(field) => <div style={{ margin: "5px 0" }}>{field}</div>}
    >
      <ExpressionField
        label={label}
        value={value}
        onChange={onChange}
        columns={columns}
        problem={problem}
        placeholder={placeholder}
        ofTheMoment
      />
    </Input.Wrapper>
  );
}
