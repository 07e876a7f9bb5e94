import type { Delivery } from "@undercoat/core/message/delivery";
import {
  afterLook,
  afterRun,
  type EndedLoad,
  type Trouble,
  type TroubleChange,
  tellsOf,
} from "@undercoat/core/message/trouble";
import { Op, QueryTypes, type Transaction } from "sequelize";
import { pausedAll } from "../pipelines/pause.ts";
import {
  DeliveryRow,
  FactRow,
  MessageRow,
  PipelineRow,
  ProofRow,
  type RunLoadRow,
  type RunRow,
  TroubleRow,
} from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { lateWords } from "./late.ts";

/** Under which name the address is kept that people reach the product by. */
const addressFact = "address";

/** Notes where people reach the product: links in messages lead there. */
export const noteAddress = (address: string) => FactRow.upsert({ name: addressFact, value: address });

async function linksFor(transaction: Transaction): Promise<(path: string) => string> {
  const row = await FactRow.findByPk(addressFact, { transaction });
  return (path) => `${(row?.value as string | undefined) ?? ""}${path}`;
}

/** One at a time says what a pipeline's troubles are. */
const alone = (store: Store, pipeline: string, transaction: Transaction) =>
  store.sequelize.query("SELECT pg_advisory_xact_lock(1970169958, hashtext(:pipeline))", {
    replacements: { pipeline },
    transaction,
    type: QueryTypes.SELECT,
  });

const troubleOf = ({ pipeline, load, line, kind, says }: TroubleRow): Trouble => ({ pipeline, load, line, kind, says });

const placeOf = ({ pipeline, load, line, kind }: Trouble) => ({ pipeline, load, line, kind });

/** Writes what changes about a message's troubles, and what it has to tell of that. */
async function apply(
  message: string,
  { opened, closed, began, ended }: TroubleChange,
  {
    title,
    pipeline,
    run,
    links,
  }: { title: string; pipeline: string; run: Delivery["data"]["run"]; links: (path: string) => string },
  transaction: Transaction,
): Promise<void> {
  for (const trouble of opened)
    await TroubleRow.upsert({ message, ...trouble, since: new Date(), runId: run?.id ?? null }, { transaction });
  for (const trouble of closed) await TroubleRow.destroy({ where: { message, ...placeOf(trouble) }, transaction });
  for (const [type, troubles] of [
    ["trouble.ended", ended],
    ["trouble.began", began],
  ] as const)
    if (troubles.length)
      await put(
        message,
        {
          type,
          timestamp: new Date().toISOString(),
          data: {
            pipeline,
            title,
            url: links(`/pipelines/${pipeline}`),
            troubles: troubles.map(({ load, line, kind, says }) => ({ load, line, kind, says })),
            run,
          },
        },
        transaction,
      );
}

const fresh = (message: string, body: Delivery) => ({
  message,
  pipeline: body.data.pipeline,
  body,
  attempts: [],
  tries: 0,
  createdAt: new Date(),
});

/** Leaves a delivery to the postman. */
const put = (message: string, body: Delivery, transaction: Transaction): Promise<DeliveryRow> =>
  DeliveryRow.create({ ...fresh(message, body), status: "waiting", nextAt: new Date() }, { transaction });

/** A delivery that whoever makes it hands over itself. */
export const keep = (message: string, body: Delivery): Promise<DeliveryRow> =>
  DeliveryRow.create({ ...fresh(message, body), status: "given up", nextAt: null });

async function endedLoads(
  store: Store,
  run: RunRow,
  loads: RunLoadRow[],
  transaction: Transaction,
): Promise<EndedLoad[]> {
  const proofs = await ProofRow.findAll({
    where: { id: loads.flatMap((load) => load.proofId ?? []) },
    attributes: ["id", "verdict"],
    transaction,
  });
  const disagreeing = await store.sequelize.query<{ load: string; line: string }>(
    "SELECT DISTINCT load, line FROM slices WHERE pipeline = :pipeline AND verdict = 'disagrees'",
    { replacements: { pipeline: run.pipeline }, transaction, type: QueryTypes.SELECT },
  );
  return loads.map(({ load, line, target, status, tally, failure, findings, proofId }) => ({
    load,
    line,
    into: target,
    status,
    tally,
    failure,
    findings,
    verdict: proofs.find(({ id }) => id === proofId)?.verdict ?? null,
    disagreeing: disagreeing.some((slice) => slice.load === load && slice.line === line),
  }));
}

