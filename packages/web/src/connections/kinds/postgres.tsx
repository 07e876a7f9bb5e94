import { NumberInput, PasswordInput, Select, TextInput } from "@mantine/core";
import { type ServerSettings, serverDefaults } from "@undercoat/core/pipeline/pipeline";
import type { KindForm } from "./kind.ts";

export const postgres: KindForm<ServerSettings> = {
  title: "PostgreSQL",
  warehouse: true,
  password: true,
  initial: ({ host, port, database, user, tls }) => ({
    host: host ?? "127.0.0.1",
    port: String(port ?? serverDefaults.port),
    database: database ?? "",
    user: user ?? "",
    tls: tls ?? serverDefaults.tls,
  }),
  wrong: {
    host: (value) => (value.trim() ? null : "Where the server is"),
    database: (value) => (value.trim() ? null : "The database's name"),
    user: (value) => (value.trim() ? null : "Who signs in there"),
  },
  settings: ({ host = "", port, database = "", user = "", tls }) => ({
    kind: "postgres",
    host,
    port: Number(port),
    database,
    user,
    tls: tls as ServerSettings["tls"],
  }),
  Fields: ({ form, connection }) => (
    <>
      <div style={{ display: "grid", gridTemplateColumns: "1fr 130px", gap: 12 }}>
        <TextInput label="Host" {...form.getInputProps("fields.host")} />
        <NumberInput
          label="Port"
          min={1}
          max={65535}
          allowDecimal={false}
          thousandSeparator=""
          {...form.getInputProps("fields.port")}
        />
      </div>
      <div style={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 12 }}>
        <TextInput label="Database" {...form.getInputProps("fields.database")} />
        <TextInput label="User" autoComplete="off" {...form.getInputProps("fields.user")} />
      </div>
      <div style={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 12 }}>
        <PasswordInput
          label="Password"
          autoComplete="new-password"
          placeholder={connection?.hasPassword ? "kept as it is" : ""}
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
      </div>
    </>
  ),
};
