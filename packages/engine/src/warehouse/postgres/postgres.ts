import type { Readable } from "node:stream";
import type { RejectedList } from "@undercoat/core/api/api";
import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { LoadPlan, Window } from "@undercoat/core/plan/plan";
import { grouped } from "@undercoat/core/proof/decimal";
import { overallVerdict } from "@undercoat/core/proof/verdict";
import type { LoadProof, Tally } from "@undercoat/core/run/run";
import type { KnownColumn } from "@undercoat/core/shape/drift";
import { formatTableName, type TableName } from "@undercoat/core/sql/identifier";
import { beginSnapshot } from "@undercoat/core/sql/read";
import * as reject from "@undercoat/core/sql/reject";
import type { RejectedFilter } from "@undercoat/core/sql/reject";
import { keeps } from "@undercoat/core/sql/convert";
import { dropFaulty } from "@undercoat/core/sql/shape";
import { holds, shortType } from "@undercoat/core/sql/type";
import type { TargetChange } from "@undercoat/core/sql/warehouse";
import * as sql from "@undercoat/core/sql/warehouse";
import { LoadFailure } from "../../failure.ts";
import { PostgresSide } from "../../proof/side.ts";
import { type Credentials, Session } from "../../session.ts";
import { arrayText, findDataset } from "../../source/postgres/describe.ts";
import { PostgresSource } from "../../source/postgres/postgres.ts";
import type { Snapshot, Source } from "../../source/source.ts";
import { InsideSnapshot, sameDatabase } from "./inside.ts";
import { exportRejected, listRejected } from "./rejected.ts";
import { sift } from "./sift.ts";
import { examples, weigh } from "./weigh.ts";
import type { Applied, Known, LoadPlace, RowSink, Told, Warehouse, WarehouseSession, WarehouseSnapshot, Weighed } from "../warehouse.ts";

/** Up to so many rows every run compares the whole target; beyond, the slices it touched. */
const smallTable = 2_000_000;
/** Up to so many rejected rows are read again by their keys, which an index serves; more by their hashes. */
const fewKeys = 5000;
/** Keys of rows gone from the source that one statement takes. */
const keysAtOnce = 20_000;

/** A PostgreSQL database as a warehouse. */
export class PostgresWarehouse implements Warehouse {
  constructor(private readonly credentials: Credentials) {}

  async session(application: string, signal?: AbortSignal): Promise<WarehouseSession> {
    const session = await Session.open(this.credentials, { application, signal });
    if ((await session.one(sql.isFurnished)).furnished !== "t") await session.query(sql.furnish);
    return new PostgresWarehouseSession(session);
  }

  async snapshot(application: string, signal?: AbortSignal): Promise<WarehouseSnapshot> {
    const session = await Session.open(this.credentials, { application, readOnly: true, signal });
    await session.query(beginSnapshot);
    return new PostgresWarehouseSnapshot(session);
  }

  isInside(source: Source): boolean {
    return source instanceof PostgresSource && sameDatabase(source.credentials, this.credentials);
  }

  rejected(filter: RejectedFilter, limit: number, offset: number): Promise<RejectedList> {
    return listRejected(this.credentials, filter, limit, offset);
  }

  rejectedCsv(filter: RejectedFilter): Promise<Readable> {
    return exportRejected(this.credentials, filter);
  }

  async tallies(run: string) {
    const session = await Session.open(this.credentials, { application: "undercoat recovery", readOnly: true });
    try {
      if ((await session.one(sql.isFurnished)).furnished !== "t") return new Map();
      const rows = await session.query(sql.readTally, [run]);
      return new Map(
        rows.map((row) => {
          const count = (name: string) => row[name] ?? "0";
          const tally = { read: count("read"), new: count("new"), changed: count("changed"), same: count("same"), rejected: count("rejected"), deleted: count("deleted") };
          return [row.load ?? "", { tally, watermark: row.watermark ?? null, proof: JSON.parse(row.proof ?? "null") as LoadProof }];
        }),
      );
    } finally {
      await session.close();
    }
  }
}

class PostgresWarehouseSnapshot extends PostgresSide implements WarehouseSnapshot {
  private asked: Promise<boolean> | undefined;

  constructor(session: Session) {
    super(session, "warehouse");
  }

  /** True where Undercoat's own tables stand in the warehouse. */
  protected furnished(): Promise<boolean> {
    this.asked ??= this.session.one(sql.isFurnished).then((row) => row.furnished === "t");
    return this.asked;
  }