/** Tells of a run that has ended, in the transaction that ends it: what began, what is over, and that it finished where somebody wants to hear so. */
export async function tellRun(store: Store, run: RunRow, loads: RunLoadRow[], transaction: Transaction): Promise<void> {
  if (run.kind === "rehearse") return;
  const rows = (await MessageRow.findAll({ order: ["name"], transaction })).filter(
    ({ definition: { pipelines } }) => pipelines?.includes(run.pipeline) ?? true,
  );
  if (rows.length === 0) return;
  await alone(store, run.pipeline, transaction);
  const ended = {
    pipeline: run.pipeline,
    kind: run.kind,
    scope: run.scope,
    loads: await endedLoads(store, run, loads, transaction),
  };
  const links = await linksFor(transaction);
  const told: Delivery["data"]["run"] = {
    id: run.id,
    kind: run.kind,
    status: run.status,
    set: run.given.set ?? null,
    url: links(`/runs/${run.id}`),
    loads: loads.map(({ load, target, status, tally, watermark, failure }, at) => ({
      load,
      into: target,
      status,
      tally,
      watermark,
      verdict: ended.loads[at]?.verdict ?? null,
      error: failure?.message ?? null,
    })),
  };
  const about = { title: run.title, pipeline: run.pipeline, run: told, links };
  for (const { name, definition } of rows) {
    const open = (await TroubleRow.findAll({ where: { message: name, pipeline: run.pipeline }, transaction })).map(
      troubleOf,
    );
    await apply(name, afterRun(definition, open, ended), about, transaction);
    if (definition.on.includes("finished") && run.status === "finished" && run.kind !== "prove")
      await put(
        name,
        {
          type: "run.finished",
          timestamp: new Date().toISOString(),
          data: {
            pipeline: run.pipeline,
            title: run.title,
            url: links(`/pipelines/${run.pipeline}`),
            troubles: [],
            run: told,
          },
        },
        transaction,
      );
  }
}

/** Looks which pipelines are late, for those who want to hear of it. Any process may do so at any time. */
export async function tellLate(store: Store, now: number): Promise<void> {
  const rows = (await MessageRow.findAll({ order: ["name"] })).filter(({ definition }) =>
    definition.on.includes("late"),
  );
  const paused = (await pausedAll()) !== null;
  for (const { name, definition: message } of rows) {
    // Where somebody has paused all, what is due does not begin; a deadline stays one.
    if (paused && !message.late) continue;
    for (const pipeline of await PipelineRow.findAll({ order: ["name"] })) {
      if (!tellsOf(message, pipeline.name, "late")) continue;
      const says = await lateWords(store, pipeline, message, now);
      await store.sequelize.transaction(async (transaction) => {
        const where = { message: name, pipeline: pipeline.name, kind: "late" as const };
        if ((await TroubleRow.count({ where, transaction })) === 0 && says === null) return;
        await alone(store, pipeline.name, transaction);
        const open = (await TroubleRow.findAll({ where, transaction })).map(troubleOf);
        const about = { title: pipeline.title, pipeline: pipeline.name, run: null, links: await linksFor(transaction) };
        await apply(name, afterLook(open, pipeline.name, says), about, transaction);
      });
    }
  }
  // What was wrong with a load that is gone is no trouble any more.
  const gone = await TroubleRow.findAll({ where: { load: { [Op.ne]: "" } } });
  const pipelines = await store.pipelines();
  for (const row of gone) if (!pipelines.get(row.pipeline)?.loads[row.load]) await row.destroy();
}
