import { Button, Group, Modal, MultiSelect, NumberInput, Select, Stack, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import type { Given } from "@undercoat/core/parameter/resolve";
import { cutInterval, type DayInterval, type IntervalUnit } from "@undercoat/core/schedule/intervals";
import { useState } from "react";
import { useNavigate } from "react-router";
import { answer, server } from "../api/client.ts";
import { refresh } from "../api/queries.ts";
import { counted } from "../parts/format.ts";
import { ErrorNote } from "../parts/words.tsx";

interface Props {
  pipeline: string;
  title: string;
  /** those that can be chosen among; all of them are where none is */
  loads: string[];
  /** what is chosen at first */
  chosen?: string[];
  given?: Given;
  interval?: DayInterval;
  onClose: () => void;
}

/** How many parts an interval is cut into, or why it can't be. */
function parts(interval: DayInterval, by: IntervalUnit): { count: number } | { wrong: string } {
  try {
    return { count: cutInterval(interval, by).length };
  } catch (error) {
    return { wrong: (error as Error).message };
  }
}

/** Asks which earlier interval is to be loaded, and how it is cut. */
export default function BackfillDialog({ pipeline, title, loads, chosen = [], given, interval, onClose }: Props) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [from, setFrom] = useState(interval?.from ?? "");
  const [to, setTo] = useState(interval?.to ?? "");
  const [by, setBy] = useState<IntervalUnit>("day");
  const [order, setOrder] = useState<"newest" | "oldest">("newest");
  const [parallel, setParallel] = useState(1);
  const [only, setOnly] = useState(chosen);
  const cut = from && to ? parts({ from, to }, by) : null;
  const begin = useMutation({
    mutationFn: () =>
      answer(
        server.backfills.$post({
          json: { pipeline, loads: only.length ? only : null, given: given ?? {}, from, to, by, order, parallel },
        }),
      ),
    onSuccess: ({ id }) => {
      refresh(client, ["pipelines"]);
      navigate(`/backfills/${id}`);
    },
  });
  return (
    <Modal opened onClose={onClose} title={`Load earlier days of ${title}`}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          begin.mutate();
        }}
      >
        <Stack gap="sm">
          <Group grow>
            <TextInput
              label="First day"
              type="date"
              value={from}
              onChange={(event) => setFrom(event.currentTarget.value)}
              required
              data-autofocus
            />
            <TextInput
              label="Day after the last"
              type="date"
              value={to}
              onChange={(event) => setTo(event.currentTarget.value)}
              required
            />
          </Group>
          <Group grow>
            <Select
              label="Cut into"
              data={[
                { value: "day", label: "days" },
                { value: "week", label: "weeks" },
                { value: "month", label: "months" },
              ]}
              value={by}
              allowDeselect={false}
              onChange={(unit) => setBy(unit as IntervalUnit)}
            />
            <Select
              label="First comes"
              data={[
                { value: "newest", label: "the newest" },
                { value: "oldest", label: "the oldest" },
              ]}
              value={order}
              allowDeselect={false}
              onChange={(end) => setOrder(end as "newest" | "oldest")}
            />
            <NumberInput
              label="At a time"
              min={1}
              max={16}
              value={parallel}
              onChange={(many) => setParallel(Number(many) || 1)}
            />
          </Group>
          {loads.length > 1 && (
            <MultiSelect
              label="Loads"
              placeholder={only.length ? undefined : "all that can be loaded by intervals"}
              data={loads}
              value={only}
              onChange={setOnly}
              searchable
            />
          )}
          <p className={cut && "wrong" in cut ? "lead" : "quiet"} role="status">
            {cut === null
              ? "Each part is loaded by a run of its own and proved; what is due in the meantime comes first."
              : "wrong" in cut
                ? `${cut.wrong}.`
                : `${counted(cut.count, by)}, each loaded by a run of its own and proved; what is due in the meantime comes first.`}
          </p>
          <ErrorNote error={begin.error} />
          <Group justify="flex-end">
            <Button variant="default" onClick={onClose}>
              Cancel
            </Button>
            <Button type="submit" loading={begin.isPending} disabled={!cut || "wrong" in cut}>
              Begin
            </Button>
          </Group>
        </Stack>
      </form>
    </Modal>
  );
}
