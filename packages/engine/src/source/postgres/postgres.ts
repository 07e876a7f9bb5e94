import type { Dataset, DatasetSummary, TimeColumn } from "@undercoat/core/dataset/dataset";
import { canCreateSchema, datasets, readableTables, serverFacts } from "@undercoat/core/sql/catalog";
import { formatTableName, type TableName } from "@undercoat/core/sql/identifier";
import { firstRows } from "@undercoat/core/sql/look";
import { beginSnapshot } from "@undercoat/core/sql/session";
import { type CheckStep, networkSteps, runSteps } from "../../connection/check.ts";
import type { Row, ServerCredentials } from "../../connection/credentials.ts";
import { LoadFailure, NoTable } from "../../failure.ts";
import { postgresTeller } from "../../mark/statement.ts";
import type { Teller } from "../../mark/teller.ts";
import { findDataset } from "../../postgres/describe.ts";
import { beginLocked, tablesRead } from "../../postgres/lock.ts";
import { Session } from "../../postgres/session.ts";
import { PostgresSnapshot } from "../../postgres/snapshot.ts";
import type { Snapshot, SnapshotOptions, Source } from "../source.ts";
import { timeColumns } from "./time.ts";
import { handshake } from "./tls.ts";

/** The oldest server whose hashes and functions the proofs rest on. */
const oldest = 14;

/** A PostgreSQL database as a source. Every session is read-only. */
export class PostgresSource implements Source {
  constructor(readonly credentials: ServerCredentials) {}

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
          [
            "tls",
            async () =>
              settings.tls === "off"
                ? { fact: "TLS is off: the password and the rows travel in the clear", skipped: true }
                : { fact: await handshake(settings) },
          ],
          [
            "sign in",
            async () => {
              open.session = await Session.open(this.credentials, {
                application: "undercoat check",
                timeout: 5000,
                fresh: true,
              });
              const facts = await open.session.one(serverFacts);
              if (Number(facts.major) < oldest)
                throw new LoadFailure({
                  message: `The server is PostgreSQL ${facts.version}`,
                  hint: `Undercoat needs PostgreSQL ${oldest} or later.`,
                });
              return { fact: `signed in as ${facts.name} to ${facts.database}, PostgreSQL ${facts.version}` };
            },
          ],
          [
            "read",
            async () => {
              const { readable, all } = await signedIn().one(readableTables);
              if (readable === "0" && all !== "0")
                throw new LoadFailure({
                  message: `None of ${all} tables can be read by ${settings.user}`,
                  hint: `GRANT SELECT ON ALL TABLES IN SCHEMA … TO ${settings.user}`,
                });
              return { fact: `${readable} of ${all} tables can be read` };
            },
          ],
          [
            "write",
            async () => {
              if (!asWarehouse) return { fact: "not asked for: used as a source only", skipped: true };
              const rights = await signedIn().one(canCreateSchema);
              if (rights.create !== "t" || rights.house !== "t")
                throw new LoadFailure({
                  message: `${settings.user} may not create schemas in ${settings.database}`,
                  hint: `GRANT CREATE ON DATABASE ${settings.database} TO ${settings.user}`,
                });
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
    if (!dataset) throw new NoTable({ message: `${this.credentials.name} has no table ${formatTableName(table)}` });
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

  async arrivals(): Promise<null> {
    return null;
  }

  async teller(signal: AbortSignal): Promise<Teller> {
    return postgresTeller(this.credentials, signal);
  }

  async snapshot(application: string, { from, after, waiting, signal }: SnapshotOptions = {}): Promise<Snapshot> {
    const session = await Session.open(this.credentials, { application, readOnly: true, signal });
    try {
      await after;
      if (from?.rows === "visible") await session.guard("on");
      await beginLocked(session, beginSnapshot, from ? await tablesRead(from) : [], waiting);
      return new PostgresSnapshot(session);
    } catch (error) {
      await session.close();
      throw error;
    }
  }
}
