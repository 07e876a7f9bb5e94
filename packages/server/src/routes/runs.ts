import type { RunHeading, RunLine, RunLoadView, RunSummary, RunView } from "@undercoat/core/api/api";
import { ResolveError, resolve } from "@undercoat/core/parameter/resolve";
import { overallVerdict, type Verdict } from "@undercoat/core/proof/verdict";
import { addTallies, isOpen, noFindings } from "@undercoat/core/run/run";
import { personalColumns } from "@undercoat/core/shape/personal";
import Joi from "joi";
import { col, Op } from "sequelize";
import { maySeePersonal, withoutHidden } from "../account/hidden.ts";
import { asks, numberOf, requires, routes, signedIn, takes } from "../context.ts";
import { requestRun } from "../jobs/runs.ts";
import { cancelRun } from "../jobs/state.ts";
import { HttpProblem, notFound } from "../problem.ts";
import { PipelineRow, ProofRow, RunLineRow, RunLoadRow, RunRow, type UserRow } from "../store/models.ts";

const iso = (date: Date | null) => date?.toISOString() ?? null;

/** The verdict over a run's loads: one that disagrees decides. */
function together(verdicts: (Verdict | null)[]): Verdict | null {
  const known = verdicts.filter((verdict): verdict is Verdict => verdict !== null);
  if (known.length === 0) return null;
  return overallVerdict(
    known
      .filter((verdict) => verdict !== "unproved")
      .map((verdict) => ({ slice: null, figures: [], depth: "figures" as const, verdict })),
  );
}

/** Runs as lists show them, with their loads' tallies added up. */
export async function summaries(rows: RunRow[]): Promise<RunSummary[]> {
  const ids = rows.map((row) => row.id);
  const loads = await RunLoadRow.findAll({ where: { runId: ids }, attributes: ["runId", "tally", "proofId"] });
  const proofs = await ProofRow.findAll({ where: { runId: ids }, attributes: ["id", "runId", "verdict"] });
  return rows.map((row) => ({
    id: row.id,
    pipeline: row.pipeline,
    title: row.title,
    kind: row.kind,
    status: row.status,
    reason: row.reason,
    requestedBy: row.requestedBy,
    set: row.given.set ?? null,
    values: row.values,
    heading: row.heading,
    createdAt: row.createdAt.toISOString(),
    startedAt: iso(row.startedAt),
    finishedAt: iso(row.finishedAt),
    tally: addTallies(loads.filter((load) => load.runId === row.id).map((load) => load.tally)),
    verdict: together(proofs.filter((proof) => proof.runId === row.id).map((proof) => proof.verdict)),
    failure: row.failure,
  }));
}

/** Runs as a list shows them, those that stand under a heading told as one. */
async function headings(rows: RunRow[]): Promise<RunHeading[]> {
  const heads = rows.flatMap((row) => (row.heading === row.id ? [row.id] : []));
  const under = heads.length ? await summaries(await RunRow.findAll({ where: { heading: heads } })) : [];
  return (await summaries(rows)).map((run): RunHeading => {
    const mine = run.heading === run.id ? under.filter((other) => other.heading === run.id) : [];
    if (mine.length < 2) return { ...run, runs: null };
    const count = (fits: (other: RunSummary) => boolean) => mine.filter(fits).length;
    const runs = {
      all: mine.length,
      open: count(({ status }) => isOpen(status)),
      failed: count(({ status }) => status === "failed"),
      disagree: count(({ verdict }) => verdict === "disagrees"),
    };
    const last = (of: (other: RunSummary) => string | null) => mine.map(of).toSorted().at(-1) ?? null;
    const undone = mine.find(({ status }) => isOpen(status)) ?? mine.find(({ status }) => status !== "finished");
    return {
      ...run,
      runs,
      status: runs.open ? "running" : runs.failed ? "failed" : (undone?.status ?? "finished"),
      finishedAt: runs.open ? null : last(({ finishedAt }) => finishedAt),
      tally: addTallies(mine.map(({ tally }) => tally)),
      verdict: together(mine.map(({ verdict }) => verdict)),
      failure: mine.find(({ failure }) => failure)?.failure ?? null,
    };
  });
}

async function found(id: string): Promise<RunRow> {
  const row = await RunRow.findByPk(Number(id) || 0);
  if (!row) throw notFound(`run ${id}`);
  return row;
}

function loadView(row: RunLoadRow, proof: ProofRow | undefined): RunLoadView {
  return {
    load: row.load,
    into: row.target,
    status: row.status,
    phase: row.phase,
    waitingFor: row.waitingFor,
    tally: row.tally,
    bytes: row.bytes,
    watermark: row.watermark,
    verdict: proof?.verdict ?? null,
    depth: proof?.depth ?? null,
    how: proof?.how ?? null,
    cells: proof?.cells ?? null,
    figures: proof?.figures ?? [],
    slices: proof ? { all: proof.sliceCount, agreeing: proof.agreeing } : null,
    whole: proof?.whole ?? false,
    proof: row.proofId,
    phases: row.phases,
    failure: row.failure,
    findings: row.findings ?? noFindings,
    without: proof?.without ?? null,
    trouble: proof?.trouble ?? null,
    rehearsal: row.rehearsal,
    startedAt: iso(row.startedAt),
    finishedAt: iso(row.finishedAt),
  };
}

