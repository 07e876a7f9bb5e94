import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { HistoryShape } from "@undercoat/core/history/shape";
import type { From } from "@undercoat/core/pipeline/pipeline";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import type { Window } from "@undercoat/core/plan/window";
import { overallVerdict } from "@undercoat/core/proof/verdict";
import type { LoadProof, Tally } from "@undercoat/core/run/run";
import type { KnownColumn } from "@undercoat/core/shape/drift";
import { keeps } from "@undercoat/core/sql/convert";
import * as house from "@undercoat/core/sql/house";
import { formatTableName, type TableName } from "@undercoat/core/sql/identifier";
import * as reject from "@undercoat/core/sql/reject";
import { beginInside } from "@undercoat/core/sql/session";
import * as stage from "@undercoat/core/sql/stage";
import * as target from "@undercoat/core/sql/target";
import * as told from "@undercoat/core/sql/told";
import { holds, shortType } from "@undercoat/core/sql/type";
import {
  changesOf,
  emptyTarget,
  finishing,
  keepHistory,
  keepMoment,
  keptColumns,
  readMoment,
  undated,
} from "@undercoat/core/sql/versions";
import { LoadFailure } from "../../failure.ts";
import { arrayText } from "../../postgres/array.ts";
import { beginLocked, tablesRead } from "../../postgres/lock.ts";
import type { Snapshot } from "../../source/source.ts";
import type { Landing, Received, RejectedRows, Stage, Told, Waiting, WarehouseSession } from "../warehouse.ts";
import { InsideSnapshot } from "./inside.ts";
import { PostgresReceived } from "./received.ts";
import { lacking, PostgresWarehouseSnapshot } from "./snapshot.ts";
import { PostgresLanding, PostgresStage } from "./stage.ts";

/** Up to so many rejected rows are read again by their keys, which an index serves; more by their hashes. */
const fewKeys = 5000;
/** Keys of rows gone from the source that one statement takes. */
const keysAtOnce = 20_000;

export class PostgresWarehouseSession extends PostgresWarehouseSnapshot implements WarehouseSession {
  private landings: PostgresLanding[] = [];
  /** this database as the source too */
  private source: InsideSnapshot | null = null;

  async lock(table: TableName, waiting: Waiting): Promise<void> {
    const name = [formatTableName(table)];
    if ((await this.session.one(house.tryLock, name)).locked === "t") return;
    const { holder } = await this.session.one(house.lockHolder, name);
    waiting(holder || "another session");
    await this.session.query(house.awaitLock, name);
    waiting(null);
  }

  inside(table: TableName, signal?: AbortSignal): Snapshot {
    this.source = new InsideSnapshot(this.session, table, signal);
    return this.source;
  }

  async makeSchema(schema: string): Promise<void> {
    await this.session.script(house.makeSchema(schema));
  }

  async begin(reading: From | null, waiting: Waiting): Promise<void> {
    if (!reading) {
      await this.session.query("BEGIN");
      return;
    }
    await beginLocked(this.session, beginInside, await tablesRead(reading), waiting);
    await this.source?.share(reading);
  }

  changes(
    plan: LoadPlan,
    existing: Dataset | null,
    widened: readonly string[],
    kept: HistoryShape | null,
  ): target.TargetChange[] {
    const versions = kept && existing && !plan.write.history ? keptColumns(kept, existing) : [];
    if (versions.length) refuseVersions(plan);
    if (existing) {
      const columns = existing.columns.filter((column) => !versions.includes(column.name));
      refuseOtherTypes(plan, { ...existing, columns }, widened);
      if (versions.length === 0) refuseLooseKey(plan, existing);
    }
    return changesOf(plan, existing, widened, kept);
  }

  async change(changes: readonly target.TargetChange[], told: Told): Promise<void> {
    for (const change of changes) {
      told(change.message, change.sql);
      await this.session.query(change.sql);
    }
  }

  async finishTarget(plan: LoadPlan, told: Told): Promise<void> {
    const { key } = plan.write;
    try {
      await this.change(finishing(plan), told);
    } catch (error) {
      if ((error as { code?: string }).code !== "23505") throw error;
      throw new LoadFailure({
        message: `The key ${key.join(", ")} does not tell all rows apart`,
        detail: (error as { detail?: string }).detail,
        hint: "Choose columns that identify a row, or leave such rows out with a condition. Nothing was written.",
      });
    }
  }

  direct(plan: LoadPlan): Landing {
    return this.kept(new PostgresLanding(this.session, plan, plan.write.target));
  }

  async withdraw(plan: LoadPlan): Promise<boolean> {
    const asked = undated(plan);
    if (asked === null || (await this.session.one(asked)).undated !== "t") return false;
    await this.session.query(emptyTarget(plan));
    return true;
  }

