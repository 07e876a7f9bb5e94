import type {
  Dock,
  Finding,
  Ledger,
  LedgerLine,
  LedgerSlice,
  LedgerTable,
  WarehouseTable,
  WarehouseView,
} from "@undercoat/core/api/api";
import { kindOf } from "@undercoat/core/connection/kinds";
import { type Given, placesOf } from "@undercoat/core/parameter/resolve";
import { earliestFor, meets } from "@undercoat/core/proof/days";
import { subtract } from "@undercoat/core/proof/decimal";
import type { FigurePair } from "@undercoat/core/proof/verdict";
import { isZone, schedulesOf, schedulesWords } from "@undercoat/core/schedule/schedule";
import { formatTableName } from "@undercoat/core/sql/identifier";
import { failureOf } from "@undercoat/engine/failure";
import { sourceFor } from "@undercoat/engine/source/registry";
import { Op } from "sequelize";
import { asks, requires, routes } from "../context.ts";
import { nameOf } from "../jobs/standing.ts";
import { lateSince } from "../messages/late.ts";
import { HttpProblem } from "../problem.ts";
import {
  ConnectionRow,
  PipelineRow,
  ProofRow,
  RunLoadRow,
  RunRow,
  SliceRow,
  StandingRow,
  TargetRow,
} from "../store/models.ts";
import type { Store } from "../store/store.ts";

const daysShown = 14;

/** The last days as text, oldest first, in a zone. */
function lastDays(zone: string, now = Date.now()): string[] {
  const day = new Intl.DateTimeFormat("en-CA", { timeZone: zone, year: "numeric", month: "2-digit", day: "2-digit" });
  const today = new Date(`${day.format(now)}T12:00:00Z`).getTime();
  return Array.from({ length: daysShown }, (_, at) =>
    new Date(today - (daysShown - 1 - at) * 86_400_000).toISOString().slice(0, 10),
  );
}

/** The first difference among a proof's figures, signed, warehouse less source. */
function firstDifference(figures: FigurePair[]): string | null {
  const differences = figures
    .map((pair) => subtract(pair.warehouse ?? "0", pair.source ?? "0"))
    .filter((value) => value !== null);
  const sums = figures.flatMap((pair) =>
    pair.figure.startsWith("sum(") ? [subtract(pair.warehouse ?? "0", pair.source ?? "0")] : [],
  );
  return [...sums, ...differences].find((value) => value && !/^0(\.0+)?$/.test(value)) ?? differences[0] ?? null;
}

function mark(row: SliceRow): LedgerSlice {
  const rows = row.figures.find((pair) => pair.figure === "rows");
  const empty = rows?.warehouse === "0" && rows.source !== "0";
  return {
    slice: row.slice,
    state: empty
      ? "empty"
      : row.verdict === "proved"
        ? row.depth === "cells"
          ? "proved"
          : "figures"
        : row.verdict === "disagrees"
          ? "disagrees"
          : "loaded",
    cellsAt: row.cellsAt?.toISOString() ?? null,
    figures: row.figures,
    proof: row.proofId,
  };
}

/** Of the slices of a day the one that needs somebody most: one that differs before one that is not proved as deep. */
function gravest(slices: LedgerSlice[]): LedgerSlice | null {
  const order: LedgerSlice["state"][] = ["disagrees", "empty", "loaded", "figures", "proved"];
  return slices.toSorted((a, b) => order.indexOf(a.state) - order.indexOf(b.state))[0] ?? null;
}

/** Lines of a load, told together: what is gravest, what is least, and what adds up. */
function together(lines: LedgerLine[], days: readonly string[]): LedgerTable {
  const [first] = lines;
  if (!first) throw new Error("A load has a line at least");
  const sum = (of: (line: LedgerLine) => string | null) =>
    lines.every((line) => of(line) !== null)
      ? lines.reduce((total, line) => total + BigInt(of(line) ?? "0"), 0n).toString()
      : null;
  const earliest = (of: (line: LedgerLine) => string | null) =>
    lines.some((line) => of(line) === null) ? null : (lines.map((line) => of(line) ?? "").toSorted()[0] ?? null);
  const verdicts = lines.map((line) => line.verdict);
  const targets = new Set(lines.map((line) => line.target));
  return {
    ...first,
    line: "",
    lines,
    target: targets.size === 1 ? first.target : `${targets.size} tables`,
    rows: sum((line) => line.rows),
    difference: lines.find((line) => line.verdict === "disagrees")?.difference ?? first.difference,
    loadedAt: earliest((line) => line.loadedAt),
    provedAt: earliest((line) => line.provedAt),
    loading: lines.some((line) => line.loading),
    failed: lines.find((line) => line.failed)?.failed ?? null,
    rejected: sum((line) => line.rejected) ?? "0",
    verdict: verdicts.includes("disagrees") ? "disagrees" : verdicts.includes(null) ? null : (verdicts[0] ?? null),
    slices: lines.flatMap((line) => line.slices.map((slice) => ({ ...slice, line: line.line }))),
    days: days.map((_, day) =>
      gravest(
        lines.flatMap((line) => {
          const slice = line.days[day];
          return slice ? [{ ...slice, line: line.line }] : [];
        }),
      ),
    ),
    earlierDisagreements: lines.flatMap((line) =>
      line.earlierDisagreements.map((slice) => ({ ...slice, line: line.line })),
    ),
  };
}

