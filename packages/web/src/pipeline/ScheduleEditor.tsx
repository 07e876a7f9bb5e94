import { Button, Checkbox, Group, MultiSelect, NumberInput, Select, Stack, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { PipelineView } from "@undercoat/core/api/api";
import { type Schedule, sweeps } from "@undercoat/core/pipeline/pipeline";
import { isZone, schedulesOf } from "@undercoat/core/schedule/schedule";
import { useState } from "react";
import { answer, path, server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { moment } from "../parts/format.ts";
import { ErrorNote } from "../parts/words.tsx";
import { MinutesInput } from "./editors.tsx";
import { inPopover } from "./Form.tsx";
import { formOf, type Kind, type TimingForm, timingOf } from "./timing.ts";

const kinds: { value: Kind; label: string }[] = [
  { value: "every", label: "every so many minutes" },
  { value: "daily", label: "every day" },
  { value: "weekly", label: "on days of the week" },
  { value: "monthly", label: "on a day of the month" },
  { value: "cron", label: "by a cron line of five fields" },
  { value: "after", label: "after another pipeline" },
];
const arrived = { value: "arrived" as const, label: "when a file arrives" };
const weekdays = ["Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"];

const timing = ["every", "cron", "after", "on", "when", "zone"] as const;

/** What a schedule says besides when. */
type More = Omit<Schedule, (typeof timing)[number]>;

function moreOf(schedule: Schedule | undefined): More {
  return Object.fromEntries(
    Object.entries(schedule ?? {}).filter(([name]) => !timing.includes(name as (typeof timing)[number])),
  ) as More;
}

/** A schedule without what goes without saying. */
function said(schedule: Schedule): Schedule {
  const usual: Record<string, unknown> = { paused: false, do: "run", overlap: "wait", catchUp: "one" };
  return Object.fromEntries(
    Object.entries(schedule).filter(
      ([name, value]) =>
        value !== undefined && value !== "" && usual[name] !== value && !(Array.isArray(value) && value.length === 0),
    ),
  ) as Schedule;
}

interface Props {
  view: PipelineView;
  /** which of the pipeline's schedules; one more than there are makes another */
  at: number;
  close: () => void;
}

/** When a pipeline runs by itself, and how; set at once, apart from the draft, with its next ten times. */
export function ScheduleEditor({ view, at, close }: Props) {
  const client = useQueryClient();
  const all = schedulesOf(view.definition);
  const current = all[at];
  const [form, setForm] = useState(() => formOf(current));
  const [more, setMore] = useState<More>(() => moreOf(current));
  const [open, setOpen] = useState(Object.keys(said(moreOf(current) as Schedule)).some((name) => name !== "paused"));
  const put = (change: Partial<TimingForm>) => setForm({ ...form, ...change });
  const schedule = said({ ...more, ...timingOf(form), zone: form.zone } as Schedule);
  const ready = isZone(form.zone) && (form.kind !== "after" || form.after !== "");
  const times = useQuery({ ...queries.times({ ...schedule, paused: false }), enabled: ready && form.kind !== "after" });
  const others = useQuery(queries.pipelines());
  const names = (others.data ?? [])
    .filter((row) => row.name !== view.name)
    .map((row) => ({ value: row.name, label: row.title }));
  const save = useMutation({
    mutationFn: (next: Schedule[]) =>
      answer(server.pipelines[":name"].schedules.$put({ ...path({ name: view.name }), json: { schedules: next } })),
    onSuccess: (saved) => {
      client.setQueryData(queries.pipeline(view.name).queryKey, saved);
      refresh(client, queries.dock().queryKey);
      refresh(client, queries.schedules().queryKey);
      close();
    },
  });
  const replaced = (next: Schedule | null) => [...all.slice(0, at), ...(next ? [next] : []), ...all.slice(at + 1)];
  const paused = current?.paused ?? false;
  const sets = Object.keys(view.definition.values ?? {});
  const readsFiles = Object.values(view.definition.loads).some(({ from }) => from.files !== undefined);
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        if (ready) save.mutate(replaced(schedule));
      }}
    >
      <Stack gap="xs">
        <Select
          label="It runs"
          data={readsFiles ? [...kinds, arrived] : kinds}
          value={form.kind}
          allowDeselect={false}
          onChange={(kind) => put({ kind: kind as Kind })}
          {...inPopover}
        />
        {form.kind === "every" && <MinutesInput value={form.minutes} onChange={(minutes) => put({ minutes })} />}
        {form.kind === "arrived" && (
          <MinutesInput
            label="Looked for every so many minutes"
            description="A file counts once it is the same at two looks"
            value={form.minutes}
            onChange={(minutes) => put({ minutes })}
          />
        )}
        {form.kind === "weekly" && (
          <Checkbox.Group label="On" value={form.weekdays} onChange={(days) => put({ weekdays: days })}>
            <Group gap={8} mt={4}>
              {weekdays.map((day, number) => (
                <Checkbox key={day} size="xs" value={String(number)} label={day} />
              ))}
            </Group>
          </Checkbox.Group>
        )}
        {form.kind === "monthly" && (
          <NumberInput
            label="On day"
            description="A month without that day is left out"
            min={1}
            max={31}
            value={form.monthday}
            onChange={(day) => put({ monthday: Number(day) || 1 })}
          />
        )}
        {["daily", "weekly", "monthly"].includes(form.kind) && (
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
        {form.kind === "after" && (
          <>
            <Select
              label="After"
              placeholder="a pipeline"
              data={names}
              value={form.after || null}
              onChange={(after) => put({ after: after ?? "" })}
              searchable
              {...inPopover}
            />
            <Select
              label="When it"
              data={[
                { value: "finished", label: "finished" },
                { value: "proved", label: "was proved" },
              ]}
              value={form.on}
              allowDeselect={false}
              onChange={(on) => put({ on: on as TimingForm["on"] })}
              {...inPopover}
            />
          </>
        )}
        {form.kind !== "every" && form.kind !== "after" && (
          <TextInput
            label="Zone"
            value={form.zone}
            error={isZone(form.zone) ? null : "Not a time zone; write one like Europe/Oslo"}
            onChange={(event) => put({ zone: event.currentTarget.value })}
          />
        )}
        {sets.length > 0 && (
          <MultiSelect
            label="With the values"
            placeholder={more.values?.length ? undefined : "the defaults"}
            data={sets}
            value={more.values ?? []}
            onChange={(values) => setMore({ ...more, values })}
            searchable
            clearable
            {...inPopover}
          />
        )}
        {sets.length > 1 && (more.values?.length ?? 0) < sets.length && (
          <button type="button" className="link" onClick={() => setMore({ ...more, values: sets })}>
            All {sets.length} sets
          </button>
        )}
        <button type="button" className="link" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "Less" : "From, until, and what else"}
        </button>
        {open && (
          <>
            <Select
              label="What it does"
              data={[
                { value: "run", label: "loads" },
                { value: "prove", label: "only proves" },
                ...(Object.values(view.definition.loads).some(sweeps)
                  ? [{ value: "sweep", label: "only looks for rows gone" }]
                  : []),
              ]}
              value={more.do ?? "run"}
              allowDeselect={false}
              onChange={(does) => setMore({ ...more, do: does as More["do"] })}
              {...inPopover}
            />
            <Group grow gap={8}>
              <TextInput
                label="From"
                type="date"
                value={more.from ?? ""}
                onChange={(event) => setMore({ ...more, from: event.currentTarget.value || undefined })}
              />
              <TextInput
                label="Until"
                type="date"
                value={more.until ?? ""}
                onChange={(event) => setMore({ ...more, until: event.currentTarget.value || undefined })}
              />
            </Group>
            <NumberInput
              label="So many times"
              placeholder="without end"
              min={1}
              value={more.times ?? ""}
              onChange={(many) => setMore({ ...more, times: many === "" ? undefined : Number(many) })}
            />
            <MultiSelect
              label="Not at the same time as"
              placeholder={more.apart?.length ? undefined : "any"}
              data={names}
              value={more.apart ?? []}
              onChange={(apart) => setMore({ ...more, apart })}
              searchable
              {...inPopover}
            />
            <Select
              label="Where its last run is not over"
              data={[
                { value: "wait", label: "it waits" },
                { value: "skip", label: "that time is left out" },
              ]}
              value={more.overlap ?? "wait"}
              allowDeselect={false}
              onChange={(overlap) => setMore({ ...more, overlap: overlap as More["overlap"] })}
              {...inPopover}
            />
            <Select
              label="Times missed while nothing ran"
              data={[
                { value: "one", label: "are caught up with by one run" },
                { value: "none", label: "are left out" },
              ]}
              value={more.catchUp ?? "one"}
              allowDeselect={false}
              onChange={(catchUp) => setMore({ ...more, catchUp: catchUp as More["catchUp"] })}
              {...inPopover}
            />
          </>
        )}
        {times.data && form.kind !== "after" && (
          <div>
            <div className="quiet">{times.data.length ? "Next times" : "It would not run any more"}</div>
            <div style={{ columns: 2, columnGap: 12 }}>
              {times.data.map((time) => (
                <div key={time} className="mono" style={{ fontSize: 12 }}>
                  {moment(time)}
                </div>
              ))}
            </div>
          </div>
        )}
        <ErrorNote error={save.error ?? times.error} />
        <div className="actions" style={{ justifyContent: "flex-end" }}>
          {current && (
            <>
              <Button size="xs" variant="default" onClick={() => save.mutate(replaced(null))}>
                Remove
              </Button>
              <Button
                size="xs"
                variant="outline"
                onClick={() => save.mutate(replaced(said({ ...current, paused: !paused })))}
              >
                {paused ? "Resume" : "Pause"}
              </Button>
            </>
          )}
          <Button type="submit" size="xs" loading={save.isPending} disabled={!ready}>
            Set
          </Button>
        </div>
      </Stack>
    </form>
  );
}
