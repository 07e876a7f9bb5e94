import type { ProofSummary, ProofView } from "@undercoat/core/api/api";
import { asks, requires, routes } from "../context.ts";
import { notFound } from "../problem.ts";
import { PipelineRow, ProofRow, RunRow, SliceRow, StandingRow } from "../store/models.ts";

function summary(row: ProofRow, title: string): ProofSummary {
  return {
    id: row.id,
    pipeline: row.pipeline,
    title,
    load: row.load,
    line: row.line,
    target: row.target,
    at: row.at.toISOString(),
    verdict: row.verdict,
    depth: row.depth,
    how: row.how,
    cells: row.cells,
    history: row.history,
    within: row.within,
    counted: row.counted,
    whole: row.whole,
    slices: { all: row.sliceCount, agreeing: row.agreeing },
    figures: row.figures,
  };
}

const listed = [
  "id",
  "pipeline",
  "load",
  "line",
  "target",
  "at",
  "verdict",
  "depth",
  "how",
  "cells",
  "history",
  "within",
  "counted",
  "whole",
  "sliceCount",
  "agreeing",
  "figures",
];

/** Proofs as kept: the latest of each load, or one load's in time. */
export const proofs = routes()
  .use(requires("viewer"))
  .get("/", asks("pipeline", "load", "line"), async (c) => {
    const { pipeline, load, line } = c.req.valid("query");
    const titles = new Map((await PipelineRow.findAll()).map((row) => [row.name, row]));
    const rows =
      pipeline && load
        ? await ProofRow.findAll({
            where: { pipeline, load, ...(line === undefined ? {} : { line }) },
            attributes: listed,
            order: [["id", "DESC"]],
            limit: 200,
          })
        : await ProofRow.findAll({
            where: {
              id: (await StandingRow.findAll({ attributes: ["proofId"] })).map((row) => row.proofId ?? 0),
            },
            attributes: listed,
            order: [["id", "DESC"]],
          });
    const current = rows.filter((row) => titles.get(row.pipeline)?.definition.loads[row.load]);
    return c.json(current.map((row) => summary(row, titles.get(row.pipeline)?.title ?? row.pipeline)));
  })
  .get("/:id", async (c) => {
    const row = await ProofRow.findByPk(Number(c.req.param("id")) || 0);
    if (!row) throw notFound(`proof ${c.req.param("id")}`);
    const run = await RunRow.findByPk(row.runId, { rejectOnEmpty: true });
    const definition = run.definition.loads[row.load];
    const newest =
      ((await ProofRow.max("id", { where: { pipeline: row.pipeline, load: row.load, line: row.line } })) as
        | number
        | null) ?? row.id;
    // The slices that the evidence left out, because they agreed, are shown from the ledger while this proof is the one that made them.
    const marks = await SliceRow.findAll({
      where: { pipeline: row.pipeline, load: row.load, line: row.line, proofId: row.id },
      order: ["slice"],
    });
    const kept = new Map(row.slices.map((slice) => [slice.slice ?? "", slice]));
    for (const mark of marks)
      if (!kept.has(mark.slice))
        kept.set(mark.slice, {
          slice: mark.slice || null,
          verdict: mark.verdict,
          depth: mark.depth,
          figures: mark.figures,
        });
    const view: ProofView = {
      ...summary(row, run.title),
      run: row.runId,
      given: run.given,
      source: definition?.from.table ?? definition?.from.files ?? definition?.from.path ?? "query",
      connection: definition?.from.connection ?? "",
      warehouse: run.definition.warehouse,
      key: definition?.into.key ?? [],
      by: definition?.proof?.by ?? null,
      sliceFigures: [...kept.values()].sort((a, b) => ((a.slice ?? "") < (b.slice ?? "") ? 1 : -1)),
      rows: row.rows,
      without: row.without,
      trouble: row.trouble,
      sourceSql: row.sourceSql,
      warehouseSql: row.warehouseSql,
      newest,
      lookBack: definition?.watermark?.lookBack ?? null,
      watermarkColumn: definition?.watermark?.column ?? null,
    };
    return c.json(view);
  });