  async stage(plan: LoadPlan, run: number | null): Promise<Stage> {
    const name = run === null ? stage.lookingName() : stage.stageName(plan, run);
    if (run !== null) await this.beginHistory(plan);
    await this.session.query(stage.createStage(plan, name));
    return this.kept(new PostgresStage(this.session, plan, name, run));
  }

  async receive(plan: LoadPlan, run: number | null): Promise<Received> {
    if (run !== null) await this.beginHistory(plan);
    const received = await PostgresReceived.make(this.session, plan, run);
    this.kept(received.landing);
    return received;
  }

  private async beginHistory(plan: LoadPlan): Promise<void> {
    if (plan.write.history) for (const statement of keepHistory(plan)) await this.session.query(statement);
  }

  private kept<L extends PostgresLanding>(landing: L): L {
    this.landings.push(landing);
    return landing;
  }

  async targetRows(plan: LoadPlan, existing: Dataset | null): Promise<bigint> {
    return BigInt((await this.session.one(target.countTarget(plan, lacking(plan, existing)))).rows ?? "0");
  }

  async estimatedRows(table: TableName): Promise<number> {
    return Number((await this.session.one(target.estimatedRows(table))).rows);
  }

  async sweep(plan: LoadPlan, keys: string[][]): Promise<{ rows: string; slices: (string | null)[] }> {
    const slices = new Map<string | null, bigint>();
    for (let from = 0; from < keys.length; from += keysAtOnce) {
      const some = keys.slice(from, from + keysAtOnce);
      const gone = await this.session.query(
        target.dropGone(plan),
        plan.write.key.map((_, at) => arrayText(some.map((key) => key[at] ?? ""))),
      );
      for (const row of gone)
        slices.set(row.slice ?? null, (slices.get(row.slice ?? null) ?? 0n) + BigInt(row.rows ?? "0"));
    }
    return { rows: [...slices.values()].reduce((sum, rows) => sum + rows, 0n).toString(), slices: [...slices.keys()] };
  }

  readonly list: RejectedRows = {
    chosen: async (plan, ids) => {
      const rows = await this.session.query(reject.chosenRejected, [
        house.placeName(plan),
        ids ? `{${ids.join(",")}}` : null,
      ]);
      if (rows.length === 0)
        throw new LoadFailure({
          message: "None of these rejected rows is on the list any more",
          hint: "They have been loaded since, or left it.",
        });
      const found = rows.map((row) => row.id ?? "");
      const keys = rows.map((row) => JSON.parse(row.key ?? "null") as string[] | null);
      if (plan.write.key.length && rows.length <= fewKeys && keys.every((key) => key !== null))
        return { window: { kind: "keys", keys } as Window, ids: found };
      return {
        window: { kind: "identities", identities: [...new Set(rows.map((row) => row.identity ?? ""))] } as Window,
        ids: found,
      };
    },
    closeAll: async (plan, run) => {
      await this.session.query(reject.closeAll, [run, house.placeName(plan)]);
    },
    closeFiles: async (plan, run, files) => {
      await this.session.query(reject.closeFiles, [run, house.placeName(plan), arrayText(files)]);
    },
    sharesKeys: async (plan, files) =>
      (await this.session.one(reject.sharedKeys, [house.placeName(plan), arrayText(files)])).shared === "t",
    keys: async (plan) => {
      if (plan.write.key.length === 0) return [];
      const rows = await this.session.query(reject.openKeys, [house.placeName(plan), String(fewKeys)]);
      return rows.map((row) => ({ name: row.key ?? "", key: JSON.parse(row.key ?? "[]") as string[] }));
    },
    untold: async (plan, run, limit) =>
      (
        await this.session.query(told.untoldRows, [house.placeName(plan), plan.pipeline, plan.load, run, String(limit)])
      ).map((row) => ({
        content: row.content ?? "",
        reason: row.reason ?? "",
        message: row.message ?? "",
        original: JSON.parse(row.original ?? "null"),
      })),
    countUntold: async (plan, run) =>
      Number(
        (await this.session.one(told.countUntold, [house.placeName(plan), plan.pipeline, plan.load, run])).rows ?? "0",
      ),
    claim: async (plan, run, { content, reason }) =>
      (
        await this.session.query(told.claimTold, [
          house.placeName(plan),
          content,
          reason,
          plan.pipeline,
          plan.load,
          run,
        ])
      ).length > 0,
    keepTold: async (plan, { content, reason }, state, message) => {
      await this.session.query(told.keepTold, [house.placeName(plan), content, reason, state, message]);
    },
    closeGone: async (plan, run, names, contents) => {
      await this.session.query(reject.closeGone, [
        run,
        house.placeName(plan),
        arrayText(names),
        `{${contents.join(",")}}`,
      ]);
    },
  };