  async known(place: LoadPlace, every: string | null): Promise<Known> {
    if (!(await this.furnished())) return { columns: null, sweep: true };
    const row = await this.session.one(sql.readKnown, [formatTableName(place.target), place.pipeline, place.load, every]);
    return { columns: row.columns ? (JSON.parse(row.columns) as KnownColumn[]) : null, sweep: row.sweep !== "f" };
  }

  describe(target: TableName): Promise<Dataset | null> {
    return findDataset(this.session, target);
  }

  async watermark(plan: LoadPlan): Promise<string | null> {
    if (!(await this.furnished())) return null;
    const row = await this.session.one(sql.readWatermark, [formatTableName(plan.target), plan.pipeline, plan.load]);
    return row.value && row.fingerprint === plan.fingerprint ? row.value : null;
  }

  async lessRejected(plan: LoadPlan): Promise<LoadPlan> {
    if (!(await this.furnished())) return plan;
    const open = await this.session.one(reject.openRejected, [formatTableName(plan.target)]);
    if (!open.rows || open.rows === "0") return plan;
    const identities = (open.identities ?? "{}").slice(1, -1).split(",").filter(Boolean);
    return { ...plan, without: { identities, duplicates: open.duplicates === "t", rows: open.rows } };
  }

  close(): Promise<void> {
    return this.session.close();
  }
}

class PostgresWarehouseSession extends PostgresWarehouseSnapshot implements WarehouseSession {
  /** a second session that asks how far the first one is; also while it is still being opened */
  private beside: Promise<Session> | undefined;

  protected override furnished(): Promise<boolean> {
    return Promise.resolve(true);
  }

  async lock(target: TableName, waiting: (holder: string) => void): Promise<void> {
    const name = [formatTableName(target)];
    if ((await this.session.one(sql.tryLock, name)).locked === "t") return;
    const { holder } = await this.session.one(sql.lockHolder, name);
    waiting(holder || "another session");
    await this.session.query(sql.awaitLock, name);
  }

  async makeSchema(schema: string): Promise<void> {
    await this.session.query(sql.makeSchema(schema));
  }

  inside(target: TableName): Snapshot {
    return new InsideSnapshot(this.session, target);
  }

  async begin(inside = false): Promise<void> {
    await this.session.query(inside ? sql.beginInside : "BEGIN");
  }

  take(plan: LoadPlan, window: Window, table: TableName): Promise<string> {
    return this.session.run(sql.takeInside(plan, window, table));
  }

  changes(plan: LoadPlan, existing: Dataset | null, widened: readonly string[]): TargetChange[] {
    const changes = sql.targetChanges(plan, existing?.columns ?? null, widened);
    if (existing) {
      refuseOtherTypes(plan, existing, widened);
      refuseLooseKey(plan, existing);
    }
    return changes;
  }

  async change(changes: readonly TargetChange[], told: Told): Promise<void> {
    for (const change of changes) {
      told(change.message, change.sql);
      await this.session.query(change.sql);
    }
  }

  async stage(plan: LoadPlan, run: number): Promise<TableName> {
    const stage = sql.stageName(plan, run);
    await this.session.query(sql.createStage(plan, stage));
    return stage;
  }

  sink(plan: LoadPlan, table: TableName): RowSink {
    return this.session.copyIn(sql.copyIn(plan, table));
  }

  async progress(): Promise<{ rows: string; bytes: string } | null> {
    this.beside ??= Session.open(this.session.credentials, { application: "undercoat progress", readOnly: true });
    const beside = await this.beside;
    const row = await beside.one(sql.copyProgress, [this.session.pid]);
    return row.rows ? { rows: row.rows, bytes: row.bytes ?? "0" } : null;
  }

  async sift(plan: LoadPlan, stage: TableName, run: number, read: string, into: TableName | null, told: Told) {
    return sift(this.session, plan, stage, run, read, into, told);
  }

  async keepRejected(plan: LoadPlan, stage: TableName | null, run: { id: number; uid: string }, read: { whole: boolean; ids: string[] | null }, rejected: string): Promise<void> {
    const target = formatTableName(plan.target);
    if ((await this.session.one(reject.anyOpenRejected, [target])).any === "t") {
      if (read.whole) await this.session.query(reject.closeAll, [run.uid, target]);
      else if (read.ids) await this.session.query(reject.closeChosen, [run.uid, target, `{${read.ids.join(",")}}`]);
      if (stage && !read.whole) await this.session.query(reject.closeRead(plan, stage), [run.uid, target]);
    }
    if (!stage) return;
    if (rejected !== "0") await this.session.query(reject.keepRejected(plan, stage), [run.uid, String(run.id), plan.pipeline, plan.load, target]);
    if (plan.shape) await this.session.query(sql.dropStage(stage));
    else if (rejected !== "0") await this.discard(stage);
  }

