import { Button, Group, Modal, NumberInput, PasswordInput, Select, Stack, TextInput } from "@mantine/core";
import { useForm } from "@mantine/form";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import type { MailServerView } from "@undercoat/core/api/api";
import type { MailServer } from "@undercoat/core/message/message";
import { answer, server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { tellFields } from "../parts/fields.ts";
import { ErrorNote } from "../parts/words.tsx";

/** The server that mail is handed to. */
export function MailServerDialog({
  mail: { settings, hasPassword },
  onClose,
}: {
  mail: MailServerView;
  onClose: () => void;
}) {
  const client = useQueryClient();
  const form = useForm({
    initialValues: {
      host: settings?.host ?? "",
      port: settings?.port ?? 587,
      from: settings?.from ?? "",
      user: settings?.user ?? "",
      password: "",
      tls: settings?.tls ?? (settings ? "off" : "starttls"),
    },
    validate: {
      host: (value) => (value.trim() ? null : "The mail server's name or address"),
      from: (value) => (/^\S+@\S+$/.test(value) ? null : "A mail address"),
    },
  });
  const save = useMutation({
    mutationFn: (next: (MailServer & { password?: string }) | null) =>
      answer(server.mail.$put({ json: { settings: next } })),
    onSuccess: (saved) => {
      client.setQueryData(queries.mail().queryKey, saved);
      refresh(client, queries.messages().queryKey);
      onClose();
    },
    onError: (failed) => tellFields(failed, form, 1),
  });
  return (
    <Modal opened onClose={onClose} title="The mail server">
      <form
        onSubmit={form.onSubmit(({ host, port, from, user, password, tls }) =>
          save.mutate({
            host,
            port: Number(port),
            from,
            tls,
            ...(user ? { user } : {}),
            ...(password ? { password } : {}),
          }),
        )}
      >
        <Stack gap="sm">
          <Group grow align="flex-start">
            <TextInput label="Host" data-autofocus {...form.getInputProps("host")} />
            <NumberInput label="Port" min={1} max={65_535} {...form.getInputProps("port")} />
            <Select
              label="TLS"
              data={[
                { value: "off", label: "off" },
                { value: "starttls", label: "STARTTLS" },
                { value: "tls", label: "from the start" },
              ]}
              allowDeselect={false}
              {...form.getInputProps("tls")}
            />
          </Group>
          <TextInput label="From" placeholder="undercoat@…" {...form.getInputProps("from")} />
          <Group grow align="flex-start">
            <TextInput label="User" placeholder="none" autoComplete="off" {...form.getInputProps("user")} />
            <PasswordInput
              label="Password"
              placeholder={hasPassword ? "the stored one" : undefined}
              autoComplete="off"
              {...form.getInputProps("password")}
            />
          </Group>
          <ErrorNote error={save.error} />
          <Group justify="flex-end">
            {settings && (
              <Button variant="default" onClick={() => save.mutate(null)}>
                Name none
              </Button>
            )}
            <Button variant="default" onClick={onClose}>
              Cancel
            </Button>
            <Button type="submit" loading={save.isPending}>
              Save
            </Button>
          </Group>
        </Stack>
      </form>
    </Modal>
  );
}
