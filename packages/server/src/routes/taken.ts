import type { FileTaken } from "@undercoat/core/api/api";
import type { FileRead } from "@undercoat/core/run/run";
import { QueryTypes } from "sequelize";
import { requires, routes } from "../context.ts";
import { notFound } from "../problem.ts";
import { PipelineRow } from "../store/models.ts";

/** More files than these are not listed; the latest are. */
const most = 5000;

interface Row {
  file: FileRead;
  run: number;
  set: string | null;
  at: Date;
}

/** The files that loads have taken, each as it was read last, the latest first. */
export const taken = routes()
  .use(requires("viewer"))
  .get("/:pipeline/:load", async (c) => {
    const { pipeline, load } = c.req.param();
    const row = await PipelineRow.findByPk(pipeline);
    if (!row || !Object.hasOwn(row.definition.loads, load)) throw notFound(`load ${load} of a pipeline ${pipeline}`);
    const { store } = c.get("house");
    const rows = await store.sequelize.query<Row>(
      `SELECT * FROM (
         SELECT DISTINCT ON (f.value->>'name', r.given->>'set') f.value AS file, r.id AS run, r.given->>'set' AS set, l.finished_at AS at
         FROM run_loads l JOIN runs r ON r.id = l.run_id, json_array_elements(l.findings->'files') f
         WHERE r.pipeline = :pipeline AND l.load = :load AND l.status = 'finished' AND r.kind IN ('load', 'repair') AND l.findings->'files' IS NOT NULL
         ORDER BY f.value->>'name', r.given->>'set', l.id DESC) t ORDER BY at DESC, file->>'name' LIMIT ${most}`,
      { replacements: { pipeline, load }, type: QueryTypes.SELECT },
    );
    return c.json(rows.map(({ file, run, set, at }): FileTaken => ({ ...file, run, set, at: at.toISOString() })));
  });
