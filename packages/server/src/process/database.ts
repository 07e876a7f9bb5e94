import pg from "pg";
import { type Cluster, startCluster } from "../cluster/cluster.ts";
import { SettingError, type Settings } from "../settings.ts";

/** The product's own database: a given one, or one in the private cluster. */
export interface OwnDatabase {
  url: string;
  cluster: Cluster | null;
}

const name = "undercoat";

export async function openDatabase(settings: Settings): Promise<OwnDatabase> {
  if (settings.databaseUrl) {
    const client = new pg.Client({ connectionString: settings.databaseUrl, connectionTimeoutMillis: 10_000 });
    try {
      await client.connect();
    } catch (error) {
      throw new SettingError(
        `The database of UNDERCOAT_DATABASE_URL can't be used: ${(error as Error).message || (error as NodeJS.ErrnoException).code}.`,
      );
    } finally {
      await client.end().catch(() => undefined);
    }
    return { url: settings.databaseUrl, cluster: null };
  }
  const cluster = await startCluster(settings.data);
  const admin = new pg.Client({ connectionString: cluster.url("postgres") });
  await admin.connect();
  try {
    const found = await admin.query("SELECT 1 FROM pg_database WHERE datname = $1", [name]);
    if (!found.rowCount) await admin.query(`CREATE DATABASE ${name}`);
  } finally {
    await admin.end();
  }
  return { url: cluster.url(name), cluster };
}
