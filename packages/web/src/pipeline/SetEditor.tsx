import { Select } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { queries } from "../api/queries.ts";
import { ErrorNote } from "../parts/words.tsx";
import { useFill } from "../values/chosen.ts";
import { type EditorProps, fromElsewhere } from "./editors.tsx";
import { Form, inPopover } from "./Form.tsx";

/** Which set of records of a service, or of a module, is read. */
export function SetEditor({ load, onSet, close }: EditorProps) {
  const fill = useFill();
  const { connection, table = null } = load.from;
  const listed = useQuery(queries.datasets(fill(connection)));
  const [chosen, setChosen] = useState<string | null>(table);
  return (
    <Form
      disabled={!chosen}
      onSubmit={() => {
        const { watermark: _, ...rest } = load;
        if (chosen && chosen !== table) onSet(fromElsewhere(rest, { connection, table: chosen }));
        close();
      }}
    >
      <Select
        label="Set of records"
        data={(listed.data ?? []).map((row) => row.name)}
        value={chosen}
        onChange={setChosen}
        searchable
        classNames={{ input: "mono" }}
        {...inPopover}
      />
      <ErrorNote error={listed.error} />
    </Form>
  );
}
