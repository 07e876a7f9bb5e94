import type { Dataset, DatasetSummary, TimeColumn } from "@undercoat/core/dataset/dataset";
import type { TableName } from "@undercoat/core/sql/identifier";
import * as catalog from "@undercoat/core/sql/mariadb/catalog";
import { readText, valueIn } from "@undercoat/core/sql/mariadb/text";
import { isDated } from "@undercoat/core/sql/mariadb/type";
import { type CheckStep, networkSteps, runSteps } from "../../connection/check.ts";
import type { CredentialsOf, Row } from "../../connection/credentials.ts";
import { LoadFailure } from "../../failure.ts";
import { mariaTeller } from "../../mark/statement.ts";
import type { Teller } from "../../mark/teller.ts";
import type { Snapshot, SnapshotOptions, Source } from "../source.ts";
import { rankTimes } from "../time.ts";
import { datasetOf } from "./describe.ts";
import { MariaSession } from "./session.ts";
import { MariaSnapshot } from "./snapshot.ts";

/** Rows looked at to tell how fine a column's values are. */
const sample = 10_000;

/** A MariaDB database, or one that speaks its protocol, as a source. Every session is read-only. */
export class MariaSource implements Source {
  constructor(private readonly credentials: CredentialsOf<"mariadb">) {}

  async check(asWarehouse: boolean, tell: (step: CheckStep) => void): Promise<boolean> {
    const { settings, name } = this.credentials;
    const open: { session?: MariaSession } = {};
    const signedIn = async () => {
      open.session ??= await MariaSession.open(this.credentials);
      return open.session;
    };
    try {
      return await runSteps(
        { ...settings, name },
        [
          ...networkSteps(settings),
          [
            "sign in",
            async () => {
              const facts = await (await signedIn()).one(catalog.serverFacts);
              return { fact: `signed in as ${facts.name} to ${facts.database}, ${facts.version}` };
            },
          ],
          [
            "tls",
            async () => {
              if (settings.tls === "off")
                return { fact: "TLS is off: the password and the rows travel in the clear", skipped: true };
              const rows = await (await signedIn()).query(catalog.handshake);
              const version = rows.find((row) => row.Variable_name === "Ssl_version")?.Value;
              if (!version) throw new LoadFailure({ message: "The server does not speak TLS" });
              return { fact: `${version}, certificate ${settings.tls === "verify" ? "checked" : "not checked"}` };
            },
          ],
          [
            "read",
            async () => {
              const { tables } = await (await signedIn()).one(catalog.readableTables);
              if (tables === "0")
                throw new LoadFailure({
                  message: `${settings.user} sees no table`,
                  hint: `GRANT SELECT ON ${settings.database}.* TO ${settings.user}`,
                });
              return { fact: `${tables} tables can be read` };
            },
          ],
          [
            "write",
            async () => {
              if (!asWarehouse) return { fact: "not asked for: used as a source only", skipped: true };
              throw new LoadFailure({ message: "MariaDB is a source only; a warehouse is PostgreSQL" });
            },
          ],
        ],
        tell,
      );
    } finally {
      await open.session?.close();
    }
  }

  private async with<T>(work: (session: MariaSession) => Promise<T>): Promise<T> {
    const session = await MariaSession.open(this.credentials);
    try {
      return await work(session);
    } finally {
      await session.close();
    }
  }

  datasets(): Promise<DatasetSummary[]> {
    return this.with(async (session) => (await session.query(catalog.datasets)) as unknown as DatasetSummary[]);
  }

  dataset(table: TableName): Promise<Dataset> {
    return this.with(async (session) => (await datasetOf(session, table)).dataset);
  }

  firstRows(table: TableName, limit: number): Promise<Row[]> {
    return this.with(async (session) => {
      const { columns } = await datasetOf(session, table);
      const texts = columns.map((column) => ({
        name: column.name,
        text: readText(column, valueIn(column, this.credentials.settings.zeroDates ?? "reject")),
      }));
      return session.query(catalog.firstRows(table, texts, limit));
    });
  }

  timeColumns(table: TableName): Promise<TimeColumn[]> {
    return this.with(async (session) => {
      const { dataset, columns } = await datasetOf(session, table);
      return rankTimes(dataset, async (name, indexed) => {
        const column = columns.find((one) => one.name === name);
        if (!column) return {};
        const text = (sql: string) => readText({ ...column, scale: column.scale && 6 }, sql);
        const ranged = indexed ? await session.one(catalog.columnRange(table, column, text, null)) : {};
        const looked = isDated(column) ? await session.one(catalog.columnRange(table, column, text, sample)) : {};
        return { ...looked, ...ranged };
      });
    });
  }

  async arrivals(): Promise<null> {
    return null;
  }

  async teller(signal: AbortSignal): Promise<Teller> {
    return mariaTeller(this.credentials, signal);
  }

  async snapshot(_application: string, { after, signal }: SnapshotOptions = {}): Promise<Snapshot> {
    const session = await MariaSession.open(this.credentials, signal);
    try {
      await after;
      await session.begin();
      return new MariaSnapshot(session, this.credentials);
    } catch (error) {
      await session.close();
      throw error;
    }
  }
}
