import { Button } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { BackfillView } from "@undercoat/core/api/api";
import { Link, useNavigate, useParams } from "react-router";
import { useCanEdit } from "../account/me.ts";
import { answer, path, server } from "../api/client.ts";
import { queries, refresh } from "../api/queries.ts";
import { DataTable } from "../parts/DataTable.tsx";
import { counted, grouped, moment, seconds, sliceName } from "../parts/format.ts";
import { Mark, type MarkState } from "../parts/Mark.tsx";
import { Page, Unanswered } from "../parts/Page.tsx";
import { ErrorNote } from "../parts/words.tsx";
import { Equation } from "../runs/Equation.tsx";

type Slice = BackfillView["slices"][number];

const monthYear = new Intl.DateTimeFormat("en-GB", { month: "short", year: "numeric" });

/** What has become of a slice, and how it is drawn; null for what failed, which has a sign of its own. */
function stateOf({ status, verdict }: Slice): { mark: MarkState | null; words: string } {
  if (status === "running") return { mark: "loading", words: "loading" };
  if (status === "failed") return { mark: null, words: "failed" };
  if (status === "waiting") return { mark: "empty", words: "waits" };
  if (verdict === "disagrees") return { mark: "disagrees", words: "loaded, disagrees" };
  if (verdict === "proved") return { mark: "figures", words: "loaded and proved" };
  return { mark: "loaded", words: "loaded" };
}

/** Slices under the month, or where they are months the year, in which they begin. */
function rowsOf({ slices, by }: BackfillView): { name: string; slices: Slice[] }[] {
  const rows = new Map<string, Slice[]>();
  for (const slice of slices) {
    const name = slice.from.slice(0, by === "day" ? 7 : 4);
    rows.set(name, [...(rows.get(name) ?? []), slice]);
  }
  return [...rows].map(([name, of]) => ({
    name: by === "day" ? monthYear.format(new Date(`${name}-01T00:00:00`)) : name,
    slices: of,
  }));
}

function nameOf({ from, to }: Slice, by: BackfillView["by"]): string {
  if (by === "month") return monthYear.format(new Date(`${from}T00:00:00`));
  const last = new Date(Date.parse(`${to}T00:00:00Z`) - 86_400_000).toISOString().slice(0, 10);
  return last === from ? sliceName(from) : `${sliceName(from)} to ${sliceName(last)}`;
}

function SliceMark({ slice, by }: { slice: Slice; by: BackfillView["by"] }) {
  const { mark, words } = stateOf(slice);
  const label = `${nameOf(slice, by)}: ${words}`;
  const sign = mark ? <Mark state={mark} /> : <span className="failed-mark">!</span>;
  if (slice.run === null)
    return (
      <span role="img" aria-label={label} title={label}>
        {sign}
      </span>
    );
  return (
    <Link to={`/runs/${slice.run}`} className="mark" aria-label={label} title={label}>
      {sign}
    </Link>
  );
}

/** `about 4 min`, of a time to go in seconds. */
const about = (seconds: number) => (seconds < 90 ? `about ${seconds} s` : `about ${Math.round(seconds / 60)} min`);

function headingOf({ status, slices, by }: BackfillView): string {
  const done = slices.filter((slice) => slice.status === "finished").length;
  const loaded =
    done === slices.length ? `All ${counted(done, by)} loaded` : `${done} of ${counted(slices.length, by)} loaded`;
  const failed = slices.filter((slice) => slice.status === "failed").length;
  const differ = slices.filter((slice) => slice.verdict === "disagrees").length;
  return [
    loaded,
    ...(failed ? [`${failed} failed`] : []),
    ...(differ ? [`${differ} with a proof that disagrees`] : []),
    ...(status === "paused" || status === "cancelled" ? [status] : []),
  ].join(", ");
}

