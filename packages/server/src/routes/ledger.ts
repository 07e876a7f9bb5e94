import type {
  Dock,
  Finding,
  Ledger,
  LedgerSlice,
  LedgerTable,
  WarehouseTable,
  WarehouseView,
} from "@undercoat/core/api/api";
import { earliestFor, meets } from "@undercoat/core/proof/days";
import { subtract } from "@undercoat/core/proof/decimal";
import type { FigurePair } from "@undercoat/core/proof/verdict";
import { isZone, scheduleWords } from "@undercoat/core/schedule/schedule";
import { formatTableName, parseTableName } from "@undercoat/core/sql/identifier";
import { failureOf } from "@undercoat/engine/failure";
import { sourceFor } from "@undercoat/engine/source/registry";
import { Op } from "sequelize";
import { asks, requires, routes } from "../context.ts";
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
/** A run that is due begins within moments; so many milliseconds after, it is late. */
const lateAfter = 120_000;

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
      attributes: ["id", "pipeline", "load", "at", "verdict", "depth", "figures", "whole"],
    });
    return new Standings(
      new Map(rows.map((row) => [JSON.stringify([row.pipeline, row.load]), row])),
      new Map(proofs.map((proof) => [proof.id, proof])),
    );
  }

  of(pipeline: string, load: string): { row?: StandingRow; proof?: ProofRow; whole?: ProofRow } {
    const row = this.rows.get(JSON.stringify([pipeline, load]));
    return { row, proof: this.proofs.get(row?.proofId ?? 0), whole: this.proofs.get(row?.wholeId ?? 0) };
  }
}

async function ledger(store: Store, zone: string): Promise<Ledger> {
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
    const name = JSON.stringify([row.pipeline, row.load]);
    marks.set(name, [...(marks.get(name) ?? []), row]);
  }
  const standings = await Standings.read();
  const running = await store.query<{ pipeline: string; load: string }>(
    "SELECT r.pipeline, l.load FROM run_loads l JOIN runs r ON r.id = l.run_id WHERE l.status = 'running' AND r.status = 'running' AND r.kind NOT IN ('prove', 'rehearse')",
  );
  const table = (
    pipeline: string,
    load: string,
    definition: PipelineRow["definition"]["loads"][string],
  ): LedgerTable => {
    const mine = marks.get(JSON.stringify([pipeline, load])) ?? [];
    const { row: stands, proof, whole } = standings.of(pipeline, load);
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
      pipeline,
      load,
      target: definition.into.table,
      sliced: by !== undefined,
      history: definition.into.mode === "history",
      by: by ? `${by.slice} of ${by.column}` : null,
      rows,
      difference: whole ? firstDifference(whole.figures) : null,
      loadedAt: stands?.loadedAt?.toISOString() ?? null,
      failed: stands?.status === "failed" ? { run: stands.runId ?? 0, message: stands.failure?.message ?? "" } : null,
      rejected: stands?.rejected ?? "0",
      provedAt: proof?.at.toISOString() ?? null,
      loading: running.some((row) => row.pipeline === pipeline && row.load === load),
      verdict: disagrees ? "disagrees" : (proof?.verdict ?? null),
      slices: shown.filter((slice) => slice.slice === "" || days.some((day) => meets(unit, slice.slice, day))),
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
      schedule: scheduleWords(row.definition.schedule),
      lateSince: row.nextAt && Date.now() - row.nextAt.getTime() > lateAfter ? row.nextAt.toISOString() : null,
      tables: Object.entries(row.definition.loads).map(([name, load]) => table(row.name, name, load)),
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
        ...pipelines.map((row) => row.definition.warehouse),
        ...written.map((row) => row.connection).filter((name) => known.has(name)),
      ]),
    ];
    const standings = await Standings.read();
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
        const loader = pipelines
          .filter((row) => row.definition.warehouse === name)
          .flatMap((row) =>
            Object.entries(row.definition.loads).map(([load, definition]) => ({
              pipeline: row.name,
              load,
              history: definition.into.mode === "history",
              table: parseTableName(definition.into.table),
            })),
          )
          .find((entry) => entry.table.schema === dataset.schema && entry.table.table === dataset.name);
        const { row: stands, whole } = standings.of(loader?.pipeline ?? "", loader?.load ?? "");
        const { schema, name: table, kind, bytes, comment } = dataset;
        const target = formatTableName({ schema, table });
        const once = loader ? undefined : written.find((row) => row.connection === name && row.target === target);
        // What the last whole proof counted is exact; the server's own figure is an estimate, and absent for a new table.
        const rows = whole?.figures.find((pair) => pair.figure === "rows")?.warehouse ?? dataset.rows;
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
          detail: scheduleWords(row.definition.schedule),
          to: `/pipelines/${row.name}`,
        });
      for (const [load, { into }] of Object.entries(row.definition.loads))
        if (has(into.table, load))
          found.push({
            kind: "table",
            title: formatTableName(parseTableName(into.table)),
            detail: `loaded by ${row.title}`,
            to: `/pipelines/${row.name}/${load}`,
          });
    }
    for (const row of await ConnectionRow.findAll({ order: ["name"] }))
      if (has(row.name, row.settings.host, row.settings.database))
        found.push({
          kind: "connection",
          title: row.name,
          detail: `${row.settings.database} at ${row.settings.host}`,
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