/** How each load stands, with its latest proof and the latest of its whole table. */
class Standings {
  private constructor(
    private readonly rows: Map<string, StandingRow>,
    private readonly proofs: Map<number, ProofRow>,
  ) {}

  static async read(): Promise<Standings> {
    const rows = await StandingRow.findAll();
    const ids = rows.flatMap((row) => [row.proofId, row.wholeId]).filter((id) => id !== null);
    const proofs = await ProofRow.findAll({
      where: { id: [...new Set(ids)] },
      attributes: ["id", "pipeline", "load", "line", "at", "verdict", "depth", "how", "figures", "whole"],
    });
    return new Standings(
      new Map(rows.map((row) => [nameOf(row), row])),
      new Map(proofs.map((proof) => [proof.id, proof])),
    );
  }

  linesOf(pipeline: string, load: string): string[] {
    return [...this.rows.values()].flatMap((row) => (row.pipeline === pipeline && row.load === load ? [row.line] : []));
  }

  of(place: { pipeline: string; load: string; line: string }): {
    row?: StandingRow;
    proof?: ProofRow;
    whole?: ProofRow;
  } {
    const row = this.rows.get(nameOf(place));
    return { row, proof: this.proofs.get(row?.proofId ?? 0), whole: this.proofs.get(row?.wholeId ?? 0) };
  }
}

/** The lines of a load: each set of values, and what values by hand have written besides; the defaults where there are no others or they have been run. */
function linesOf({ name, definition }: PipelineRow, load: string, standings: Standings): string[] {
  const sets = Object.keys(definition.values ?? {});
  const run = standings.linesOf(name, load);
  return [...new Set([...(sets.length === 0 || run.includes("") ? [""] : []), ...sets, ...run])];
}

