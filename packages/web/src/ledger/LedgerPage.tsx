import { Button, Popover } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import type { LedgerGroup, LedgerLine, LedgerSlice, LedgerTable } from "@undercoat/core/api/api";
import { howSentence } from "@undercoat/core/run/run";
import { type KeyboardEvent, lazy, Suspense, useEffect, useState } from "react";
import { Link } from "react-router";
import { useCanEdit } from "../account/me.ts";
import { queries } from "../api/queries.ts";
import { FigureTable } from "../parts/FigureTable.tsx";
import { counted, grouped, moment, signed, sliceName, zone } from "../parts/format.ts";
import { HourButton } from "../parts/hour.tsx";
import { Legend, Mark, type MarkState, markWords } from "../parts/Mark.tsx";
import { Unanswered } from "../parts/Page.tsx";
import { useRun } from "../parts/runs.ts";
import { Title } from "../parts/Title.tsx";
import { useUrlState } from "../parts/url.ts";
import { ErrorNote } from "../parts/words.tsx";

const BackfillDialog = lazy(() => import("../backfill/BackfillDialog.tsx"));

/** The day after a day, both like 2026-01-31. */
const dayAfter = (day: string) => new Date(Date.parse(`${day}T00:00:00Z`) + 86_400_000).toISOString().slice(0, 10);

/** Both sides' figures of one mark, with what to do next. */
function MarkFigures({ table: { lines, ...whole }, slice }: { table: LedgerTable; slice: LedgerSlice }) {
  // A mark that stands for several lines tells of the gravest of them.
  const table: LedgerLine = lines.find((line) => line.line === slice.line) ?? whole;
  const given = table.given ?? undefined;
  const canEdit = useCanEdit() && table.given !== null;
  const run = useRun();
  const scope =
    slice.slice === "" && table.sliced
      ? { kind: "slice" as const, slice: null }
      : slice.slice === ""
        ? { kind: "due" as const }
        : { kind: "slice" as const, slice: slice.slice };
  const disagrees = slice.state === "disagrees" || slice.state === "empty";
  return (
    <div style={{ width: 330 }}>
      <div className="head" style={{ marginBottom: 4 }}>
        <span className="mono strong cut">
          {table.target}
          {table.line && table.line !== table.target && ` · ${table.line}`}
        </span>
        <span className="quiet nowrap">
          {slice.slice ? sliceName(slice.slice) : table.sliced ? "no date" : "whole table"}
        </span>
      </div>
      <FigureTable figures={slice.figures} />
      <p className="quiet" style={{ margin: "8px 0 0" }}>
        {slice.state === "proved"
          ? `Every cell was compared, ${moment(slice.cellsAt ?? "")}.`
          : slice.state === "figures"
            ? `The figures agree${slice.cellsAt ? `; every cell was last compared ${moment(slice.cellsAt)}` : "; its cells have not been compared since it changed"}.`
            : disagrees && slice.figures.every((pair) => pair.source === pair.warehouse)
              ? "The figures agree, but cells differ."
              : ""}{" "}
        {howSentence(table.how)}
      </p>
      <ErrorNote error={run.error} />
      <div className="actions" style={{ marginTop: 12 }}>
        {(disagrees || slice.state === "figures") && canEdit && (
          <Button
            size="xs"
            loading={run.isPending}
            onClick={() =>
              run.mutate({
                pipeline: table.pipeline,
                given,
                kind: "prove",
                loads: [table.load],
                scope,
                rows: true,
                reason: slice.slice ? `the cells of ${sliceName(slice.slice)}` : "cell by cell",
              })
            }
          >
            {disagrees ? "Show the rows" : "Compare every cell"}
          </Button>
        )}
        {canEdit && (
          <Button
            size="xs"
            variant={disagrees ? "outline" : "filled"}
            onClick={() =>
              run.mutate({
                pipeline: table.pipeline,
                given,
                kind: "load",
                loads: [table.load],
                scope,
                reason: slice.slice ? `${sliceName(slice.slice)} again` : "by hand",
              })
            }
          >
            {slice.slice ? `Reload this ${table.by?.split(" ")[0] ?? "slice"}` : "Run this load"}
          </Button>
        )}
        {slice.proof !== null && <Link to={`/proofs/${slice.proof}`}>Open the proof</Link>}
      </div>
    </div>
  );
}

