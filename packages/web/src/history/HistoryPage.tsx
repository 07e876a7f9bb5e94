import { Button, SegmentedControl, Slider, TextInput } from "@mantine/core";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { millisecondsOf } from "@undercoat/core/history/lifeline";
import type { AsOf, Between } from "@undercoat/core/history/shape";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { type HistoryPlace, queries } from "../api/queries.ts";
import { type Column, DataTable } from "../parts/DataTable.tsx";
import { counted, grouped } from "../parts/format.ts";
import { Page } from "../parts/Page.tsx";
import { useUrlState } from "../parts/url.ts";
import { ErrorNote } from "../parts/words.tsx";
import { Beginnings } from "./Beginnings.tsx";
import { lifelineLink } from "./links.ts";
import { dayTime, momentWords } from "./moments.ts";

/** A moment as a field of the browser takes it, in this zone, and back. */
function local(iso: string): string {
  const date = new Date(iso);
  const two = (part: number) => String(part).padStart(2, "0");
  return `${date.getFullYear()}-${two(date.getMonth() + 1)}-${two(date.getDate())}T${two(date.getHours())}:${two(date.getMinutes())}`;
}
const isoOf = (text: string) => {
  const date = new Date(text);
  return Number.isNaN(date.getTime()) ? "" : date.toISOString();
};

function MomentField({ label, value, onChange }: { label: string; value: string; onChange: (iso: string) => void }) {
  return (
    <TextInput
      type="datetime-local"
      label={label}
      value={value ? local(value) : ""}
      onChange={(event) => onChange(isoOf(event.currentTarget.value))}
      w={210}
    />
  );
}

/** The rows of a history as of a moment. */
function Rows({ found, place, tall }: { found: AsOf; place: HistoryPlace; tall: boolean }) {
  const navigate = useNavigate();
  const { shape } = found;
  const telling = shape.roles.filter(([, role]) => role === "follow").map(([column]) => column);
  const first = [
    ...shape.key,
    ...shape.roles.map(([column]) => column).filter((name) => !telling.includes(name)),
    shape.from,
    shape.to,
  ];
  const rest = found.columns.filter((name) => !first.includes(name) && !telling.includes(name));
  const columns = [...first, ...rest, ...telling].filter((name) => name !== shape.current.column);
  return (
    <DataTable
      label={`Rows of ${place.target}`}
      height={`calc(100vh - ${tall ? 356 : 430}px)`}
      rows={found.rows}
      rowKey={(row) => JSON.stringify([...shape.key, shape.from].map((name) => row[name]))}
      onOpen={(row) =>
        navigate(
          lifelineLink(
            place,
            shape.key.map((name) => row[name] ?? ""),
          ),
        )
      }
      columns={columns.slice(0, 9).map(
        (name): Column<AsOf["rows"][number]> => ({
          head: <span className="mono">{name}</span>,
          width: name === shape.from || name === shape.to ? "158px" : "minmax(80px, 1fr)",
          cell: (row) => (
            <span className={`mono${shape.key.includes(name) ? " strong" : ""}`} title={row[name] ?? "null"}>
              {name === shape.from || name === shape.to
                ? row[name] == null
                  ? "now"
                  : momentWords(row[name])
                : (row[name] ?? <i className="quiet">null</i>)}
            </span>
          ),
        }),
      )}
    />
  );
}