  async record(
    plan: LoadPlan,
    run: string,
    tally: Tally,
    { watermark, position }: { watermark: string | null; position: string | null },
    proof: LoadProof,
    { columns, swept, made }: { columns: KnownColumn[]; swept: boolean; made: boolean },
  ): Promise<void> {
    const name = house.placeName(plan);
    await this.session.query(house.keepKnown, [
      name,
      plan.pipeline,
      plan.load,
      JSON.stringify(columns),
      swept ? "t" : "f",
    ]);
    const alone = plan.write.part === null || made;
    await this.session.query(house.forgetOthers, [name, formatTableName(plan.write.target), alone ? "t" : "f"]);
    if (position !== null)
      await this.session.query(house.keepWatermark, [name, plan.pipeline, plan.load, plan.fingerprint, position, run]);
    const kept: LoadProof = { ...proof, slices: proof.slices.filter((slice) => slice.verdict !== "proved") };
    if (
      proof.verdict === "proved" &&
      (proof.cells?.verdict === "disagrees" || (proof.slices.length && overallVerdict(proof.slices) !== "proved"))
    )
      throw new LoadFailure({ message: "The proof's verdict does not follow from what it compared" });
    const counts = [tally.read, tally.new, tally.changed, tally.same, tally.rejected, tally.deleted];
    const { history } = plan.write;
    const { versions = null, closed = null, overwritten = null } = tally;
    const moment = history ? ((await this.session.one(readMoment(plan))).moment ?? null) : null;
    if (history) await this.session.query(keepMoment(plan));
    await this.session
      .query(house.keepTally, [
        run,
        plan.pipeline,
        plan.load,
        name,
        ...counts,
        watermark,
        JSON.stringify(kept),
        versions,
        closed,
        overwritten,
        moment,
      ])
      .catch((error: { code?: string }) => {
        if (error.code !== "23505") throw error;
        throw new LoadFailure({
          message: "This load was given up meanwhile, so nothing was written",
          hint: "Its worker had not been heard of for a while. Run again.",
        });
      });
  }

  async commit(): Promise<void> {
    await this.session.query("COMMIT");
  }

  async rollback(): Promise<void> {
    await this.session.query("ROLLBACK");
  }

  override async close(): Promise<void> {
    for (const landing of this.landings) await landing.close();
    await this.source?.close();
    await super.close();
  }
}

/** A column that stands in the target with another type would change values on their way; it is refused with both types named. */
function refuseOtherTypes(plan: LoadPlan, existing: Dataset, widened: readonly string[]): void {
  const table = formatTableName(plan.write.target);
  const wrong = plan.read.columns.flatMap((column) => {
    const held = existing.columns.find((candidate) => candidate.name === column.name);
    const grows =
      held && column.source !== null && widened.includes(column.source) && keeps(column.type, held.declared);
    return !held || column.missing || grows || holds(held.declared, column.type)
      ? []
      : [`${column.name} is ${shortType(held.declared)} there and ${shortType(column.type)} in the load`];
  });
  if (wrong.length)
    throw new LoadFailure({
      message: `${table} can't take the rows: ${wrong.join("; ")}`,
      hint: "State the column's type in the shape, so that rows that don't fit it are rejected; or load into another table or column.",
    });
  const given = new Set([...target.written(plan), ...target.ownColumns(plan)].map((column) => column.name));
  const unfilled = existing.columns.filter(
    (column) => column.notNull && !column.generated && !given.has(column.name) && !column.hasDefault,
  );
  if (unfilled.length)
    throw new LoadFailure({
      message: `${table} needs a value for ${unfilled.map((column) => column.name).join(", ")}, which the load does not give`,
      hint: "Add the column to the load, or allow null there.",
    });
  const generated = existing.columns.filter((column) => column.generated && given.has(column.name));
  if (generated.length)
    throw new LoadFailure({
      message: `${table} computes ${generated.map((column) => column.name).join(", ")} itself and takes no value for it`,
      hint: "Leave the column out of the load, or make it a plain one there.",
    });
}

/** What has been kept of the past goes only where that was said. */
function refuseVersions({ write: { target: table, mode, dropVersions } }: LoadPlan): void {
  if (dropVersions) return;
  throw new LoadFailure({
    message: `${formatTableName(table)} keeps versions, and mode ${mode} keeps none`,
    hint: "Load into another table; or state versions: drop beside the mode, which removes the versions that have ended and the columns that tell when each was valid.",
  });
}

function refuseLooseKey(plan: LoadPlan, existing: Dataset): void {
  const { mode, key } = plan.write;
  if (mode !== "upsert") return;
  const unique = existing.indexes.some((index) => index.unique && index.columns.every((name) => key.includes(name)));
  if (!unique)
    throw new LoadFailure({
      message: `${formatTableName(plan.write.target)} has no unique index on ${key.join(", ")}`,
      hint: "Create one there, or choose a key that has one: an upsert needs it to find each row's match.",
    });
}
