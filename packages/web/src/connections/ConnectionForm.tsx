import { Button, Checkbox, Modal, NumberInput, PasswordInput, Select, TextInput } from "@mantine/core";
import { useForm } from "@mantine/form";
import { IconCheck, IconMinus, IconX } from "@tabler/icons-react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import type { ConnectionView } from "@undercoat/core/api/api";
import { connectionDefaults } from "@undercoat/core/pipeline/address";
import { useNavigate } from "react-router";
import { ApiProblem, answer, path, server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { tellFields } from "../parts/fields.ts";
import { ErrorNote } from "../parts/words.tsx";
import { useCheck } from "./check.ts";

const icons = {
  passed: <IconCheck size={16} aria-label="passed" />,
  failed: <IconX size={16} aria-label="failed" />,
  skipped: <IconMinus size={16} aria-label="skipped" />,
};

/** A connection's settings, with a check that tells each step as it ends. The stored password is never shown. */
export function ConnectionForm({ connection, onClose }: { connection: ConnectionView | null; onClose: () => void }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const form = useForm({
    initialValues: {
      name: connection?.name ?? "",
      host: connection?.host ?? "127.0.0.1",
      port: connection?.port ?? connectionDefaults.port,
      database: connection?.database ?? "",
      user: connection?.user ?? "",
      password: "",
      tls: connection?.tls ?? "off",
      warehouse: connection?.usedBy.some((use) => use.as === "warehouse") ?? false,
    },
    validate: {
      name: (value) => (connection || /^[a-z0-9][a-z0-9_-]{0,62}$/i.test(value) ? null : "Letters, digits, - and _"),
      host: (value) => (value.trim() ? null : "Where the server is"),
      database: (value) => (value.trim() ? null : "The database's name"),
      user: (value) => (value.trim() ? null : "Who signs in there"),
    },
  });
  const { steps, state, error, check } = useCheck();
  const settings = () => {
    const { name: _name, password, warehouse: _, ...rest } = form.values;
    return {
      kind: "postgres" as const,
      ...rest,
      port: Number(rest.port),
      ...(password === "" && connection?.hasPassword ? {} : { password }),
    };
  };
  const save = useMutation({
    mutationFn: () =>
      connection
        ? answer(server.connections[":name"].$put({ ...path({ name: connection.name }), json: settings() }))
        : answer(server.connections.$post({ json: { name: form.values.name, ...settings() } })),
    onSuccess: (saved) => {
      refresh(client, queries.connections().queryKey);
      refresh(client, queries.datasets(saved.name).queryKey);
      onClose();
      navigate(`/connections/${saved.name}`);
    },
    onError: (failed) => tellFields(failed, form),
  });
  return (
    <Modal
      opened
      onClose={onClose}
      title={connection ? `Change ${connection.name}` : "A new connection to PostgreSQL"}
      size="lg"
    >
      <form onSubmit={form.onSubmit(() => save.mutate())} style={{ display: "grid", gap: 12 }}>
        {!connection && (
          <TextInput
            label="Name"
            description="As pipelines and project files call it"
            data-autofocus
            {...form.getInputProps("name")}
          />
        )}
        <div style={{ display: "grid", gridTemplateColumns: "1fr 130px", gap: 12 }}>
          <TextInput label="Host" {...form.getInputProps("host")} />
          <NumberInput
            label="Port"
            min={1}
            max={65535}
            allowDecimal={false}
            thousandSeparator=""
            {...form.getInputProps("port")}
          />
        </div>
        <div style={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 12 }}>
          <TextInput label="Database" {...form.getInputProps("database")} />
          <TextInput label="User" autoComplete="off" {...form.getInputProps("user")} />
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
            {...form.getInputProps("tls")}
          />
        </div>
        <Checkbox
          label="It serves as a warehouse too: check the right to write"
          {...form.getInputProps("warehouse", { type: "checkbox" })}
        />
        {steps.length > 0 && (
          <ol className="steps" aria-label="Check" aria-live="polite">
            {steps.map((step) => (
              <li key={step.step}>
                <span className={step.outcome === "failed" ? "lead" : step.outcome === "passed" ? "good" : "quiet"}>
                  {icons[step.outcome]}
                </span>
                <span>{step.step}</span>
                <span className={step.outcome === "failed" ? "lead" : step.outcome === "skipped" ? "quiet" : undefined}>
                  {step.fact}
                  {step.failure?.detail && <div>{step.failure.detail}</div>}
                  {step.failure?.hint && <div style={{ color: "var(--ink)" }}>{step.failure.hint}</div>}
                </span>
                <span className="mono quiet">{step.milliseconds} ms</span>
              </li>
            ))}
          </ol>
        )}
        <ErrorNote
          error={error ?? (save.error instanceof ApiProblem && save.error.problem.problems ? null : save.error)}
        />
        <div className="actions" style={{ justifyContent: "space-between" }}>
          <Button
            variant="outline"
            loading={state === "checking"}
            onClick={() =>
              !form.validate().hasErrors &&
              check({
                ...settings(),
                name: connection?.name ?? (form.values.name || undefined),
                warehouse: form.values.warehouse,
              })
            }
          >
            Check it
          </Button>
          <Button type="submit" loading={save.isPending}>
            Save
          </Button>
        </div>
      </form>
    </Modal>
  );
}
