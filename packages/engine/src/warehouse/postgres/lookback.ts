import type { AsOf, Between, HistoryShape, KeptHistory } from "@undercoat/core/history/shape";
import { PlanError } from "@undercoat/core/plan/error";
import * as house from "@undercoat/core/sql/house";
import { formatTableName, parseTableName } from "@undercoat/core/sql/identifier";
import * as sql from "@undercoat/core/sql/lookback";
import type { Row, ServerCredentials } from "../../connection/credentials.ts";
import { isDataError, NoTable } from "../../failure.ts";
import { arrayText } from "../../postgres/array.ts";
import { findDataset } from "../../postgres/describe.ts";
import { Session } from "../../postgres/session.ts";
import type { KeyLifeline, LookBack } from "../warehouse.ts";
import { houseVersion } from "./house.ts";

/** Steps in which the beginnings of versions are counted. */
const steps = 60;

function keptOf(row: Row): KeptHistory {
  return {
    target: row.target ?? "",
    pipeline: row.pipeline ?? "",
    load: row.load ?? "",
    shape: JSON.parse(row.shape ?? "{}") as HistoryShape,
  };
}

async function look<T>(credentials: ServerCredentials, question: (session: Session) => Promise<T>): Promise<T> {
  const session = await Session.open(credentials, { application: "undercoat look", readOnly: true });
  try {
    return await question(session);
  } finally {
    await session.close();
  }
}

/** The tables of a warehouse that keep a history. */
export function keptHistories(credentials: ServerCredentials): Promise<KeptHistory[]> {
  return look(credentials, async (session) =>
    (await houseVersion(session)) === house.houseVersion ? (await session.query(sql.histories)).map(keptOf) : [],
  );
}

const keyOf = (shape: HistoryShape, row: Row) => shape.key.map((_, at) => row[`k${at}`] ?? "");

export class PostgresLookBack implements LookBack {
  private constructor(
    private readonly credentials: ServerCredentials,
    private readonly kept: KeptHistory,
  ) {}

  static async open(credentials: ServerCredentials, target: string): Promise<PostgresLookBack | null> {
    const name = formatTableName(parseTableName(target));
    const row = await look(credentials, async (session) =>
      (await houseVersion(session)) === house.houseVersion
        ? (await session.query(sql.historyOfTarget, [name]))[0]
        : undefined,
    );
    return row ? new PostgresLookBack(credentials, keptOf(row)) : null;
  }

  private get table() {
    return parseTableName(this.kept.target);
  }

  /** The types of the target's columns. @throws NoTable where it is gone. */
  private async types(session: Session): Promise<Map<string, string>> {
    const dataset = await findDataset(session, this.table);
    if (!dataset) throw new NoTable({ message: `${this.kept.target} is not there any more` });
    return new Map(dataset.columns.map((column) => [column.name, column.declared]));
  }

  lifeline(key: readonly string[]): Promise<KeyLifeline | null> {
    const { shape, pipeline, load } = this.kept;
    return look(this.credentials, async (session) => {
      const types = await this.types(session);
      const values = [...key];
      if (values.length !== shape.key.length)
        throw new PlanError(`The key is ${shape.key.join(", ")}; ${values.length} values were given`, ["key"]);
      const versions = await session.query(sql.versionsOf(this.table, shape, types), values).catch((error: unknown) => {
        if (!isDataError(error)) throw error;
        throw new PlanError(`${values.join(", ")} is not a value of the key ${shape.key.join(", ")}`, ["key"]);
      });
      if (versions.length === 0) return null;
      const moments = await session.query(sql.momentsOf(this.table, shape, types), values);
      const [next] = await session.query(sql.besides(this.table, shape, types, "next"), values);
      const [previous] = await session.query(sql.besides(this.table, shape, types, "previous"), values);
      const made = await this.made(session, types, values, versions);
      return {
        shape,
        pipeline,
        load,
        versions,
        moments: moments.filter((row) => row.gone !== "t").map((row) => row.at ?? ""),
        gone: moments.filter((row) => row.gone === "t").map((row) => row.at ?? ""),
        ...made,
        previous: previous ? keyOf(shape, previous) : null,
        next: next ? keyOf(shape, next) : null,
      };
    });
  }

