import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { warehouseFor } from "@undercoat/engine/warehouse/registry";
import type { Transaction } from "sequelize";
import { HttpProblem } from "../problem.ts";
import { PipelineRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { savePipeline } from "./save.ts";

/** Where what is known of a load is kept here, beside what the warehouses keep. */
const ownTables = ["standings", "slices", "proofs"];

async function refuseRunning(store: Store, names: string[]): Promise<void> {
  const open = await store.query<{ id: number }>(
    "SELECT id FROM runs WHERE pipeline IN (:names) AND status IN ('queued', 'running', 'unknown')",
    { names },
  );
  if (open.length)
    throw new HttpProblem(409, `Run ${open[0]?.id} is still open`, { hint: "Wait for its end, or cancel it first." });
}

/** Tells every warehouse of a pipeline under which name its loads go from now on. A warehouse that can't be reached stops it. */
async function tellWarehouses(store: Store, from: string, to: string, load: string | null): Promise<void> {
  for (const name of await store.warehouses(from))
    await warehouseFor(await store.credentials(name)).readdress({ pipeline: from, load }, { pipeline: to });
}

/** Gives a pipeline another name; what is known of it goes along. @throws HttpProblem 409 while it runs, or where the name is taken */
export async function renamePipeline(store: Store, from: string, to: string): Promise<void> {
  await refuseRunning(store, [from]);
  if (await PipelineRow.findByPk(to))
    throw new HttpProblem(409, `A pipeline ${to} exists already`, {
      problems: [{ path: ["name"], message: "This name is taken" }],
    });
  await tellWarehouses(store, from, to, null);
  await store.sequelize.transaction(async (transaction) => {
    const update = (table: string, column = "pipeline") =>
      store.sequelize.query(`UPDATE ${table} SET ${column} = :to WHERE ${column} = :from`, {
        replacements: { from, to },
        transaction,
      });
    await update("pipelines", "name");
    for (const table of [
      ...ownTables,
      "runs",
      "versions",
      "drafts",
      "favourites",
      "timers",
      "backfills",
      "troubles",
      "deliveries",
    ])
      await update(table);
    await update("timers", '"after"');
    await follow(from, to, transaction);
    await store.tell({ kind: "changed", what: "pipelines" }, transaction);
  });
}

/** Schedules that name a pipeline name it by its new name. */
async function follow(from: string, to: string, transaction: Transaction): Promise<void> {
  const renamed = <T extends { after?: string; apart?: string[] }>(schedule: T): T => ({
    ...schedule,
    ...(schedule.after === from ? { after: to } : {}),
    ...(schedule.apart ? { apart: schedule.apart.map((name) => (name === from ? to : name)) } : {}),
  });
  for (const row of await PipelineRow.findAll({ transaction })) {
    const { schedule, schedules } = row.definition;
    const definition: Pipeline = {
      ...row.definition,
      ...(schedule ? { schedule: renamed(schedule) } : {}),
      ...(schedules ? { schedules: schedules.map(renamed) } : {}),
    };
    if (JSON.stringify(definition) !== JSON.stringify(row.definition))
      await row.update({ definition }, { transaction });
  }
}

/** Moves a load to another pipeline of the same warehouse, with its watermark, marks and proofs. */
export async function moveLoad(store: Store, from: string, load: string, to: string, by: string): Promise<void> {
  await refuseRunning(store, [from, to]);
  const [source, target] = await Promise.all([PipelineRow.findByPk(from), PipelineRow.findByPk(to)]);
  const entry = source && Object.hasOwn(source.definition.loads, load) ? source.definition.loads[load] : undefined;
  if (!source || !entry) throw new HttpProblem(404, `There is no load ${load} of ${from}`);
  if (!target) throw new HttpProblem(404, `There is no pipeline ${to}`);
  if (Object.hasOwn(target.definition.loads, load))
    throw new HttpProblem(409, `${target.title} has a load ${load} already`, { hint: "Rename one of them first." });
  if (source.definition.warehouse !== target.definition.warehouse)
    throw new HttpProblem(409, `${target.title} loads into another warehouse`);
  if (Object.keys(source.definition.loads).length === 1)
    throw new HttpProblem(409, `${load} is the only load of ${source.title}`, {
      hint: "Delete the pipeline instead, or rename it.",
    });
  const { [load]: _, ...rest } = source.definition.loads;
  await tellWarehouses(store, from, to, load);
  await store.sequelize.transaction(async (transaction) => {
    for (const table of ownTables)
      await store.sequelize.query(`UPDATE ${table} SET pipeline = :to WHERE pipeline = :from AND load = :load`, {
        replacements: { from, to, load },
        transaction,
      });
    const note = `${load} moved from ${from} to ${to}`;
    await savePipeline(
      store,
      to,
      { ...target.definition, loads: { ...target.definition.loads, [load]: entry } },
      {
        by,
        note,
        transaction,
        before: target.updatedAt,
      },
    );
    await savePipeline(
      store,
      from,
      { ...source.definition, loads: rest },
      {
        by,
        note,
        transaction,
        before: source.updatedAt,
      },
    );
  });
}