/** A mark that opens its figures. Of a row's marks one is a stop of the keyboard; arrows lead to the others. */
function MarkButton({
  table,
  slice,
  wide,
  stop = true,
}: {
  table: LedgerTable;
  slice: LedgerSlice | undefined;
  wide?: boolean;
  stop?: boolean;
}) {
  const [open, setOpen] = useState(false);
  const state: MarkState = table.loading && (wide || !slice) ? "loading" : (slice?.state ?? "empty");
  if (!slice) return <Mark state={state} wide={wide} />;
  return (
    <Popover opened={open} onChange={setOpen} position="bottom" withArrow shadow="md" trapFocus returnFocus>
      <Popover.Target>
        <button
          type="button"
          className="mark"
          tabIndex={stop ? 0 : -1}
          style={wide ? { width: "100%", textAlign: "left" } : undefined}
          onClick={() => setOpen(!open)}
          // What opens takes the focus a moment later; Escape counts before, too.
          onKeyDown={(event) => event.key === "Escape" && setOpen(false)}
          aria-expanded={open}
          aria-label={`${table.target}, ${slice.slice ? sliceName(slice.slice) : "whole table"}: ${markWords[state]}`}
        >
          <Mark state={state} wide={wide} />
        </button>
      </Popover.Target>
      <Popover.Dropdown>{open && <MarkFigures table={table} slice={slice} />}</Popover.Dropdown>
    </Popover>
  );
}

/** Days of a row that are chosen together, by dragging over them or by arrows with Shift; what they are for is asked at the end. */
function useRange(able: boolean) {
  const [ends, setEnds] = useState<{ from: number; to: number } | null>(null);
  const [dragged, setDragged] = useState(false);
  const [asked, setAsked] = useState<{ first: number; last: number } | null>(null);
  const clear = () => {
    setEnds(null);
    setDragged(false);
    setAsked(null);
  };
  // One day alone is a click on its mark.
  const end = () => {
    if (asked || !ends) return;
    if (ends.from === ends.to) return clear();
    setDragged(false);
    setAsked({ first: Math.min(ends.from, ends.to), last: Math.max(ends.from, ends.to) });
  };
  useEffect(() => {
    if (!dragged) return;
    window.addEventListener("pointerup", end);
    return () => window.removeEventListener("pointerup", end);
  });
  return {
    asked,
    clear,
    end,
    begin: (at: number) => {
      if (!able || asked) return;
      setDragged(true);
      setEnds({ from: at, to: at });
    },
    go: (at: number) => dragged && ends && setEnds({ ...ends, to: at }),
    extend: (from: number, to: number) => able && !asked && setEnds({ from: ends?.from ?? from, to }),
    has: (at: number) => ends !== null && at >= Math.min(ends.from, ends.to) && at <= Math.max(ends.from, ends.to),
  };
}