  async chosenRejected(plan: LoadPlan, ids: string[] | null) {
    const rows = await this.session.query(reject.chosenRejected, [formatTableName(plan.target), ids ? `{${ids.join(",")}}` : null]);
    if (rows.length === 0) throw new LoadFailure({ message: "None of these rejected rows is on the list any more", hint: "They have been loaded since, or left it." });
    const found = rows.map((row) => row.id ?? "");
    const keys = rows.map((row) => JSON.parse(row.key ?? "null") as string[] | null);
    if (plan.key.length && rows.length <= fewKeys && keys.every((key) => key !== null)) return { window: { kind: "keys", keys } as Window, ids: found };
    return { window: { kind: "identities", identities: [...new Set(rows.map((row) => row.identity ?? ""))] } as Window, ids: found };
  }

  async touched(plan: LoadPlan, stage: TableName): Promise<(string | null)[]> {
    return (await this.session.query(sql.touchedSlices(plan, stage))).map((row) => row.slice ?? null);
  }

  async apply(plan: LoadPlan, stage: TableName, read: string, told: Told): Promise<Applied> {
    const run = async (message: (rows: string) => string, text: string) => {
      const rows = await this.session.run(text);
      told(message(grouped(rows)), text);
      return rows;
    };
    if (plan.mode === "replace") {
      const deleted = await run((rows) => `${rows} earlier rows go`, sql.deleteAll(plan.target));
      const added = await run((rows) => `${rows} rows take their place`, sql.insertAll(plan, stage));
      return { new: added, changed: "0", same: "0", deleted };
    }
    if (plan.key.length === 0) {
      const added = await run((rows) => `${rows} new rows added`, sql.insertMissing(plan, stage));
      return { new: added, changed: "0", same: String(BigInt(read) - BigInt(added)), deleted: "0" };
    }
    const count = sql.countKnown(plan, stage);
    const known = BigInt((await this.session.one(count)).known ?? "0");
    const unknown = BigInt(read) - known;
    told(`${grouped(String(known))} known by their key, ${grouped(String(unknown))} new`, count);
    const changed = plan.mode === "append" || known === 0n ? "0" : await run((rows) => `${rows} rows changed`, sql.updateChanged(plan, stage));
    const added = unknown === 0n ? "0" : await run((rows) => `${rows} rows added`, sql.insertNew(plan, stage));
    if (BigInt(added) !== unknown || BigInt(changed) > known)
      throw new LoadFailure({
        message: "The tally does not balance, so nothing was written",
        detail: `read ${read}, of which ${known} were known by their key; wrote ${added} new and ${changed} changed`,
        hint: "Something else wrote to the target at the same time. Run again.",
      });
    return { new: added, changed, same: String(known - BigInt(changed)), deleted: "0" };
  }

  async sweep(plan: LoadPlan, keys: string[][]): Promise<{ rows: string; slices: (string | null)[] }> {
    const slices = new Map<string | null, bigint>();
    for (let from = 0; from < keys.length; from += keysAtOnce) {
      const some = keys.slice(from, from + keysAtOnce);
      const gone = await this.session.query(sql.dropGone(plan), plan.key.map((_, at) => arrayText(some.map((key) => key[at] ?? ""))));
      for (const row of gone) slices.set(row.slice ?? null, (slices.get(row.slice ?? null) ?? 0n) + BigInt(row.rows ?? "0"));
    }
    return { rows: [...slices.values()].reduce((sum, rows) => sum + rows, 0n).toString(), slices: [...slices.keys()] };
  }

  async late(plan: LoadPlan, rows: TableName, stored: string): Promise<{ rows: string; most: string } | null> {
    const text = sql.lateRows(plan, rows, stored);
    const row = text ? await this.session.one(text) : {};
    return row.most ? { rows: row.rows ?? "0", most: row.most } : null;
  }

  steps(plan: LoadPlan): TargetChange[] {
    return sql.applySteps(plan, sql.stageName(plan, 0, plan.shape ? "shaped" : "stage"));
  }

  weigh(plan: LoadPlan, rows: TableName, accepted: string, existing: Dataset | null, told: Told): Promise<Weighed> {
    return weigh(this.session, plan, rows, accepted, existing, told);
  }

  async rejectedExamples(plan: LoadPlan, stage: TableName): Promise<{ reason: string; values: Record<string, string | null> }[]> {
    const rows = await this.session.query(reject.faultExamples(plan, stage, examples * 4));
    return rows.map((row) => ({ reason: row.message ?? "", values: JSON.parse(row.original ?? "{}") as Record<string, string | null> }));
  }

