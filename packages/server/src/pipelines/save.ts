import { connectionsOf } from "@undercoat/core/parameter/resolve";
import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { moduleText } from "@undercoat/engine/source/module/module";
import { Op, type Transaction, UniqueConstraintError } from "sequelize";
import { HttpProblem } from "../problem.ts";
import { ConnectionRow, PipelineRow, SliceRow, StandingRow, VersionRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { setTimers } from "./timers.ts";

/** How a definition is written: over the version that was read (`before`), as a new one (null), or over whatever stands there. */
export interface Saving {
  by: string | null;
  /** what the change is for */
  note?: string | null;
  transaction?: Transaction;
  before?: Date | null;
}

/** The modules that a pipeline's loads read by, with any of its sets of values, as they are now; one that is not there is left out. */
async function modulesOf(definition: Pipeline, transaction: Transaction): Promise<Record<string, string> | null> {
  const { sources } = connectionsOf(definition, Date.now());
  const rows = await ConnectionRow.findAll({ where: { name: [...sources] }, transaction });
  const files = rows.flatMap(({ settings }) => (settings.kind === "module" ? [settings.file] : []));
  const texts = await Promise.all(files.map((file) => moduleText(file).catch(() => null)));
  const kept = files.flatMap((file, at) => (texts[at] == null ? [] : [[file, texts[at]] as const]));
  return kept.length ? Object.fromEntries(kept) : null;
}

/**
 * Writes a definition as a new version and sets its timers; loads and sets of values that it no longer has lose their marks.
 * @throws HttpProblem 409 where another came first
 */
export async function savePipeline(
  store: Store,
  name: string,
  definition: Pipeline,
  saving: Saving,
): Promise<PipelineRow> {
  if (!saving.transaction)
    return store.sequelize.transaction((transaction) =>
      savePipeline(store, name, definition, { ...saving, transaction }),
    );
  const { by, note = null, transaction, before } = saving;
  const latest = (await VersionRow.max("number", { where: { pipeline: name }, transaction })) as number | null;
  // Two saves in one millisecond are still two versions.
  const updatedAt = new Date(Math.max(Date.now(), (before?.getTime() ?? 0) + 1));
  const values = {
    name,
    title: definition.title,
    definition,
    nextAt: null,
    savedBy: by,
    version: (latest ?? 0) + 1,
    updatedAt,
  };
  if (before) {
    const [saved] = await PipelineRow.update(values, { where: { name, updatedAt: before }, transaction });
    if (saved === 0)
      throw new HttpProblem(409, "Somebody else has changed this pipeline meanwhile", {
        hint: "Open it again; your change has not been saved.",
      });
  } else if (before === null) {
    await PipelineRow.create(values, { transaction }).catch((error: unknown) => {
      throw error instanceof UniqueConstraintError
        ? new HttpProblem(409, `A pipeline ${name} exists already`, {
            problems: [{ path: ["name"], message: "This name is taken" }],
          })
        : error;
    });
  } else await PipelineRow.upsert(values, { transaction });
  await VersionRow.create(
    {
      pipeline: name,
      number: values.version,
      definition,
      author: by,
      note,
      at: updatedAt,
      modules: await modulesOf(definition, transaction),
    },
    { transaction },
  );
  await setTimers(name, definition, Date.now(), transaction);
  const sets = Object.keys(definition.values ?? {});
  for (const marks of [SliceRow, StandingRow])
    await (marks as typeof SliceRow).destroy({
      where: {
        pipeline: name,
        [Op.or]: [
          { load: { [Op.notIn]: Object.keys(definition.loads) } },
          // A line that is no set's is a place that values by hand have written; it has a dot in its name.
          { line: { [Op.notIn]: ["", ...sets], [Op.notLike]: "%.%" } },
        ],
      },
      transaction,
    });
  await store.tell({ kind: "changed", what: "pipelines" }, transaction);
  return PipelineRow.findByPk(name, { transaction, rejectOnEmpty: true });
}