  /** Which run made each edge of a key's versions, by its moment, and which corrected what it found. */
  private async made(
    session: Session,
    types: Map<string, string>,
    values: string[],
    versions: Row[],
  ): Promise<Pick<KeyLifeline, "runs" | "corrections">> {
    const { shape, target } = this.kept;
    const edges = versions.flatMap((row) => [row[shape.from], row[shape.to]].filter((at) => at != null));
    const kept = shape.since !== null && (await session.one(sql.keepsDeeds(this.table))).kept === "t";
    const deeds = kept ? await session.query(sql.deedsOf(this.table, shape, types), values) : [];
    const used = [...new Set([...edges, ...deeds.map((deed) => deed.moment ?? "")])];
    const found = await session.query(sql.runsAt, [target, arrayText(used)]);
    const runs = new Map(found.map((row) => [row.moment, row.run ?? null]));
    const run = (moment: string | null | undefined) => runs.get(moment ?? "") ?? null;
    // A version that the source dates was made by the run that did it; any other begins or ends at its run's own moment.
    const makers = new Map(edges.map((at) => [at, run(at)]));
    for (const { did, at, moment } of deeds)
      if (did === "new") makers.set(versions[0]?.[shape.from] ?? "", run(moment));
      else if (did === "version") makers.set(at ?? "", run(moment));
    return {
      runs: Object.fromEntries([...makers].filter((pair): pair is [string, string] => pair[1] !== null)),
      corrections: deeds
        .filter(({ did }) => did === "corrected")
        .map(({ at, moment }) => ({ at: at ?? "", run: run(moment) })),
    };
  }

  /** A moment as the warehouse reads it. @throws PlanError where it is none. */
  private async moment(session: Session, text: string): Promise<string> {
    return session.one(sql.isMoment, [text]).then(
      (row) => row.moment ?? text,
      () => {
        throw new PlanError(`${text} is not a moment; write it as ISO 8601 does, such as 2026-09-14T06:00Z`, ["at"]);
      },
    );
  }

  asOf(moment: string | null, limit: number): Promise<AsOf> {
    const { shape, pipeline, load } = this.kept;
    return look(this.credentials, async (session) => {
      const at = await this.moment(session, moment ?? "now");
      const columns = [...(await this.types(session)).keys()];
      const rows = await session.query(sql.rowsAsOf(this.table, shape, limit), [at]);
      const { rows: count } = await session.one(sql.countAsOf(this.table, shape), [at]);
      const begun = await session.query(sql.beginnings(this.table, shape, steps));
      const [first] = begun;
      return {
        shape,
        pipeline,
        load,
        count: count ?? "0",
        columns,
        rows,
        changes: first
          ? {
              from: first.low ?? "",
              to: first.high ?? "",
              versions: Array.from(
                { length: steps },
                (_, step) => begun.find((row) => row.step === String(step + 1))?.versions ?? "0",
              ),
            }
          : null,
      };
    });
  }

  between(from: string, to: string, limit: number): Promise<Between> {
    const { shape } = this.kept;
    return look(this.credentials, async (session) => {
      const moments = [await this.moment(session, from), await this.moment(session, to)];
      const counts = await session.one(sql.countBetween(this.table, shape), moments);
      const keys = await session.query(sql.keysBetween(this.table, shape, limit), moments);
      return {
        added: counts.added ?? "0",
        gone: counts.gone ?? "0",
        changed: counts.changed ?? "0",
        columns: sql.comparedColumns(shape).map((column, at) => ({ column, keys: counts[`c${at}`] ?? "0" })),
        keys: keys.map((row) => ({ key: keyOf(shape, row), how: row.how as "added" | "gone" | "changed" })),
      };
    });
  }
}