export async function runView(row: RunRow): Promise<RunView> {
  const loads = await RunLoadRow.findAll({ where: { runId: row.id }, order: ["id"] });
  const proofs = await ProofRow.findAll({
    where: { runId: row.id },
    attributes: [
      "id",
      "verdict",
      "depth",
      "how",
      "cells",
      "figures",
      "sliceCount",
      "agreeing",
      "whole",
      "without",
      "trouble",
    ],
  });
  const [summary] = await summaries([row]);
  if (!summary) throw notFound(`run ${row.id}`);
  return {
    ...summary,
    scope: row.scope,
    given: row.given,
    version: row.version,
    saved: await isSaved(row, loads),
    loads: loads.map((load) =>
      loadView(
        load,
        proofs.find((proof) => proof.id === load.proofId),
      ),
    ),
  };
}

/** A rehearsal shows rows as the source holds them; not to those who may not see them. */
async function withoutPersonal(view: RunView, run: RunRow, user: UserRow): Promise<RunView> {
  const loads = await Promise.all(
    view.loads.map(async (load) => {
      const { rehearsal, findings } = load;
      const definition = run.definition.loads[load.load];
      if (!definition || maySeePersonal(user) || !(rehearsal || findings.asked || findings.told)) return load;
      const hidden = await personalColumns(definition);
      if (hidden.length === 0) return load;
      const { asked, told } = findings;
      // An answer as it came holds all of a record, or what was told of one.
      const own = {
        ...findings,
        ...(asked ? { asked: { ...asked, first: null } } : {}),
        ...(told ? { told: { ...told, why: null } } : {}),
      };
      if (!rehearsal) return { ...load, findings: own };
      const { marks: _, ...rest } = rehearsal;
      const rejected = rehearsal.rejected.map((row) => ({ ...row, values: withoutHidden(row.values, hidden) }));
      return { ...load, findings: own, rehearsal: { ...rest, rejected } };
    }),
  );
  return { ...view, loads };
}

const page = 100;
/** Lines of one answer. */
const mostLines = 1000;

/** True where what a run ran is what is saved now, for the loads that it concerns. */
async function isSaved(run: RunRow, loads: RunLoadRow[]): Promise<boolean> {
  const template = (await PipelineRow.findByPk(run.pipeline))?.definition;
  if (!template) return false;
  let saved: typeof template;
  try {
    saved = resolve(template, run.given, run.createdAt.getTime()).definition;
  } catch (error) {
    if (error instanceof ResolveError) return false;
    throw error;
  }
  if (saved.warehouse !== run.definition.warehouse) return false;
  return loads.every(({ load }) => JSON.stringify(saved.loads[load]) === JSON.stringify(run.definition.loads[load]));
}

export const runs = routes()
  .use(requires("viewer"))
  .get("/", asks("pipeline", "status", "kind", "before", "heading"), async (c) => {
    const query = c.req.valid("query");
    const { pipeline, status, kind, heading } = query;
    if (heading) {
      const under = await RunRow.findAll({ where: { heading: numberOf(query, "heading") }, order: ["id"] });
      return c.json((await summaries(under)).map((run): RunHeading => ({ ...run, runs: null })));
    }
    const before = numberOf(query, "before");
    const where = {
      ...(pipeline ? { pipeline } : {}),
      ...(status ? { status } : {}),
      ...(kind ? { kind } : {}),
      ...(before ? { id: { [Op.lt]: before } } : {}),
    };
    // Those that were asked for together stand under the first of them, unless somebody looks for a state.
    const first = status ? {} : { heading: { [Op.or]: [null, { [Op.eq]: col("id") }] } };
    return c.json(
      await headings(await RunRow.findAll({ where: { ...where, ...first }, order: [["id", "DESC"]], limit: page })),
    );
  })
  .get("/:id", async (c) => {
    const run = await found(c.req.param("id"));
    return c.json(await withoutPersonal(await runView(run), run, signedIn(c)));
  })
  .get("/:id/lines", asks("after"), async (c) => {
    const run = await found(c.req.param("id"));
    const after = numberOf(c.req.valid("query"), "after");
    // Without a place to go on from the newest ones.
    const rows = await RunLineRow.findAll({
      where: { runId: run.id, id: { [Op.gt]: after } },
      order: [["id", after ? "ASC" : "DESC"]],
      limit: mostLines,
    });
    const lines: RunLine[] = (after ? rows : rows.reverse()).map((row) => ({
      id: row.id,
      at: row.at.toISOString(),
      load: row.load,
      message: row.message,
      sql: row.sql,
    }));
    return c.json(lines);
  })
  .post("/:id/cancel", requires("editor"), async (c) => {
    const { store } = c.get("house");
    const run = await found(c.req.param("id"));
    if (!(await cancelRun(store, run.id, signedIn(c).name)))
      throw new HttpProblem(409, `Run ${run.id} has ended already`);
    return c.body(null, 202);
  })
  .post(
    "/:id/again",
    requires("editor"),
    takes<{ unfinished?: boolean }>(Joi.object({ unfinished: Joi.boolean() })),
    async (c) => {
      const { store, queue } = c.get("house");
      const run = await found(c.req.param("id"));
      const { unfinished } = c.req.valid("json");
      const loads = (await RunLoadRow.findAll({ where: { runId: run.id }, order: ["id"] }))
        .filter((load) => !unfinished || load.status !== "finished")
        .map((load) => load.load);
      if (loads.length === 0) throw new HttpProblem(409, `Every load of run ${run.id} has finished`);
      const reason = unfinished ? `what run ${run.id} left undone` : `run ${run.id} again`;
      const again = await requestRun(store, queue, {
        pipeline: run.pipeline,
        kind: run.kind,
        scope: run.scope,
        loads,
        given: run.kind === "rehearse" ? undefined : run.given,
        wantsRows: run.wantsRows,
        rowLimit: run.rowLimit ?? undefined,
        // A rehearsal looks at the very version again that it showed.
        definition: run.kind === "rehearse" ? run.definition : undefined,
        reason,
        requestedBy: signedIn(c).name,
      });
      return c.json(await runView(again), 201);
    },
  );
