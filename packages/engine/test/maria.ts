import { chmodSync, mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import type { Credentials, CredentialsOf } from "@undercoat/engine/connection/credentials";
import { startMariaDb } from "@undercoat/standins/mariadb";
import mysql from "mysql2/promise";

/** A MariaDB server of a test file's own, with a database and a user who only reads. */
export interface Maria {
  credentials: CredentialsOf<"mariadb">;
  /** the same, otherwise set */
  with(settings: Partial<CredentialsOf<"mariadb">["settings"]>): Credentials;
  /** runs statements as the superuser, each on its own; those in one string are parted by `;` at a line's end */
  at(sql: string): Promise<Record<string, unknown>[]>;
  close(): Promise<void>;
}

export async function makeMaria(): Promise<Maria> {
  const folder = mkdtempSync(join(tmpdir(), "undercoat-maria-"));
  chmodSync(folder, 0o755);
  const server = await startMariaDb(folder, ["--innodb-flush-log-at-trx-commit=0", "--skip-innodb-doublewrite"]);
  const { port, user, password } = server;
  const admin = await mysql.createConnection({ host: "127.0.0.1", port, user, password, timezone: "Z" });
  const at = async (sql: string) => {
    let last: unknown = [];
    for (const one of sql.split(/;\s*(?:\n|$)/)) if (one.trim()) [last] = await admin.query(one);
    return (Array.isArray(last) ? last : []) as Record<string, unknown>[];
  };
  await at(`CREATE DATABASE workshop CHARACTER SET utf8mb4;
CREATE USER reader@'127.0.0.1' IDENTIFIED BY 'reads only';
GRANT SELECT, EXECUTE ON workshop.* TO reader@'127.0.0.1';
USE workshop;
SET time_zone = '+00:00'`);
  const credentials: CredentialsOf<"mariadb"> = {
    name: "workshop",
    settings: { kind: "mariadb", host: "127.0.0.1", port, database: "workshop", user: "reader", tls: "off" },
    password: "reads only",
  };
  return {
    credentials,
    with: (settings) => ({ ...credentials, settings: { ...credentials.settings, ...settings } }),
    at,
    async close() {
      await admin.end();
      await server.stop();
      rmSync(folder, { recursive: true, force: true });
    },
  };
}