  async targetRows(plan: LoadPlan): Promise<bigint> {
    return BigInt((await this.session.one(sql.countTarget(plan))).rows ?? "0");
  }

  async finishTarget(plan: LoadPlan, told: Told): Promise<void> {
    if (plan.key.length === 0) return;
    const key = sql.addKey(plan);
    told(`the key ${plan.key.join(", ")} is built`, key);
    try {
      await this.session.query(key);
    } catch (error) {
      if ((error as { code?: string }).code !== "23505") throw error;
      throw new LoadFailure({
        message: `The key ${plan.key.join(", ")} does not tell all rows apart`,
        detail: (error as { detail?: string }).detail,
        hint: "Choose columns that identify a row, or leave such rows out with a condition. Nothing was written.",
      });
    }
  }

  async discard(stage: TableName): Promise<void> {
    await this.session.query(dropFaulty(stage));
  }

  async firstRows(plan: LoadPlan, rows: TableName, limit: number): Promise<(string | null)[][]> {
    return (await this.session.query(sql.newExamples(plan, rows, false, limit))).map((row) => plan.read.columns.map((_, at) => row[`c${at}`] ?? null));
  }

  async dropStage(stage: TableName): Promise<void> {
    await this.session.query(sql.dropStage(stage));
  }

  async isSmall(target: TableName): Promise<boolean> {
    return Number((await this.session.one(sql.estimatedRows(target))).rows) <= smallTable;
  }

  async record(plan: LoadPlan, run: string, tally: Tally, watermark: { value: string; keep: boolean } | null, proof: LoadProof, known: { columns: KnownColumn[]; swept: boolean }): Promise<void> {
    const target = formatTableName(plan.target);
    await this.session.query(sql.keepKnown, [target, plan.pipeline, plan.load, JSON.stringify(known.columns), known.swept ? "t" : "f"]);
    if (watermark?.keep) await this.session.query(sql.keepWatermark, [target, plan.pipeline, plan.load, plan.fingerprint, watermark.value, run]);
    const kept: LoadProof = { ...proof, slices: proof.slices.filter((slice) => slice.verdict !== "proved") };
    if (proof.slices.length && overallVerdict(proof.slices) !== proof.verdict) throw new LoadFailure({ message: "The proof's verdict does not follow from its slices" });
    await this.session.query(sql.keepTally, [run, plan.pipeline, plan.load, target, tally.read, tally.new, tally.changed, tally.same, tally.rejected, tally.deleted, watermark?.value ?? null, JSON.stringify(kept)]);
  }

  async commit(): Promise<void> {
    await this.session.query("COMMIT");
  }

  async rollback(): Promise<void> {
    await this.session.query("ROLLBACK");
  }

  override async close(): Promise<void> {
    // A load can end before that session has been opened; it must not outlive the load.
    const beside = await this.beside?.catch(() => undefined);
    await beside?.close();
    await super.close();
  }
}

/** A column that stands in the target with another type would change values on their way; it is refused with both types named. */
function refuseOtherTypes(plan: LoadPlan, existing: Dataset, widened: readonly string[]): void {
  const target = formatTableName(plan.target);
  const wrong = plan.read.columns.flatMap((column) => {
    const held = existing.columns.find((candidate) => candidate.name === column.name);
    const grows = held && column.source !== null && widened.includes(column.source) && keeps(column.type, held.declared);
    return !held || grows || holds(held.declared, column.type) ? [] : [`${column.name} is ${shortType(held.declared)} there and ${shortType(column.type)} in the load`];
  });
  if (wrong.length)
    throw new LoadFailure({ message: `${target} can't take the rows: ${wrong.join("; ")}`, hint: "State the column's type in the shape, so that rows that don't fit it are rejected; or load into another table or column." });
  const unfilled = existing.columns.filter((column) => column.notNull && !column.generated && !plan.read.columns.some((planned) => planned.name === column.name) && !column.hasDefault);
  if (unfilled.length)
    throw new LoadFailure({ message: `${target} needs a value for ${unfilled.map((column) => column.name).join(", ")}, which the load does not give`, hint: "Add the column to the load, or allow null there." });
}

function refuseLooseKey(plan: LoadPlan, existing: Dataset): void {
  if (plan.mode !== "upsert") return;
  const unique = existing.indexes.some((index) => index.unique && index.columns.every((name) => plan.key.includes(name)));
  if (!unique)
    throw new LoadFailure({
      message: `${formatTableName(plan.target)} has no unique index on ${plan.key.join(", ")}`,
      hint: "Create one there, or choose a key that has one: an upsert needs it to find each row's match.",
    });
}