async function ledger(store: Store, zone: string): Promise<Ledger> {
  const now = Date.now();
  const days = lastDays(zone);
  const pipelines = await PipelineRow.findAll({ order: ["title"] });
  const shownMarks = await SliceRow.findAll({
    where: {
      [Op.or]: [
        { slice: { [Op.gte]: days[0], [Op.lte]: `${days.at(-1)} 23:59:59` } },
        // A week, a month or a year that holds the first day began before it.
        { slice: { [Op.gte]: earliestFor(days[0] ?? ""), [Op.lt]: days[0], [Op.like]: "__________" } },
        { slice: "" },
        { verdict: "disagrees" },
      ],
    },
  });
  const marks = new Map<string, SliceRow[]>();
  for (const row of shownMarks) {
    const name = nameOf(row);
    marks.set(name, [...(marks.get(name) ?? []), row]);
  }
  const standings = await Standings.read();
  const running = await store.query<{ pipeline: string; load: string; line: string }>(
    "SELECT r.pipeline, l.load, l.line FROM run_loads l JOIN runs r ON r.id = l.run_id WHERE l.status = 'running' AND r.status = 'running' AND r.kind NOT IN ('prove', 'rehearse')",
  );
  const table = (
    place: { pipeline: string; load: string; line: string },
    definition: PipelineRow["definition"]["loads"][string],
    target: string,
    given: Given | null,
  ): LedgerLine => {
    const mine = marks.get(nameOf(place)) ?? [];
    const { row: stands, proof, whole } = standings.of(place);
    const by = definition.proof?.by;
    const rows = whole?.figures.find((pair) => pair.figure === "rows")?.warehouse ?? null;
    // A newer proof of one slice leaves the verdict over the others as it was.
    const disagrees = proof?.verdict === "disagrees" || mine.some((row) => row.verdict === "disagrees");
    // A day without rows on either side is proved as well, where the whole table was compared.
    const unit = by?.slice ?? "day";
    const fine = unit === "day" || unit === "hour";
    const bare = by && fine && whole ? days.filter((day) => !mine.some((row) => meets(unit, row.slice, day))) : [];
    const shown = [
      ...mine.map(mark),
      ...bare.map(
        (day): LedgerSlice => ({
          slice: unit === "hour" ? `${day} 00:00:00` : day,
          state: whole?.depth === "cells" ? "proved" : "figures",
          cellsAt: whole?.depth === "cells" ? whole.at.toISOString() : null,
          figures: [{ figure: "rows", source: "0", warehouse: "0" }],
          proof: whole?.id ?? null,
        }),
      ),
    ];
    return {
      ...place,
      given,
      target,
      sliced: by !== undefined && by.slice !== "origin",
      history: definition.into.mode === "history",
      by: by ? (by.slice === "origin" ? by.column : `${by.slice} of ${by.column}`) : null,
      rows,
      difference: whole ? firstDifference(whole.figures) : null,
      loadedAt: stands?.loadedAt?.toISOString() ?? null,
      failed: stands?.status === "failed" ? { run: stands.runId ?? 0, message: stands.failure?.message ?? "" } : null,
      rejected: stands?.rejected ?? "0",
      provedAt: proof?.at.toISOString() ?? null,
      how: proof?.how ?? null,
      loading: running.some((row) => nameOf(row) === nameOf(place)),
      verdict: disagrees ? "disagrees" : (proof?.verdict ?? null),
      // What has no days stands by what is gravest of it.
      slices:
        by?.slice === "origin"
          ? [gravest(shown)].filter((slice) => slice !== null)
          : shown.filter((slice) => slice.slice === "" || days.some((day) => meets(unit, slice.slice, day))),
      days: days.map((day) => gravest(shown.filter((slice) => slice.slice !== "" && meets(unit, slice.slice, day)))),
      earlierDisagreements: shown.filter(
        (slice) =>
          slice.state === "disagrees" && slice.slice !== "" && !days.some((day) => meets(unit, slice.slice, day)),
      ),
    };
  };
  return {
    days,
    groups: pipelines.map((row) => ({
      pipeline: row.name,
      title: row.title,
      schedule: schedulesWords(schedulesOf(row.definition)),
      lateSince: lateSince(row, Date.now())?.toISOString() ?? null,
      tables: Object.entries(row.definition.loads).map(([load, definition]) => {
        const places = placesOf(row.definition, now).filter((one) => one.load === load);
        const told = linesOf(row, load, standings).map((line) => {
          const at = places.find((one) => (one.set ?? "") === line);
          const known = line === "" || Object.hasOwn(row.definition.values ?? {}, line);
          return table(
            { pipeline: row.name, load, line },
            definition,
            at?.table ?? (line || definition.into.table),
            known ? { set: line || null } : null,
          );
        });
        const [only] = told;
        return only && told.length === 1 ? { ...only, lines: [] } : together(told, days);
      }),
    })),
  };
}

async function dock(): Promise<Dock> {
  const runs = await RunRow.findAll({ where: { status: ["running", "queued", "unknown"] }, order: ["id"] });
  const loads = await RunLoadRow.findAll({ where: { runId: runs.map((run) => run.id), status: "running" } });
  const next = await PipelineRow.findOne({ where: { nextAt: { [Op.ne]: null } }, order: ["nextAt"] });
  return {
    running: runs
      .filter((run) => run.status === "running")
      .map((run) => {
        const load = loads.find((row) => row.runId === run.id);
        return {
          run: run.id,
          pipeline: run.pipeline,
          title: run.title,
          kind: run.kind,
          load: load?.load ?? null,
          rows: "0",
          rate: 0,
          waitingFor: load?.waitingFor ?? null,
        };
      }),
    queued: runs.filter((run) => run.status === "queued").length,
    next: next?.nextAt ? { pipeline: next.name, title: next.title, at: next.nextAt.toISOString() } : null,
  };
}

/** How things stand: the ledger, and the dock at every page's foot. */
export const standing = routes()
  .use(requires("viewer"))
  .get("/ledger", asks("zone"), async (c) => {
    const { zone = "UTC" } = c.req.valid("query");
    if (!isZone(zone)) throw new HttpProblem(422, `${zone} is not a time zone; write one like Europe/Oslo`);
    return c.json(await ledger(c.get("house").store, zone));
  })
  .get("/dock", async (c) => c.json(await dock()));