/** A table, or with its name one of the lines that are loaded into it. */
function TableRow({
  table,
  days,
  named,
  onOpen,
  open,
}: {
  table: LedgerTable;
  days: string[];
  named?: string;
  /** for a table of several lines: shows and hides them */
  onOpen?: () => void;
  open?: boolean;
}) {
  const whole = table.slices.find((slice) => slice.slice === "") ?? (table.sliced ? undefined : table.slices[0]);
  const differs = table.verdict === "disagrees";
  const slices = table.days;
  const [held, setHeld] = useState<string | null>(null);
  // What disagrees is where one arrives, else the latest day.
  const first = slices.findLast((slice) => slice?.state === "disagrees") ?? slices.findLast(Boolean);
  const stop = held ?? days[slices.lastIndexOf(first ?? null)] ?? null;
  const canEdit = useCanEdit();
  const range = useRange(canEdit && table.given !== null && table.sliced && Boolean(table.by?.startsWith("day ")));
  const move = (event: KeyboardEvent<HTMLTableRowElement>) => {
    const step = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    const marks = [...event.currentTarget.querySelectorAll<HTMLElement>("button.mark")];
    const at = marks.indexOf(document.activeElement as HTMLElement);
    if (step === undefined || at < 0) return;
    event.preventDefault();
    const next = marks[at + step];
    const day = next?.closest("td")?.dataset.day;
    if (event.shiftKey && day && held) range.extend(days.indexOf(held), days.indexOf(day));
    next?.focus();
  };
  return (
    <tr onKeyDown={move} onKeyUp={(event) => event.key === "Shift" && range.end()}>
      <td className="nowrap">
        {onOpen && (
          <button
            type="button"
            className="opener"
            aria-expanded={open}
            aria-label={`${counted(table.lines.length, "set")} of ${table.load}`}
            onClick={onOpen}
          >
            {open ? "−" : "+"}
          </button>
        )}
        <Link
          to={`/pipelines/${table.pipeline}/${table.load}${table.given?.set ? `?values=${table.given.set}` : ""}`}
          className="mono"
          style={{ color: "var(--ink)", ...(named === undefined ? {} : { paddingLeft: 22 }) }}
        >
          {named ?? table.target}
        </Link>
        {table.lines.length > 0 && <span className="quiet"> {counted(table.lines.length, "set")}</span>}
        {table.history && (
          <span className="quiet nowrap" style={{ fontSize: 12 }} title="It keeps the history of its rows">
            {" "}
            history
          </span>
        )}
      </td>
      {table.sliced ? (
        days.map((day, at) => (
          <td
            key={day}
            data-day={day}
            className={range.has(at) ? "chosen" : undefined}
            style={{ padding: "6px 0", textAlign: "center" }}
            onFocus={() => setHeld(day)}
            onPointerDown={(event) => event.button === 0 && range.begin(at)}
            onPointerEnter={(event) => event.buttons === 1 && range.go(at)}
          >
            <MarkButton table={table} slice={slices[at] ?? undefined} stop={stop === day} />
          </td>
        ))
      ) : (
        <td colSpan={days.length} style={{ padding: "6px 0" }}>
          <MarkButton table={table} slice={whole} wide />
        </td>
      )}
      <td>
        {table.earlierDisagreements.length > 0 && (
          <Link to={`/proofs/${table.earlierDisagreements[0]?.proof}`} className="lead">
            {table.earlierDisagreements.length} earlier
          </Link>
        )}
      </td>
      <td className="right mono">{grouped(table.rows)}</td>
      <td className={`right mono${differs ? " lead strong" : ""}`}>
        {table.loadedAt ? signed(table.difference) : "–"}
      </td>
      <td className="nowrap quiet">
        {table.loading ? "loading" : table.loadedAt ? moment(table.loadedAt) : "not loaded"}
        {table.failed && (
          <>
            {" · "}
            <Link to={`/runs/${table.failed.run}`} className="lead" title={table.failed.message}>
              failed since
            </Link>
          </>
        )}
        {range.asked && (
          <Suspense fallback={null}>
            <BackfillDialog
              pipeline={table.pipeline}
              title={table.target}
              loads={[table.load]}
              chosen={[table.load]}
              given={table.given ?? undefined}
              interval={{ from: days[range.asked.first] ?? "", to: dayAfter(days[range.asked.last] ?? "") }}
              onClose={range.clear}
            />
          </Suspense>
        )}
      </td>
    </tr>
  );
}

/** A table, and where several sets of values load it each of them below, when it is opened. */
function TableLines({ table, days }: { table: LedgerTable; days: string[] }) {
  const name = `${table.pipeline}/${table.load}`;
  const [opened, setOpened] = useUrlState("open");
  const all = opened.split(",").filter(Boolean);
  const open = all.includes(name);
  if (table.lines.length === 0) return <TableRow table={table} days={days} />;
  const shared = new Set(table.lines.map((line) => line.target)).size === 1;
  return (
    <>
      <TableRow
        table={table}
        days={days}
        open={open}
        onOpen={() => setOpened((open ? all.filter((one) => one !== name) : [...all, name]).join(","))}
      />
      {open &&
        table.lines.map((line) => (
          <TableRow
            key={line.line}
            table={{ ...line, lines: [] }}
            days={days}
            named={shared ? line.line || "the defaults" : line.target}
          />
        ))}
    </>
  );
}