/** What changed between two moments: how many keys, in which columns, and which. */
function Changes({ between, place }: { between: Between; place: HistoryPlace }) {
  const navigate = useNavigate();
  const most = Math.max(1, ...between.columns.map((one) => Number(one.keys)));
  return (
    <div className="columns">
      <section aria-label="By column">
        <h2>
          {counted(between.changed, "key")} changed, {grouped(between.added)} came, {grouped(between.gone)} went
        </h2>
        <table className="plain" style={{ marginTop: 8 }}>
          <tbody>
            {between.columns.map(({ column, keys }) => (
              <tr key={column}>
                <th scope="row" className="mono">
                  {column}
                </th>
                <td style={{ width: "60%" }}>
                  <div className="bar" style={{ width: `${(Number(keys) / most) * 100}%` }} />
                </td>
                <td className="right mono">{counted(keys, "key")}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
      <section aria-label="Which keys">
        <h2>{between.keys.length < 200 ? "Which" : "The first 200"}</h2>
        {between.keys.length === 0 ? (
          <p className="quiet">Both moments say the same.</p>
        ) : (
          <DataTable
            label="Keys that changed"
            height="calc(100vh - 330px)"
            rows={between.keys}
            rowKey={(row) => JSON.stringify(row.key)}
            onOpen={(row) => navigate(lifelineLink(place, row.key))}
            columns={[
              {
                head: "Key",
                width: "minmax(0, 1fr)",
                cell: (row) => <span className="mono">{row.key.join(", ")}</span>,
              },
              {
                head: "What",
                width: "140px",
                cell: (row) => ({ added: "came", gone: "went", changed: "changed" })[row.how],
              },
            ]}
          />
        )}
      </section>
    </div>
  );
}

/** A table that keeps its history: now, as of a moment, or what changed between two. */
export default function HistoryPage() {
  const { connection = "", target = "" } = useParams();
  const place = { connection, target };
  const [at, setAt] = useUrlState("at");
  const [since, setSince] = useUrlState("since");
  const [sliding, setSliding] = useState<number | null>(null);
  const { data, error, isFetching } = useQuery({ ...queries.asOf(place, at), placeholderData: keepPreviousData });
  const between = useQuery({
    ...queries.between(place, since, at || new Date(Math.ceil(Date.now() / 60_000) * 60_000).toISOString()),
    enabled: since !== "",
    placeholderData: keepPreviousData,
  });
  const [low, high] = data?.changes
    ? [millisecondsOf(data.changes.from), Math.max(Date.now(), millisecondsOf(data.changes.to))]
    : [0, 0];
  const what = since ? "between" : at ? "at" : "now";
  return (
    <Page
      title={target}
      trail={[{ to: "/warehouse", of: "Warehouse" }, target]}
      heading={
        !data
          ? target
          : since
            ? `What changed in ${target}`
            : at
              ? `${target} as of ${dayTime.format(new Date(at))}: ${counted(data.count, "row")}`
              : `${target} now: ${counted(data.count, "row")}`
      }
      about={
        <>
          It keeps the history of its rows.{" "}
          {data && (
            <>
              Loaded by{" "}
              <Link to={`/pipelines/${data.pipeline}/${data.load}`}>
                {data.pipeline} · {data.load}
              </Link>
              .{" "}
            </>
          )}
          Queries read <span className="mono">{target}_now</span> and{" "}
          <span className="mono">{target}_as_of(moment)</span>.
        </>
      }
      actions={
        <SegmentedControl
          size="xs"
          style={{ flex: "none" }}
          value={what}
          onChange={(next) => {
            const month = new Date(Date.now() - 30 * 86_400_000).toISOString();
            setSince(next === "between" ? since || month : "");
            if (next === "now") setAt("");
            if (next === "at" && !at) setAt(new Date(Date.now() - 30 * 86_400_000).toISOString());
          }}
          data={[
            { value: "now", label: "Now" },
            { value: "at", label: "As of a moment" },
            { value: "between", label: "What changed" },
          ]}
        />
      }
    >
      <ErrorNote error={error ?? between.error} />
      <div className="actions" style={{ alignItems: "flex-end", gap: 18, marginBottom: 10 }}>
        {since && <MomentField label="From" value={since} onChange={(next) => next && setSince(next)} />}
        {what !== "now" && <MomentField label={since ? "To (now where empty)" : "As of"} value={at} onChange={setAt} />}
        {what !== "now" && at && (
          <Button variant="default" onClick={() => setAt("")}>
            Now
          </Button>
        )}
      </div>
      {data?.changes && !since && (
        <section aria-label="When versions began" style={{ marginBottom: 8 }}>
          <Beginnings changes={data.changes} onPick={setAt} />
          <Slider
            aria-label="As of"
            thumbLabel="As of"
            size="sm"
            min={low}
            max={high}
            step={Math.max(60_000, Math.round((high - low) / 1000))}
            value={sliding ?? (at ? Math.min(high, Math.max(low, Date.parse(at))) : high)}
            onChange={setSliding}
            onChangeEnd={(next) => {
              setSliding(null);
              setAt(next >= high ? "" : new Date(next).toISOString());
            }}
            label={(value) => dayTime.format(value)}
          />
        </section>
      )}
      {since
        ? between.data && <Changes between={between.data} place={place} />
        : data && (
            <div style={{ opacity: isFetching ? 0.85 : 1 }}>
              {data.rows.length ? (
                <>
                  <Rows found={data} place={place} tall={!at} />
                  <p className="quiet" style={{ marginTop: 6 }}>
                    The first {counted(data.rows.length, "row")} by key; press one for its lifeline.
                  </p>
                </>
              ) : (
                <p className="quiet">No version was valid then.</p>
              )}
            </div>
          )}
    </Page>
  );
}
