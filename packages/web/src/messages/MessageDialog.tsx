import {
  Button,
  Checkbox,
  Group,
  Modal,
  MultiSelect,
  NumberInput,
  PasswordInput,
  SegmentedControl,
  Select,
  Stack,
  Textarea,
  TextInput,
} from "@mantine/core";
import { useForm } from "@mantine/form";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { MessageView } from "@undercoat/core/api/api";
import { type Message, type Occasion, occasions } from "@undercoat/core/message/message";
import { answer, path, server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { tellFields } from "../parts/fields.ts";
import { zone } from "../parts/format.ts";
import { ErrorNote } from "../parts/words.tsx";
import { occasionWords } from "./words.ts";

/** `Name: value`, one a line, as headers; null where a line is none. */
function headersOf(text: string): Record<string, string> | null {
  const lines = text.split("\n").filter((line) => line.trim());
  const pairs = lines.map((line) => /^([^:\s]+)\s*:\s*(.*)$/.exec(line.trim()));
  return pairs.some((pair) => !pair)
    ? null
    : Object.fromEntries(pairs.map((pair) => [pair?.[1] ?? "", pair?.[2] ?? ""]));
}

/** Who is told of what; made or changed. The stored secret is never shown. */
export function MessageDialog({ message, onClose }: { message: MessageView | null; onClose: () => void }) {
  const client = useQueryClient();
  const pipelines = useQuery(queries.pipelines());
  const before = message?.definition;
  const form = useForm({
    initialValues: {
      name: message?.name ?? "",
      to: before?.to ?? "webhook",
      url: before?.to === "webhook" ? before.url : "",
      secret: "",
      headers:
        before?.to === "webhook"
          ? Object.entries(before.headers ?? {})
              .map(([name, value]) => `${name}: ${value}`)
              .join("\n")
          : "",
      address: before?.to === "mail" ? before.address : "",
      on: before?.on ?? (["failed", "disagrees"] as Occasion[]),
      pipelines: before?.pipelines ?? [],
      over: before?.over ?? 0,
      by: before?.late?.by ?? "",
      zone: before?.late?.zone ?? zone,
      needs: before?.late?.needs ?? "finished",
    },
    validate: {
      name: (value) => (/^[a-z0-9][a-z0-9_-]{0,62}$/i.test(value) ? null : "Letters, digits, - and _"),
      url: (value, { to }) =>
        to === "mail" || /^https?:\/\/\S+$/.test(value) ? null : "Where it is posted to: http… or https…",
      secret: (value) => (value === "" || value.length >= 16 ? null : "At least 16 characters"),
      headers: (value) => (headersOf(value) ? null : "One a line, such as X-Site: north"),
      address: (value, { to }) => (to === "webhook" || /^\S+@\S+$/.test(value) ? null : "A mail address"),
      on: (value) => (value.length ? null : "Choose at least one"),
    },
  });
  const { values } = form;
  const save = useMutation({
    mutationFn: () => {
      const headers = headersOf(values.headers) ?? {};
      const told = {
        on: values.on,
        ...(values.pipelines.length ? { pipelines: values.pipelines } : {}),
        ...(values.on.includes("rejected") && values.over > 0 ? { over: Number(values.over) } : {}),
        ...(values.on.includes("late") && values.by
          ? { late: { by: values.by, zone: values.zone, needs: values.needs } }
          : {}),
      };
      const definition: Message & { secret?: string } =
        values.to === "webhook"
          ? {
              to: "webhook",
              url: values.url,
              ...(Object.keys(headers).length ? { headers } : {}),
              ...told,
              ...(values.secret ? { secret: values.secret } : {}),
            }
          : { to: "mail", address: values.address, ...told };
      return answer(server.messages[":name"].$put({ ...path({ name: values.name }), json: { definition } }));
    },
    onSuccess: () => {
      refresh(client, queries.messages().queryKey);
      onClose();
    },
    onError: (failed) => tellFields(failed, form, 1),
  });
  return (
    <Modal opened onClose={onClose} title={message ? `Change ${message.name}` : "Tell somebody"} size="lg">
      <form onSubmit={form.onSubmit(() => save.mutate())}>
        <Stack gap="sm">
          <Group grow align="flex-start">
            <TextInput label="Name" disabled={message !== null} data-autofocus {...form.getInputProps("name")} />
            <div>
              <div className="mantine-InputWrapper-label" id="to-label" style={{ fontWeight: 500 }}>
                To
              </div>
              <SegmentedControl
                aria-labelledby="to-label"
                fullWidth
                data={[
                  { value: "webhook", label: "a webhook" },
                  { value: "mail", label: "a mailbox" },
                ]}
                {...form.getInputProps("to")}
              />
            </div>
          </Group>
          {values.to === "webhook" ? (
            <>
              <TextInput label="URL" placeholder="https://" {...form.getInputProps("url")} />
              <Group grow align="flex-start">
                <PasswordInput
                  label="Secret"
                  description={
                    message?.hasSecret
                      ? "Empty keeps the stored one"
                      : "Signs what is sent; without one it is not signed"
                  }
                  autoComplete="off"
                  {...form.getInputProps("secret")}
                />
                <Textarea
                  label="Headers"
                  description="One a line; they are no secret"
                  placeholder="X-Site: north"
                  autosize
                  classNames={{ input: "mono" }}
                  {...form.getInputProps("headers")}
                />
              </Group>
            </>
          ) : (
            <TextInput label="Address" type="email" {...form.getInputProps("address")} />
          )}
          <Checkbox.Group label="When" {...form.getInputProps("on")}>
            <div style={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 6, marginTop: 4 }}>
              {occasions.map((one) => (
                <Checkbox key={one} value={one} label={occasionWords[one]} />
              ))}
            </div>
          </Checkbox.Group>
          {values.on.includes("rejected") && (
            <NumberInput
              label="Rejected rows that are no trouble"
              description="In one run of a load"
              min={0}
              {...form.getInputProps("over")}
            />
          )}
          {values.on.includes("late") && (
            <Group grow align="flex-end">
              <Select
                label="Late is what is not"
                data={[
                  { value: "finished", label: "loaded" },
                  { value: "proved", label: "proved" },
                ]}
                allowDeselect={false}
                disabled={!values.by}
                {...form.getInputProps("needs")}
              />
              <TextInput label="by, each day" type="time" {...form.getInputProps("by")} />
              <TextInput label="in the zone" disabled={!values.by} {...form.getInputProps("zone")} />
            </Group>
          )}
          {values.on.includes("late") && !values.by && (
            <p className="quiet">Without a time, late is what was due and has not begun.</p>
          )}
          <MultiSelect
            label="Of the pipelines"
            placeholder={values.pipelines.length ? undefined : "all"}
            data={(pipelines.data ?? []).map((row) => ({ value: row.name, label: row.title }))}
            searchable
            clearable
            {...form.getInputProps("pipelines")}
          />
          <ErrorNote error={save.error} />
          <Group justify="flex-end">
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
