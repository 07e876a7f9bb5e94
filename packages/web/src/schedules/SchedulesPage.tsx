import { Button, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { SchedulesView } from "@undercoat/core/api/api";
import { useState } from "react";
import { Link } from "react-router";
import { useCanEdit } from "../account/me.ts";
import { server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { counted, moment, until, zone } from "../parts/format.ts";
import { Page, Unanswered } from "../parts/Page.tsx";
import { ErrorNote } from "../parts/words.tsx";

const hour = 3_600_000;
const clock = new Intl.DateTimeFormat("en-GB", {
  timeZone: zone,
  hour: "2-digit",
  minute: "2-digit",
  hourCycle: "h23",
});
const offset = (at: number) =>
  new Intl.DateTimeFormat("en", { timeZone: zone, timeZoneName: "longOffset" })
    .formatToParts(at)
    .find(({ type }) => type === "timeZoneName")?.value ?? "";

/** The hour within the next 24 in which the clock is changed; null on all days but two. */
function clockChange(from: number): number | null {
  for (let at = from; at < from + 24 * hour; at += hour / 2)
    if (offset(at) !== offset(at + hour / 2)) return at + hour / 2;
  return null;
}

/** The next 24 hours of one schedule: a stroke for each run, as long as its runs took lately. */
function Day({ row, from }: { row: SchedulesView["rows"][number]; from: number }) {
  const width = (at: number) => ((at - from) / (24 * hour)) * 100;
  const long = Math.max(0.25, (((row.seconds ?? 0) * 1000) / (24 * hour)) * 100);
  const change = clockChange(from);
  return (
    <div
      className="day"
      role="img"
      aria-label={`${counted(row.day.length, "run")} in the next 24 hours${row.day[0] ? `, the first at ${clock.format(new Date(row.day[0]))}` : ""}`}
    >
      {change !== null && <span className="change" style={{ left: `${width(change)}%` }} />}
      {row.day.length > 200 ? (
        <span className="stroke" style={{ left: 0, width: "100%" }} />
      ) : (
        row.day.map((at) => (
          <span
            key={at}
            className="stroke"
            title={clock.format(new Date(at))}
            style={{ left: `${width(Date.parse(at))}%`, width: `${long}%` }}
          />
        ))
      )}
    </div>
  );
}

/** Pauses all schedules, with a reason that everybody reads, or lets them go on. */
function PauseAll({ paused }: Pick<SchedulesView, "paused">) {
  const client = useQueryClient();
  const [reason, setReason] = useState("");
  const pause = useMutation({
    mutationFn: (why: string | null) => server.schedules.paused.$put({ json: { reason: why } }),
    onSuccess: () => refresh(client, queries.schedules().queryKey),
  });
  if (paused)
    return (
      <Button loading={pause.isPending} onClick={() => pause.mutate(null)}>
        Let them go on
      </Button>
    );
  return (
    <form
      className="actions"
      onSubmit={(event) => {
        event.preventDefault();
        if (reason.trim()) pause.mutate(reason);
      }}
    >
      <TextInput
        aria-label="Why all schedules are paused"
        placeholder="why, for all to read"
        value={reason}
        onChange={(event) => setReason(event.currentTarget.value)}
        w={240}
      />
      <Button type="submit" variant="outline" disabled={!reason.trim()} loading={pause.isPending}>
        Pause all
      </Button>
      <ErrorNote error={pause.error} />
    </form>
  );
}

/** What runs when, over all pipelines. */
export default function SchedulesPage() {
  const canEdit = useCanEdit();
  const { data, error } = useQuery(queries.schedules());
  if (!data) return <Unanswered error={error} />;
  const from = Math.floor(Date.now() / hour) * hour;
  const change = clockChange(from);
  const runs = data.rows.reduce((sum, row) => sum + row.day.length, 0);
  return (
    <Page
      title="Schedules"
      trail={[{ to: "/pipelines", of: "Pipelines" }, "Schedules"]}
      heading={
        data.paused
          ? "All schedules are paused"
          : data.rows.length === 0
            ? "Nothing runs by itself yet"
            : `${counted(runs, "run")} in the next 24 hours`
      }
      about={
        data.paused
          ? `${data.paused.reason} (${data.paused.by}, ${moment(data.paused.at)}). What comes due meanwhile is caught up with by one run each.`
          : data.rows.length === 0
            ? "Each pipeline's page sets when it runs."
            : "A stroke is a run, as long as the last ones took."
      }
      actions={canEdit && data.rows.length > 0 && <PauseAll paused={data.paused} />}
    >
      {change !== null && (
        <p className="note" style={{ marginBottom: 10 }}>
          The clock is changed at {clock.format(change)}: {offset(change - hour)} becomes {offset(change)}.
        </p>
      )}
      {data.rows.length > 0 && (
        <table className="plain">
          <thead>
            <tr>
              <th style={{ width: 190 }}>Pipeline</th>
              <th style={{ width: 220 }}>Runs</th>
              <th>
                <div className="hours">
                  {Array.from({ length: 8 }, (_, at) => (
                    <span key={at}>{clock.format(from + at * 3 * hour)}</span>
                  ))}
                </div>
              </th>
              <th style={{ width: 110 }}>Next</th>
            </tr>
          </thead>
          <tbody>
            {data.rows.map((row, at) => (
              <tr key={at}>
                <td>
                  <Link to={`/pipelines/${row.pipeline}`} className="strong">
                    {row.title}
                  </Link>
                </td>
                <td>
                  {row.words}
                  {row.zone !== zone && !row.after && <span className="quiet"> ({row.zone})</span>}
                </td>
                <td className="middle">
                  {row.waits ? (
                    <span className="quiet">when a file has come</span>
                  ) : row.after ? (
                    <span className="quiet">when {row.after} has</span>
                  ) : (
                    <Day row={row} from={from} />
                  )}
                </td>
                <td className="nowrap quiet" title={row.next.map((time) => moment(time)).join("\n")}>
                  {row.next[0] ? until(row.next[0]) : row.paused ? "paused" : row.after || row.waits ? "" : "no more"}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </Page>
  );
}
