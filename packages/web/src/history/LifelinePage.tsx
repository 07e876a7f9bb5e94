import { Button } from "@mantine/core";
import { useHotkeys } from "@mantine/hooks";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { changesOf, type Drawn, drawLifeline, type Edge, versionAt } from "@undercoat/core/history/lifeline";
import type { Lifeline } from "@undercoat/core/history/shape";
import { useMemo, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { queries } from "../api/queries.ts";
import { counted, moment } from "../parts/format.ts";
import { markOf } from "../parts/Mark.tsx";
import { Page } from "../parts/Page.tsx";
import { useUrlState } from "../parts/url.ts";
import { ErrorNote } from "../parts/words.tsx";
import { historyLink, keyOf, lifelineLink } from "./links.ts";
import { dayTime, momentWords } from "./moments.ts";
import { Strands } from "./Strands.tsx";

const monthYear = new Intl.DateTimeFormat("en-GB", { month: "long", year: "numeric" });
const day = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", year: "numeric" });
const times = (count: number) => (count === 1 ? "once" : count === 2 ? "twice" : `${count} times`);

/** What happened to a key, in sentences. */
function sentence(drawn: Drawn, { shape }: Lifeline): string {
  const changes = changesOf(drawn);
  const changed = changes.length
    ? `${changes.map(({ column, times: count }) => `${column} changed ${times(count)}`).join(", ")}.`
    : "Nothing of it has changed.";
  const overwritten = shape.roles.filter(([, role]) => role === "overwrite").map(([column]) => column);
  const everywhere = overwritten.length
    ? ` ${overwritten.join(", ")} ${overwritten.length === 1 ? "is" : "are"} overwritten in ${shape.overwrite === "all" ? "all versions" : "the current version"}.`
    : "";
  const days = drawn.gaps.map((gap) => Math.max(1, Math.round((gap.to - gap.from) / 86_400_000)));
  const gaps = days.length
    ? ` ${days.length === 1 ? "One gap" : `${days.length} gaps`}: gone from the source for ${days.map((count) => counted(count, "day")).join(", ")}.`
    : "";
  const corrected = drawn.versions.reduce((sum, version) => sum + version.corrected.length, 0);
  return changed + everywhere + gaps + (corrected ? ` Corrected ${times(corrected)}.` : "");
}

/** The edge in hand: what stood before it over what came after. */
function EdgeTable({ edge, shape }: { edge: Edge; shape: Lifeline["shape"] }) {
  const { before, after, changed } = edge;
  const own = new Set([shape.from, shape.to, shape.current.column, shape.change, shape.surrogate]);
  const columns = shape.roles
    .filter(([column, role]) => role !== "follow" && !own.has(column))
    .map(([column]) => column);
  // What changed comes first, and what never does last.
  const names = columns.filter((name) => changed.includes(name));
  const rest = columns.filter((name) => !changed.includes(name));
  const sides: [string, typeof before][] = [
    ["before", before],
    ["after", after],
  ];
  return (
    <div className="rows-scroll" tabIndex={0} role="region" aria-label="Before and after">
      <table className="plain mono" style={{ fontSize: 12.5 }}>
        <thead>
          <tr>
            <td />
            {names.map((name) => (
              <th key={name}>{name}</th>
            ))}
            <th>valid from</th>
            <th>to</th>
            {shape.surrogate && <th>{shape.surrogate}</th>}
            {rest.map((name) => (
              <th key={name}>{name}</th>
            ))}
          </tr>
        </thead>
        <tbody>
          {sides.map(([side, version]) => (
            <tr key={side}>
              <th scope="row" style={{ fontFamily: "inherit" }}>
                {side}
              </th>
              {version ? (
                <>
                  {names.map((name) => (
                    <td key={name} className="nowrap">
                      <span className="differs">{version.values[name] ?? <i className="quiet">null</i>}</span>
                    </td>
                  ))}
                  <td className="nowrap">{momentWords(version.fromText)}</td>
                  <td className="nowrap">{version.toText ? momentWords(version.toText) : "now"}</td>
                  {shape.surrogate && <td>{version.values[shape.surrogate]}</td>}
                  {rest.map((name) => (
                    <td key={name} className="nowrap">
                      {version.values[name] ?? <i className="quiet">null</i>}
                    </td>
                  ))}
                </>
              ) : (
                <td colSpan={names.length + rest.length + 3} className="quiet" style={{ fontFamily: "inherit" }}>
                  {side === "before" ? "there was no version" : "gone from the source"}
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Always({ line }: { line: Lifeline }) {
  const proofs = useQuery(queries.proofs({ pipeline: line.pipeline, load: line.load }));
  const latest = proofs.data?.[0];
  const looked = proofs.data?.find((proof) => proof.history !== null);
  return (
    <section>
      <h2 style={{ marginBottom: 6 }}>Always true</h2>
      {looked?.history ? (
        looked.history.broken.length === 0 ? (
          <p>
            One current version, no overlap, gaps only where the source had none, no two neighbours alike: looked at in{" "}
            <Link to={`/proofs/${looked.id}`}>
              {looked.history.of === "all" ? "all versions" : "the versions of the keys that a run changed"},{" "}
              {moment(looked.at)}
            </Link>
            .
          </p>
        ) : (
          <p className="lead">
            {looked.history.broken.map((one) => `${counted(one.versions, "version")} ${one.says}`).join("; ")}.{" "}
            <Link to={`/proofs/${looked.id}`}>Open the proof</Link>
          </p>
        )
      ) : (
        <p className="quiet">Not looked at yet; prove the table row by row to have it looked at.</p>
      )}
      {latest && (
        <p className="quiet" style={{ marginTop: 8 }}>
          The current versions {latest.verdict === "disagrees" ? "disagree with" : "say what"} the source
          {latest.verdict === "disagrees" ? "" : " says"}, by {latest.depth === "cells" ? "every cell" : "figures"},{" "}
          <Link to={`/proofs/${latest.id}`}>{moment(latest.at)}</Link>.
        </p>
      )}
    </section>
  );
}

/** One key through time. */
export default function LifelinePage() {
  const { connection = "", target = "" } = useParams();
  const place = { connection, target };
  const [text] = useUrlState("key");
  const key = keyOf(text);
  const navigate = useNavigate();
  const { data, error } = useQuery({
    ...queries.lifeline(place, key ?? []),
    enabled: key !== null,
    placeholderData: keepPreviousData,
  });
  const [now] = useState(() => Date.now());
  const drawn = useMemo(() => (data ? drawLifeline(data, now) : null), [data, now]);
  const [chosen, setChosen] = useState<{ key: string; edge: number } | null>(null);
  const [pin, setPin] = useState<number | null>(null);
  const edge = chosen?.key === text ? chosen.edge : Math.max(0, (drawn?.edges.length ?? 1) - 1);
  const step = (by: number) =>
    drawn && setChosen({ key: text, edge: Math.min(drawn.edges.length - 1, Math.max(0, edge + by)) });
  const to = (other: string[] | null) => other && navigate(lifelineLink(place, other));
  useHotkeys([
    ["ArrowLeft", () => step(-1)],
    ["ArrowRight", () => step(1)],
    ["N", () => to(data?.next ?? null)],
    ["P", () => to(data?.previous ?? null)],
  ]);
  const proofs = useQuery({
    ...queries.proofs({ pipeline: data?.pipeline ?? "", load: data?.load ?? "" }),
    enabled: data !== undefined,
  });
  const latest = proofs.data?.[0];
  if (!key || error)
    return (
      <main className="page">
        <h1>There is no such key</h1>
        <ErrorNote error={error} />
        <p>
          <Link to={historyLink(place)}>The table {target}</Link>
        </p>
      </main>
    );
  if (!data || !drawn) return <main className="page" aria-busy="true" />;
  // What is shown is told by what is here, also while the next key is on its way.
  const name = data.shape.key.map((column) => data.versions[0]?.[column] ?? "").join(", ");
  const inHand = drawn.edges[edge];
  const since = drawn.versions[0]?.fromText === "-infinity" ? "always" : monthYear.format(drawn.versions[0]?.from);
  const pinned = pin === null ? null : versionAt(drawn, pin);
  return (
    <Page
      title={`${name}, ${target}`}
      trail={[{ to: "/warehouse", of: "Warehouse" }, { to: historyLink(place), of: target }, name]}
      heading={
        <>
          {name} has had {counted(drawn.versions.length, "version")}
          {since === "always" ? "" : ` since ${since}`}
        </>
      }
      about={sentence(drawn, data)}
      actions={
        <>
          {pin !== null && (
            <Button
              component={Link}
              variant="outline"
              to={`${historyLink(place)}?${new URLSearchParams({ at: new Date(pin).toISOString() })}`}
            >
              The table as of {day.format(pin)}
            </Button>
          )}
          <Button variant="outline" disabled={!data.previous} onClick={() => to(data.previous)} title="P">
            Key before
          </Button>
          <Button disabled={!data.next} onClick={() => to(data.next)} title="N">
            Next key
          </Button>
        </>
      }
    >
      <Strands
        drawn={drawn}
        pin={pin}
        onPin={setPin}
        edge={edge}
        onEdge={(at) => setChosen({ key: text, edge: at })}
        state={latest ? markOf(latest) : "loaded"}
      />
      <div className="columns" style={{ marginTop: 20 }}>
        <section aria-label="The edge in hand">
          <div className="head" style={{ marginBottom: 4 }}>
            <h2>{inHand ? `The edge at ${momentWords(inHand.text)}` : "No edge"}</h2>
            <span className="actions">
              <button type="button" className="link" disabled={edge <= 0} onClick={() => step(-1)}>
                ← earlier
              </button>
              <button type="button" className="link" disabled={edge >= drawn.edges.length - 1} onClick={() => step(1)}>
                later →
              </button>
            </span>
          </div>
          {inHand && (
            <>
              <p className="quiet" style={{ marginBottom: 6 }}>
                Edge {edge + 1} of {drawn.edges.length}
                {inHand.after?.values[data.shape.change ?? ""]
                  ? `, ${inHand.after.values[data.shape.change ?? ""]}`
                  : ""}
                {inHand.changed.length > 0 && `: ${inHand.changed.join(", ")} changed`}.{" "}
                {inHand.run !== null && <Link to={`/runs/${inHand.run}`}>Run {inHand.run}</Link>}
                {inHand.after?.corrected.map(({ at, run }) => (
                  <span key={`${at} ${run}`}>
                    {" "}
                    Corrected{" "}
                    {run === null ? "by a run that is not kept" : <Link to={`/runs/${run}`}>by run {run}</Link>}.
                  </span>
                ))}
              </p>
              <EdgeTable edge={inHand} shape={data.shape} />
            </>
          )}
          {pin !== null && (
            <p style={{ marginTop: 10 }}>
              As of {dayTime.format(pin)}:{" "}
              {pinned ? `version ${drawn.versions.indexOf(pinned) + 1}` : "no version; it was not at the source"}.
            </p>
          )}
        </section>
        <Always line={data} />
      </div>
    </Page>
  );
}
