import { NumberInput, PasswordInput, Select, TextInput } from "@mantine/core";
import type { NetworkSettings } from "@undercoat/core/pipeline/pipeline";
import { useMe } from "../../account/me.ts";
import type { FieldsProps, KindForm } from "./kind.ts";

/** Fields that kinds share which are reached by network. */

export const Pair = ({ wide, children }: { wide?: boolean; children: React.ReactNode }) => (
  <div style={{ display: "grid", gridTemplateColumns: wide ? "1fr 130px" : "1fr 1fr", gap: 12 }}>{children}</div>
);

export function HostFields({ form }: FieldsProps) {
  return (
    <Pair wide>
      <TextInput label="Host" {...form.getInputProps("fields.host")} />
      <NumberInput
        label="Port"
        min={1}
        max={65535}
        allowDecimal={false}
        thousandSeparator=""
        {...form.getInputProps("fields.port")}
      />
    </Pair>
  );
}

export const kept = (connection: FieldsProps["connection"]) => (connection?.hasPassword ? "kept as it is" : "");

/** A database server's fields. */
/** Whether loads may write to a server what they say of rejected rows, which an administrator allows. */
function Marks({ form }: Pick<FieldsProps, "form">) {
  const { user } = useMe();
  return (
    <Select
      label="Marks of rejected rows"
      data={[
        { value: "no", label: "are not written there" },
        { value: "yes", label: "loads may write them there, by SQL" },
      ]}
      allowDeselect={false}
      disabled={user.role !== "administrator"}
      {...form.getInputProps("fields.marks")}
    />
  );
}

export function ServerFields({ form, connection }: FieldsProps) {
  return (
    <>
      <HostFields form={form} connection={connection} />
      <Pair>
        <TextInput label="Database" {...form.getInputProps("fields.database")} />
        <TextInput label="User" autoComplete="off" {...form.getInputProps("fields.user")} />
      </Pair>
      <Pair>
        <PasswordInput
          label="Password"
          autoComplete="new-password"
          placeholder={kept(connection)}
          {...form.getInputProps("password")}
        />
        <Select
          label="TLS"
          data={[
            { value: "off", label: "off" },
            { value: "require", label: "require, any certificate" },
            { value: "verify", label: "verify the certificate" },
          ]}
          allowDeselect={false}
          {...form.getInputProps("fields.tls")}
        />
      </Pair>
      <Marks form={form} />
    </>
  );
}

/** What the fields of a database server hold first. */
export const serverInitial = ({ host, port, database, user, tls, marks }: Partial<NetworkSettings>, usual: number) => ({
  host: host ?? "127.0.0.1",
  port: String(port ?? usual),
  database: database ?? "",
  user: user ?? "",
  tls: tls ?? "off",
  marks: marks ? "yes" : "no",
});

export const serverWrong: KindForm["wrong"] = {
  host: (value) => (value.trim() ? null : "Where the server is"),
  database: (value) => (value.trim() ? null : "The database's name"),
  user: (value) => (value.trim() ? null : "Who signs in there"),
};

export const serverSettings = ({ host = "", port, database = "", user = "", tls, marks }: Record<string, string>) => ({
  host: host.trim(),
  port: Number(port),
  database,
  user,
  tls: tls as NetworkSettings["tls"],
  ...(marks === "yes" ? { marks: true as const } : {}),
});