/** So many are listed above the table, which shows all. */
const mostNeeds = 4;

/** Something that needs somebody, and where they go for it. */
interface Need {
  words: string;
  to: string;
}

/** What needs somebody, the gravest first: what disagrees, what failed, what is late, what was rejected. */
function needs(groups: LedgerGroup[]): Need[] {
  const tables = groups.flatMap((group) =>
    group.tables.flatMap((table): LedgerTable[] =>
      table.lines.length
        ? table.lines.map((line) => ({
            ...line,
            lines: [],
            target: line.line && line.line !== line.target ? `${line.target} (${line.line})` : line.target,
          }))
        : [table],
    ),
  );
  const differing = (table: LedgerTable) =>
    [...table.slices, ...table.earlierDisagreements].filter(
      (slice) => slice.state === "disagrees" || slice.state === "empty",
    );
  return [
    ...tables
      .filter((table) => table.verdict === "disagrees")
      .map((table): Need => {
        const slices = differing(table);
        // What a run read or the source counts can disagree where no slice does.
        if (table.sliced && slices.length === 0)
          return {
            words: `${table.target} disagrees, as its last proof says`,
            to: `/proofs?${new URLSearchParams({ pipeline: table.pipeline, load: table.load })}`,
          };
        const days = table.sliced ? ` on ${counted(slices.length, table.by?.split(" ")[0] ?? "slice")}` : "";
        const proof = slices[0]?.proof;
        return {
          words: `${table.target} disagrees${days}, by ${signed(table.difference)}`,
          to: proof ? `/proofs/${proof}` : `/pipelines/${table.pipeline}/${table.load}`,
        };
      }),
    ...tables.flatMap((table): Need[] =>
      table.failed
        ? [{ words: `${table.target} failed: ${table.failed.message}`, to: `/runs/${table.failed.run}` }]
        : [],
    ),
    ...groups.flatMap((group): Need[] =>
      group.lateSince
        ? [
            {
              words: `${group.title} was due ${moment(group.lateSince)} and has not begun`,
              to: `/pipelines/${group.pipeline}`,
            },
          ]
        : [],
    ),
    ...tables
      .filter((table) => table.rejected !== "0")
      .map((table) => ({
        words: `${table.target} rejected ${counted(Number(table.rejected), "row")} in its last run`,
        to: `/rejected?load=${table.pipeline}/${table.load}`,
      })),
  ];
}

/** What disagrees comes first, then what failed; else the groups stay in their order. */
function graver(a: LedgerGroup, b: LedgerGroup): number {
  const weight = ({ tables }: LedgerGroup) =>
    tables.some((table) => table.verdict === "disagrees") ? 2 : tables.some((table) => table.failed) ? 1 : 0;
  return weight(b) - weight(a);
}

