import { Button, Radio, Stack, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { PipelineView } from "@undercoat/core/api/api";
import type { Schedule } from "@undercoat/core/pipeline/pipeline";
import { durationSeconds } from "@undercoat/core/schedule/duration";
import { isZone } from "@undercoat/core/schedule/schedule";
import { useState } from "react";
import { answer, path, server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { moment, zone as ownZone } from "../parts/format.ts";
import { ErrorNote } from "../parts/words.tsx";
import { MinutesInput } from "./editors.tsx";

type Kind = "none" | "every" | "daily" | "cron";

interface Form {
  kind: Kind;
  minutes: number;
  time: string;
  cron: string;
  zone: string;
}

function formOf(schedule: Schedule | undefined): Form {
  const base: Form = { kind: "none", minutes: 15, time: "02:00", cron: "0 2 * * *", zone: schedule?.zone ?? ownZone };
  if (!schedule) return base;
  if ("every" in schedule)
    return { ...base, kind: "every", minutes: Math.max(1, Math.round(durationSeconds(schedule.every) / 60)) };
  const daily = /^(\d{1,2}) (\d{1,2}) \* \* \*$/.exec(schedule.cron);
  if (daily)
    return {
      ...base,
      kind: "daily",
      time: `${(daily[2] ?? "").padStart(2, "0")}:${(daily[1] ?? "").padStart(2, "0")}`,
      cron: schedule.cron,
    };
  return { ...base, kind: "cron", cron: schedule.cron };
}

function scheduleOf(form: Form, paused: boolean): Schedule | null {
  const rest = { zone: form.zone, ...(paused ? { paused } : {}) };
  if (form.kind === "every") return { every: `PT${form.minutes}M`, ...rest };
  if (form.kind === "daily") {
    const [hour, minute] = form.time.split(":").map(Number);
    return { cron: `${minute ?? 0} ${hour ?? 0} * * *`, ...rest };
  }
  return form.kind === "cron" ? { cron: form.cron.trim(), ...rest } : null;
}

/** When a pipeline runs by itself; set at once, apart from the draft, with its next five times. */
export function ScheduleEditor({ view, close }: { view: PipelineView; close: () => void }) {
  const client = useQueryClient();
  const current = view.definition.schedule;
  const [form, setForm] = useState(() => formOf(current));
  const put = (change: Partial<Form>) => setForm({ ...form, ...change });
  const schedule = scheduleOf(form, false);
  const times = useQuery({
    ...queries.times(schedule),
    enabled: schedule !== null && isZone(form.zone),
  });
  const save = useMutation({
    mutationFn: (next: Schedule | null) =>
      answer(server.pipelines[":name"].schedule.$put({ ...path({ name: view.name }), json: { schedule: next } })),
    onSuccess: (saved) => {
      client.setQueryData(queries.pipeline(view.name).queryKey, saved);
      refresh(client, queries.dock().queryKey);
      close();
    },
  });
  const paused = current?.paused ?? false;
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate(scheduleOf(form, paused));
      }}
    >
      <Stack gap="sm">
        <Radio.Group label="It runs" value={form.kind} onChange={(kind) => put({ kind: kind as Kind })}>
          <Stack gap={6} mt={6}>
            <Radio value="none" label="only when you say so" />
            <Radio value="every" label="every so many minutes" />
            <Radio value="daily" label="every day at a time" />
            <Radio value="cron" label="by a cron line of five fields" />
          </Stack>
        </Radio.Group>
        {form.kind === "every" && <MinutesInput value={form.minutes} onChange={(minutes) => put({ minutes })} />}
        {form.kind === "daily" && (
          <TextInput
            label="At"
            type="time"
            value={form.time}
            onChange={(event) => put({ time: event.currentTarget.value })}
          />
        )}
        {form.kind === "cron" && (
          <TextInput
            label="Cron line"
            value={form.cron}
            onChange={(event) => put({ cron: event.currentTarget.value })}
            classNames={{ input: "mono" }}
          />
        )}
        {form.kind !== "none" && (
          <TextInput
            label="Zone"
            value={form.zone}
            error={isZone(form.zone) ? null : "Not a time zone; write one like Europe/Oslo"}
            onChange={(event) => put({ zone: event.currentTarget.value })}
          />
        )}
        {times.data && schedule && (
          <div>
            <div className="quiet">Next five times</div>
            {times.data.map((at) => (
              <div key={at} className="mono">
                {moment(at)}
              </div>
            ))}
          </div>
        )}
        <ErrorNote error={save.error ?? times.error} />
        <div className="actions" style={{ justifyContent: "flex-end" }}>
          {current && (
            <Button size="xs" variant="outline" onClick={() => save.mutate({ ...current, paused: !paused })}>
              {paused ? "Resume" : "Pause"}
            </Button>
          )}
          <Button type="submit" size="xs" loading={save.isPending}>
            Set
          </Button>
        </div>
      </Stack>
    </form>
  );
}
