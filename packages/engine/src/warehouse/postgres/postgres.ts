import type { Readable } from "node:stream";
import type { KeptHistory } from "@undercoat/core/history/shape";
import type { RejectedChoice, RejectedList } from "@undercoat/core/run/rejected";
import type { LoadProof } from "@undercoat/core/run/run";
import * as house from "@undercoat/core/sql/house";
import { formatTableName, parseTableName, qualified } from "@undercoat/core/sql/identifier";
import type { RejectedFilter } from "@undercoat/core/sql/reject";
import { beginSnapshot } from "@undercoat/core/sql/session";
import type { Row, ServerCredentials } from "../../connection/credentials.ts";
import { beginLocked } from "../../postgres/lock.ts";
import { Session } from "../../postgres/session.ts";
import { PostgresSource } from "../../source/postgres/postgres.ts";
import type { Source } from "../../source/source.ts";
import type {
  Committed,
  LookBack,
  Warehouse,
  WarehouseLook,
  WarehouseSession,
  WarehouseSnapshot,
} from "../warehouse.ts";
import { furnish, houseVersion } from "./house.ts";
import { keptHistories, PostgresLookBack } from "./lookback.ts";
import { exportRejected, listRejected, rejectedChoices } from "./rejected.ts";
import { PostgresWarehouseSession } from "./session.ts";
import { PostgresWarehouseSnapshot } from "./snapshot.ts";

/** A PostgreSQL database as a warehouse. */
export class PostgresWarehouse implements Warehouse {
  constructor(private readonly credentials: ServerCredentials) {}

  async session(
    application: string,
    { looking = false, signal }: { looking?: boolean; signal?: AbortSignal } = {},
  ): Promise<WarehouseSession> {
    const session = await Session.open(this.credentials, { application, signal });
    try {
      if (!looking) await furnish(session);
      return new PostgresWarehouseSession(session, (await houseVersion(session)) === house.houseVersion);
    } catch (error) {
      await session.close();
      throw error;
    }
  }

  async snapshot(application: string, { settled, waiting, signal }: WarehouseLook = {}): Promise<WarehouseSnapshot> {
    const session = await Session.open(this.credentials, { application, readOnly: true, signal });
    try {
      const furnished = (await houseVersion(session)) === house.houseVersion;
      if (settled) {
        const [holder] = await session.query(house.lockHolder, [formatTableName(settled)]);
        if (holder?.holder) waiting?.(holder.holder);
        await session.query(house.awaitSharedLock, [formatTableName(settled)]);
        if (holder?.holder) waiting?.(null);
      }
      await beginLocked(session, beginSnapshot, settled ? [qualified(settled)] : [], waiting);
      return new PostgresWarehouseSnapshot(session, furnished);
    } catch (error) {
      await session.close();
      throw error;
    }
  }

  isInside(source: Source): boolean {
    return source instanceof PostgresSource && sameDatabase(source.credentials, this.credentials);
  }

  rejected(filter: RejectedFilter, limit: number, offset: number): Promise<RejectedList> {
    return listRejected(this.credentials, filter, limit, offset);
  }

  rejectedChoices(filter: RejectedFilter, most: number): Promise<RejectedChoice[]> {
    return rejectedChoices(this.credentials, filter, most);
  }

  rejectedCsv(filter: RejectedFilter): Promise<Readable> {
    return exportRejected(this.credentials, filter);
  }

  histories(): Promise<KeptHistory[]> {
    return keptHistories(this.credentials);
  }

  lookBack(target: string): Promise<LookBack | null> {
    return PostgresLookBack.open(this.credentials, target);
  }

  async readdress(from: { pipeline: string; load: string | null }, to: { pipeline: string }): Promise<void> {
    const session = await Session.open(this.credentials, { application: "undercoat" });
    try {
      if ((await houseVersion(session)) !== house.houseVersion) return;
      await session.query("BEGIN");
      for (const statement of house.readdressing)
        await session.query(statement, [from.pipeline, to.pipeline, from.load]);
      await session.query("COMMIT");
    } finally {
      await session.close();
    }
  }

  async prune(keep: string): Promise<number> {
    const session = await Session.open(this.credentials, { application: "undercoat pruning" });
    try {
      if ((await houseVersion(session)) !== house.houseVersion) return 0;
      let gone = 0;
      const deeds = (await session.query(house.deedsTables)).map(({ name }) => house.pruneDeeds(name ?? ""));
      for (const statement of [...house.pruning, ...deeds]) {
        for (;;) {
          const rows = Number(await session.run(statement, [keep]));
          gone += rows;
          if (rows < house.prunedAtOnce) break;
        }
      }
      return gone;
    } finally {
      await session.close();
    }
  }

  async settle(run: string, loads: { pipeline: string; load: string; target: string }[]) {
    const session = await Session.open(this.credentials, { application: "undercoat recovery" });
    try {
      await furnish(session);
      await session.query(house.settlePatience);
      for (const { pipeline, load, target } of loads)
        await session.run(house.voidTally, [run, pipeline, load, formatTableName(parseTableName(target))]);
      const rows = await session.query(house.readTally, [run]);
      const committed = new Map(rows.map((row) => [row.load ?? "", committedOf(row)]));
      return new Map(loads.map(({ load }) => [load, committed.get(load) ?? null]));
    } finally {
      await session.close();
    }
  }
}

function committedOf(row: Row): Committed {
  const count = (name: string) => row[name] ?? "0";
  return {
    tally: {
      read: count("read"),
      new: count("new"),
      changed: count("changed"),
      same: count("same"),
      rejected: count("rejected"),
      deleted: count("deleted"),
      ...(row.versions == null
        ? {}
        : { versions: row.versions, closed: count("closed"), overwritten: count("overwritten") }),
    },
    watermark: row.watermark ?? null,
    proof: JSON.parse(row.proof ?? "null") as LoadProof,
  };
}

/** True where two connections lead to one database as one user. */
function sameDatabase(a: ServerCredentials, b: ServerCredentials): boolean {
  return (
    a.settings.host === b.settings.host &&
    a.settings.port === b.settings.port &&
    a.settings.database === b.settings.database &&
    a.settings.user === b.settings.user
  );
}
