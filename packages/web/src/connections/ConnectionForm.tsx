import { Button, Checkbox, Modal, Select, TextInput } from "@mantine/core";
import { useForm } from "@mantine/form";
import { IconCheck, IconMinus, IconX } from "@tabler/icons-react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import type { ConnectionView } from "@undercoat/core/api/api";
import { useNavigate } from "react-router";
import { ApiProblem, answer, path, server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { tellFields } from "../parts/fields.ts";
import { ErrorNote } from "../parts/words.tsx";
import { useCheck } from "./check.ts";
import type { FormValues } from "./kinds/kind.ts";
import { kindForms } from "./kinds/kinds.ts";

const icons = {
  passed: <IconCheck size={16} aria-label="passed" />,
  failed: <IconX size={16} aria-label="failed" />,
  skipped: <IconMinus size={16} aria-label="skipped" />,
};

/** A connection's settings, with a check that tells each step as it ends. The stored password is never shown. */
export function ConnectionForm({ connection, onClose }: { connection: ConnectionView | null; onClose: () => void }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const form = useForm<FormValues>({
    initialValues: {
      name: connection?.name ?? "",
      kind: connection?.kind ?? "postgres",
      password: "",
      warehouse: connection?.usedBy.some((use) => use.as === "warehouse") ?? false,
      fields: kindForms[connection?.kind ?? "postgres"].initial(connection ?? {}),
    },
    validate: (values) => ({
      ...(connection || /^[a-z0-9][a-z0-9_-]{0,62}$/i.test(values.name) ? {} : { name: "Letters, digits, - and _" }),
      ...Object.fromEntries(
        Object.entries(kindForms[values.kind].wrong).map(([field, wrong]) => [
          `fields.${field}`,
          wrong(values.fields[field] ?? ""),
        ]),
      ),
    }),
  });
  const kind = kindForms[form.values.kind];
  // What was typed into a field that both kinds have stays; what a kind has by itself does not.
  const choose = (next: ConnectionView["kind"]) => {
    const [first, then] = [kind.initial({}), kindForms[next].initial({})];
    const typed = Object.entries(form.values.fields).filter(([name, value]) => name in then && value !== first[name]);
    form.setValues({ kind: next, fields: { ...then, ...Object.fromEntries(typed) } });
  };
  const { steps, state, error, check } = useCheck();
  const settings = () => {
    const { password, fields } = form.values;
    const kept = !kind.password || (password === "" && connection?.hasPassword);
    return { ...kind.settings(fields), ...(kept ? {} : { password }) };
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
    onError: (failed) =>
      tellFields(failed, {
        setFieldError: (field, words) =>
          form.setFieldError(Object.hasOwn(form.values.fields, field) ? `fields.${field}` : field, words),
      }),
  });
  return (
    <Modal opened onClose={onClose} title={connection ? `Change ${connection.name}` : "A new connection"} size="lg">
      <form onSubmit={form.onSubmit(() => save.mutate())} style={{ display: "grid", gap: 12 }}>
        {!connection && (
          <div style={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 12 }}>
            <TextInput
              label="Name"
              description="As pipelines and project files call it"
              data-autofocus
              {...form.getInputProps("name")}
            />
            <Select
              label="Kind"
              description="What stands at the other end"
              data={Object.entries(kindForms).map(([value, { title }]) => ({ value, label: title }))}
              allowDeselect={false}
              {...form.getInputProps("kind")}
              onChange={(next) => next && choose(next as ConnectionView["kind"])}
            />
          </div>
        )}
        <kind.Fields form={form} connection={connection} />
        {kind.warehouse && (
          <Checkbox
            label="It serves as a warehouse too: check the right to write"
            {...form.getInputProps("warehouse", { type: "checkbox" })}
          />
        )}
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
                  {step.offer && (
                    <Button
                      size="compact-sm"
                      variant="outline"
                      mt={6}
                      onClick={() => step.offer && form.setFieldValue(`fields.${step.offer.setting}`, step.offer.value)}
                      disabled={form.values.fields[step.offer.setting] === step.offer.value}
                    >
                      {form.values.fields[step.offer.setting] === step.offer.value ? "Accepted" : "Accept this key"}
                    </Button>
                  )}
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
                warehouse: kind.warehouse && form.values.warehouse,
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
