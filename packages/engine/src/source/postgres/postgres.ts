import type { Dataset, DatasetSummary, TimeColumn } from "@undercoat/core/dataset/dataset";
import type { From } from "@undercoat/core/pipeline/pipeline";
import type { LoadPlan, Window } from "@undercoat/core/plan/plan";
import { canCreateSchema, datasets, readableTables, serverFacts } from "@undercoat/core/sql/catalog";
import { formatTableName, type TableName } from "@undercoat/core/sql/identifier";
import { firstRows } from "@undercoat/core/sql/look";
import { beginSnapshot, copyOut, highWater, previewRows } from "@undercoat/core/sql/read";
import { type CheckStep, networkSteps, runSteps } from "../../connection/check.ts";
import { LoadFailure } from "../../failure.ts";
import { PostgresSide } from "../../proof/side.ts";
import { type Credentials, type Row, Session } from "../../session.ts";
import type { RowStream, Snapshot, Source } from "../source.ts";
import { describe, findDataset } from "./describe.ts";
import { timeColumns } from "./time.ts";
import { handshake } from "./tls.ts";

/** The oldest server whose hashes and functions the proofs rest on. */
const oldest = 14;

/** A PostgreSQL database as a source. Every session is read-only. */
export class PostgresSource implements Source {
  constructor(readonly credentials: Credentials) {}

  async check(asWarehouse: boolean, tell: (step: CheckStep) => void): Promise<boolean> {
    const { settings } = this.credentials;
    const open: { session?: Session } = {};
    const signedIn = () => {
      if (!open.session) throw new LoadFailure({ message: "Not signed in" });
      return open.session;
    };
    try {
      return await runSteps(
        settings,
        [
          ...networkSteps(settings),
          ["tls", async () => (settings.tls === "off" ? { fact: "TLS is off: the password and the rows travel in the clear", skipped: true } : { fact: await handshake(settings) })],
          [
            "sign in",
            async () => {
              open.session = await Session.open(this.credentials, { application: "undercoat check", timeout: 5000 });
              const facts = await open.session.one(serverFacts);
              if (Number(facts.major) < oldest)
                throw new LoadFailure({ message: `The server is PostgreSQL ${facts.version}`, hint: `Undercoat needs PostgreSQL ${oldest} or later.` });
              return { fact: `signed in as ${facts.name} to ${facts.database}, PostgreSQL ${facts.version}` };
            },
          ],
          [
            "read",
            async () => {
              const { readable, all } = await signedIn().one(readableTables);
              if (readable === "0" && all !== "0")
                throw new LoadFailure({ message: `None of ${all} tables can be read by ${settings.user}`, hint: `GRANT SELECT ON ALL TABLES IN SCHEMA … TO ${settings.user}` });
              return { fact: `${readable} of ${all} tables can be read` };
            },
          ],
          [
            "write",
            async () => {
              if (!asWarehouse) return { fact: "not asked for: used as a source only", skipped: true };
              const rights = await signedIn().one(canCreateSchema);
              if (rights.create !== "t" || rights.house !== "t")
                throw new LoadFailure({ message: `${settings.user} may not create schemas in ${settings.database}`, hint: `GRANT CREATE ON DATABASE ${settings.database} TO ${settings.user}` });
              return { fact: "can create schemas and tables" };
            },
          ],
        ],
        tell,
      );
    } finally {
      await open.session?.close();
    }
  }

  private async with<T>(work: (session: Session) => Promise<T>): Promise<T> {
    const session = await Session.open(this.credentials, { application: "undercoat browse", readOnly: true });
    try {
      return await work(session);
    } finally {
      await session.close();
    }
  }

  private async found(session: Session, table: TableName): Promise<Dataset> {
    const dataset = await findDataset(session, table);
    if (!dataset) throw new LoadFailure({ message: `${this.credentials.name} has no table ${formatTableName(table)}` });
    return dataset;
  }

  datasets(): Promise<DatasetSummary[]> {
    return this.with(async (session) => (await session.query(datasets)) as unknown as DatasetSummary[]);
  }

  dataset(table: TableName): Promise<Dataset> {
    return this.with((session) => this.found(session, table));
  }

  firstRows(table: TableName, limit: number): Promise<Row[]> {
    return this.with(async (session) => {
      const names = (await this.found(session, table)).columns.map((column) => column.name);
      return session.query(firstRows(table, names, limit));
    });
  }

  timeColumns(table: TableName): Promise<TimeColumn[]> {
    return this.with(async (session) => timeColumns(session, table, await this.found(session, table)));
  }

  async snapshot(application: string, signal?: AbortSignal): Promise<Snapshot> {
    const session = await Session.open(this.credentials, { application, readOnly: true, signal });
    await session.query(beginSnapshot);
    return new PostgresSnapshot(session);
  }
}

/** A session as a source at one moment. */
export class PostgresSnapshot extends PostgresSide implements Snapshot {
  constructor(private readonly reading: Session) {
    super(reading, "source");
  }

  describe(from: From): Promise<Dataset> {
    return describe(this.reading, from);
  }

  rows(plan: LoadPlan, window: Window): RowStream {
    return this.reading.copyOut(copyOut(plan, window));
  }

  async highWater(plan: LoadPlan, window: Window): Promise<string | null> {
    const text = highWater(plan, window);
    return text ? ((await this.reading.one(text)).value ?? null) : null;
  }

  preview(plan: LoadPlan, window: Window, limit: number): Promise<Row[]> {
    return this.reading.query(previewRows(plan, window, limit));
  }

  statement(plan: LoadPlan, window: Window): string {
    return copyOut(plan, window);
  }

  close(): Promise<void> {
    return this.reading.close();
  }
}
