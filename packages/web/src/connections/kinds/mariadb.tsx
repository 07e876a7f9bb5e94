import { Select } from "@mantine/core";
import type { MariaSettings } from "@undercoat/core/pipeline/pipeline";
import type { KindForm } from "./kind.ts";
import { ServerFields, serverInitial, serverSettings, serverWrong } from "./network.tsx";

export const mariadb: KindForm<MariaSettings> = {
  title: "MariaDB",
  warehouse: false,
  password: true,
  initial: (settings) => ({ ...serverInitial(settings, 3306), zeroDates: settings.zeroDates ?? "reject" }),
  wrong: serverWrong,
  settings: (fields) => ({
    kind: "mariadb",
    ...serverSettings(fields),
    ...(fields.zeroDates === "null" ? { zeroDates: "null" as const } : {}),
  }),
  Fields: (props) => (
    <>
      <ServerFields {...props} />
      <Select
        label="A day that no calendar has, such as 0000-00-00"
        data={[
          { value: "reject", label: "its row is rejected" },
          { value: "null", label: "is read as null" },
        ]}
        allowDeselect={false}
        {...props.form.getInputProps("fields.zeroDates")}
      />
    </>
  ),
};