/** How things stand, in a sentence or two. */
function standing(groups: LedgerGroup[]): { title: string; rest: string } {
  const tables = groups.flatMap((group) => group.tables);
  const days = tables
    .filter((table) => table.sliced)
    .flatMap((table) => table.slices.filter((slice) => slice.slice !== ""));
  const whole = tables.filter((table) => !table.sliced).flatMap((table) => table.slices);
  const proved = (marks: LedgerSlice[]) =>
    marks.filter((mark) => mark.state === "proved" || mark.state === "figures").length;
  const byCells = [...days, ...whole].filter((mark) => mark.state === "proved").length;
  const byFigures = [...days, ...whole].filter((mark) => mark.state === "figures").length;
  const depth =
    byFigures === 0
      ? "cell by cell"
      : byCells === 0
        ? "by their figures"
        : `${grouped(String(byCells))} of them cell by cell, ${grouped(String(byFigures))} by their figures`;
  const share = (marks: LedgerSlice[], one: string) =>
    proved(marks) === marks.length
      ? `all ${counted(marks.length, one)}`
      : `${grouped(String(proved(marks)))} of ${counted(marks.length, one)}`;
  const unloaded = tables.filter((table) => !table.loadedAt);
  if (days.length + whole.length === 0)
    return { title: "Nothing has been loaded yet.", rest: "Run a pipeline, and its tables are proved here." };
  const counts = [
    ...(days.length
      ? [share(days, tables.every((table) => !table.sliced || table.by?.startsWith("day ")) ? "day" : "slice")]
      : []),
    ...(whole.length ? [share(whole, "whole table")] : []),
  ].join(" and ");
  const loading = tables.filter((table) => table.loading).length;
  const parts = [
    ...(loading ? [`${loading} ${loading === 1 ? "table is" : "tables are"} loading now`] : []),
    ...(unloaded.length
      ? [`${unloaded.length} ${unloaded.length === 1 ? "table has" : "tables have"} not been loaded`]
      : []),
  ];
  return {
    title: `${counts[0]?.toUpperCase()}${counts.slice(1)} stand proved.`,
    rest: `${depth[0]?.toUpperCase()}${depth.slice(1)}${parts.length ? `; ${parts.join("; ")}` : tables.every((table) => table.verdict === "proved") ? ": every table says what its source says" : ""}.`,
  };
}

export default function LedgerPage() {
  const { data, error } = useQuery(queries.ledger(zone));
  if (!data) return <Unanswered error={error} />;
  if (data.groups.length === 0)
    return (
      <main className="page">
        <h1>Nothing is loaded here yet.</h1>
        <p style={{ maxWidth: 560, margin: "10px 0 18px" }}>
          First tell Undercoat where your source and your warehouse are, then choose the tables to load. Each table
          appears here with its last fourteen days, and each day says whether it is loaded and proved.
        </p>
        <div className="actions">
          <Button component={Link} to="/connections?new=1">
            Add a connection
          </Button>
          <Button component={Link} to="/pipelines/new" variant="outline">
            Make a pipeline
          </Button>
        </div>
      </main>
    );
  const { title, rest } = standing(data.groups);
  const wanting = needs(data.groups);
  return (
    <main className="page">
      <Title of="Ledger" />
      <div className="head" style={{ marginBottom: 0 }}>
        <h1>{title}</h1>
        <HourButton />
      </div>
      <div className="head">
        <div>
          <p className="quiet">{rest}</p>
          {wanting.length > 0 && (
            <ul className="needs" aria-label="What needs somebody">
              {wanting.slice(0, mostNeeds).map(({ words, to }) => (
                <li key={words}>
                  <Link to={to} className="lead">
                    {words}
                  </Link>
                </li>
              ))}
              {wanting.length > mostNeeds && <li className="quiet">and {wanting.length - mostNeeds} more below</li>}
            </ul>
          )}
        </div>
        <Legend />
      </div>
      <table className="plain ledger">
        <thead>
          <tr>
            <th style={{ width: 210 }}>Warehouse table</th>
            {data.days.map((day) => (
              <th key={day} style={{ width: 35, padding: "7px 0", textAlign: "center" }} title={sliceName(day)}>
                {day.slice(8)}
              </th>
            ))}
            <td />
            <th className="right">Rows</th>
            <th className="right">Difference</th>
            <th>Last loaded</th>
          </tr>
        </thead>
        {data.groups.toSorted(graver).map((group) => (
          <tbody key={group.pipeline}>
            <tr>
              <th colSpan={data.days.length + 5} scope="rowgroup" className="group">
                <Link to={`/pipelines/${group.pipeline}`}>{group.title}</Link>
                <span>{group.schedule}</span>
              </th>
            </tr>
            {group.tables.map((table) => (
              <TableLines key={table.load} table={table} days={data.days} />
            ))}
          </tbody>
        ))}
      </table>
    </main>
  );
}