/** The tables of every warehouse that a pipeline loads into, or did, with who loads them. */
export const warehouse = routes()
  .use(requires("viewer"))
  .get("/", async (c) => {
    const { store } = c.get("house");
    const pipelines = await PipelineRow.findAll();
    const written = await TargetRow.findAll();
    const known = new Set((await ConnectionRow.findAll({ attributes: ["name"] })).map((row) => row.name));
    const names = [
      ...new Set([
        ...(await store.warehouses()),
        ...written.map((row) => row.connection).filter((name) => known.has(name)),
      ]),
    ];
    const standings = await Standings.read();
    const loaders = pipelines.flatMap((row) =>
      placesOf(row.definition, Date.now()).map((place) => ({
        ...place,
        pipeline: row.name,
        history: row.definition.loads[place.load]?.into.mode === "history",
      })),
    );
    const tables: WarehouseTable[] = [];
    const unreachable: WarehouseView["unreachable"] = [];
    for (const name of names) {
      const datasets = await store
        .credentials(name)
        .then((credentials) => sourceFor(credentials).datasets())
        .catch((error: unknown) => {
          unreachable.push({ connection: name, failure: failureOf(error, { name }) });
          return [];
        });
      for (const dataset of datasets) {
        const { schema, name: table, kind, bytes, comment } = dataset;
        const target = formatTableName({ schema, table });
        const loader = loaders.find((entry) => entry.warehouse === name && entry.table === target);
        const { row: stands, whole } = standings.of({
          pipeline: loader?.pipeline ?? "",
          load: loader?.load ?? "",
          line: loader?.set ?? "",
        });
        const once = loader ? undefined : written.find((row) => row.connection === name && row.target === target);
        // What the last whole proof counted is exact; the server's own figure is an estimate, and absent for a new table.
        // Of a shared table that is but a part.
        const exact = loader?.part ? undefined : whole?.figures.find((pair) => pair.figure === "rows")?.warehouse;
        const rows = exact ?? dataset.rows;
        tables.push({
          connection: name,
          schema,
          name: table,
          kind,
          rows,
          bytes,
          pipeline: loader?.pipeline ?? null,
          load: loader?.load ?? null,
          loadedAt: (stands?.loadedAt ?? once?.loadedAt)?.toISOString() ?? null,
          comment,
          history: loader?.history ?? false,
          once: once?.title ?? null,
        });
      }
    }
    return c.json({ tables, unreachable } satisfies WarehouseView);
  });

/** Anything by a part of its name. */
export const search = routes()
  .use(requires("viewer"))
  .get("/", asks("q"), async (c) => {
    const wanted = (c.req.valid("query").q ?? "").trim().toLowerCase();
    if (!wanted) return c.json([]);
    const has = (...texts: string[]) => texts.some((text) => text.toLowerCase().includes(wanted));
    const found: Finding[] = [];
    const pipelines = await PipelineRow.findAll({ order: ["title"] });
    const named = pipelines.filter((row) => has(row.name, row.title)).map((row) => row.name);
    for (const row of pipelines) {
      if (named.includes(row.name))
        found.push({
          kind: "pipeline",
          title: row.title,
          detail: schedulesWords(schedulesOf(row.definition)),
          to: `/pipelines/${row.name}`,
        });
      for (const { load, table } of placesOf(row.definition, Date.now()))
        if (has(table, load) && !found.some(({ kind, title }) => kind === "table" && title === table))
          found.push({
            kind: "table",
            title: table,
            detail: `loaded by ${row.title}`,
            to: `/pipelines/${row.name}/${load}`,
          });
    }
    for (const row of await ConnectionRow.findAll({ order: ["name"] }))
      if (has(row.name, kindOf(row.settings).place(row.settings)))
        found.push({
          kind: "connection",
          title: row.name,
          detail: kindOf(row.settings).place(row.settings),
          to: `/connections/${row.name}`,
        });
    const number = /^(?:run )?(\d{1,9})$/.exec(wanted)?.[1];
    const runs = number
      ? await RunRow.findAll({ where: { id: Number(number) } })
      : await RunRow.findAll({ where: { pipeline: named }, order: [["id", "DESC"]], limit: 5 });
    for (const run of runs)
      found.push({ kind: "run", title: `Run ${run.id}`, detail: `${run.title}, ${run.status}`, to: `/runs/${run.id}` });
    // What is named exactly so comes before what only has it in its name.
    const exact = ({ title }: Finding) =>
      [title, title.split(".").at(-1) ?? ""].some((name) => name.toLowerCase() === wanted);
    return c.json(found.toSorted((a, b) => Number(exact(b)) - Number(exact(a))).slice(0, 30));
  });