/** An earlier interval as it fills, slice by slice. */
export default function BackfillPage() {
  const { id = "" } = useParams();
  const client = useQueryClient();
  const navigate = useNavigate();
  const canEdit = useCanEdit();
  const { data: view, error } = useQuery(queries.backfill(id));
  const change = useMutation({
    mutationFn: (action: "pause" | "resume" | "cancel") => answer(server.backfills[":id"][action].$post(path({ id }))),
    onSuccess: (changed) => {
      client.setQueryData(queries.backfill(id).queryKey, changed);
      refresh(client, ["runs"]);
    },
  });
  if (!view) return <Unanswered error={error} />;
  const failed = view.slices.filter((slice) => slice.status === "failed");
  const open = view.status === "open" && view.slices.some((slice) => ["waiting", "running"].includes(slice.status));
  const action = (does: "pause" | "resume" | "cancel", words: string, variant: string) => (
    <Button
      variant={variant}
      loading={change.isPending && change.variables === does}
      onClick={() => change.mutate(does)}
    >
      {words}
    </Button>
  );
  return (
    <Page
      title={`Backfill of ${view.pipeline}`}
      trail={[
        { to: `/pipelines/${view.pipeline}`, of: view.pipeline },
        { to: `/runs?pipeline=${view.pipeline}`, of: "Runs" },
        `backfill ${view.id}`,
      ]}
      heading={headingOf(view)}
      about={
        <>
          {view.loads.join(", ")}
          {view.given.set ? ` with the values ${view.given.set}` : ""} from {sliceName(view.from)} up to{" "}
          {sliceName(view.to)}, the {view.order} first, {view.parallel} at a time; asked for {moment(view.createdAt)}
          {view.requestedBy && ` by ${view.requestedBy}`}
          {view.secondsLeft !== null && open && `; ${about(view.secondsLeft)} to go`}
          {view.finishedAt && `; over ${moment(view.finishedAt)}`}.
        </>
      }
      actions={
        canEdit && (
          <>
            {open && action("pause", "Pause", "outline")}
            {(view.status === "paused" || view.status === "cancelled") && action("resume", "Go on", "filled")}
            {view.status === "open" && failed.length > 0 && action("resume", `Try ${failed.length} again`, "filled")}
            {(view.status === "open" || view.status === "paused") && action("cancel", "Cancel", "outline")}
          </>
        )
      }
    >
      <ErrorNote error={change.error} />
      {view.problem && (
        <div className="note" role="alert">
          It was paused: {view.problem}.
        </div>
      )}
      <Equation tally={view.tally} counting={open} />
      <table className="backfill" aria-label="Slices, as they fill">
        <tbody>
          {rowsOf(view).map((row) => (
            <tr key={row.name}>
              <th scope="row">{row.name}</th>
              <td>
                {row.slices.map((slice) => (
                  <SliceMark key={slice.from} slice={slice} by={view.by} />
                ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="legend" style={{ marginBottom: 18 }}>
        <span>
          <Mark state="empty" /> waits
        </span>
        <span>
          <Mark state="loading" /> loading
        </span>
        <span>
          <Mark state="figures" /> loaded and proved
        </span>
        <span>
          <Mark state="disagrees" /> disagrees
        </span>
        <span>
          <span className="failed-mark">!</span> failed
        </span>
      </p>
      <DataTable
        label="Slices"
        height="calc(100vh - 420px)"
        rows={view.order === "newest" ? view.slices.toReversed() : view.slices}
        rowKey={(slice) => slice.from}
        onOpen={(slice) => slice.run !== null && navigate(`/runs/${slice.run}`)}
        columns={[
          { head: "Slice", width: "minmax(0, 1fr)", cell: (slice) => nameOf(slice, view.by) },
          {
            head: "Took",
            width: "90px",
            right: true,
            cell: (slice) => <span className="mono">{seconds(slice.startedAt, slice.finishedAt)}</span>,
          },
          ...(["read", "new", "changed", "same"] as const).map((field) => ({
            head: `${field[0]?.toUpperCase()}${field.slice(1)}`,
            width: "90px",
            right: true,
            cell: (slice: Slice) => (
              <span className="mono">{slice.status === "finished" ? grouped(slice.tally[field]) : "–"}</span>
            ),
          })),
          {
            head: "State",
            width: "minmax(0, 2fr)",
            cell: (slice) => (
              <span className={slice.failure || slice.verdict === "disagrees" ? "lead cut" : "cut"}>
                {slice.failure ? `failed: ${slice.failure.message}` : stateOf(slice).words}
              </span>
            ),
          },
        ]}
      />
    </Page>
  );
}
