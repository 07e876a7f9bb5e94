import pg from "pg";
import { passFareHour } from "./files.ts";
import { hour, trouble } from "./hour.ts";
import { indexes, schema } from "./schema.ts";
import { seed } from "./seed.ts";

/** The databases and users of the demo. */
export const demoNames = { bookings: "bookings", warehouse: "warehouse", reader: "reader", loader: "loader" };

async function within<T>(url: string, work: (client: pg.Client) => Promise<T>): Promise<T> {
  const client = new pg.Client({ connectionString: url });
  await client.connect();
  try {
    return await work(client);
  } finally {
    await client.end();
  }
}

/** True where the demo's rows were made whole. */
export async function isSeeded(adminUrl: string, bookingsUrl: string): Promise<boolean> {
  const exists = await within(adminUrl, (client) =>
    client.query("SELECT 1 FROM pg_database WHERE datname = $1", [demoNames.bookings]),
  );
  if (exists.rowCount === 0) return false;
  return within(
    bookingsUrl,
    async (client) => (await client.query("SELECT to_regclass('demo.clock') IS NOT NULL AS seeded")).rows[0].seeded,
  );
}

/**
 * Makes both databases, their users and the scenario's rows, in one transaction after the databases themselves.
 * @param tell is told what is being made
 */
export async function seedDemo(
  urls: { admin: string; bookings: string; warehouse: string },
  passwords: { reader: string; loader: string },
  tell: (makes: string) => void,
): Promise<void> {
  await within(urls.admin, async (client) => {
    for (const [role, password] of [
      [demoNames.reader, passwords.reader],
      [demoNames.loader, passwords.loader],
    ] as const) {
      const found = await client.query("SELECT 1 FROM pg_roles WHERE rolname = $1", [role]);
      await client.query(
        `${found.rowCount ? "ALTER" : "CREATE"} ROLE ${role} LOGIN PASSWORD ${client.escapeLiteral(password)}`,
      );
    }
    for (const name of [demoNames.bookings, demoNames.warehouse]) {
      const found = await client.query("SELECT 1 FROM pg_database WHERE datname = $1", [name]);
      if (!found.rowCount) await client.query(`CREATE DATABASE ${name}`);
    }
    await client.query(`GRANT CREATE ON DATABASE ${demoNames.warehouse} TO ${demoNames.loader}`);
  });
  await within(urls.bookings, async (client) => {
    await client.query("BEGIN");
    await client.query(schema);
    for (const { makes, sql } of seed) {
      tell(makes);
      await client.query(sql);
    }
    tell("indexes");
    await client.query(indexes);
    await client.query(
      `GRANT USAGE ON SCHEMA public TO ${demoNames.reader}; GRANT SELECT ON ALL TABLES IN SCHEMA public TO ${demoNames.reader}`,
    );
    await client.query("COMMIT");
  });
}

/** Lets one more hour of business pass at the source. */
export function passHour(bookingsUrl: string, files: string | null): Promise<void> {
  if (files !== null) passFareHour(files);
  return within(bookingsUrl, async (client) => {
    await client.query(hour);
  });
}

/** Plants the three payments that a proof must find. */
export function plantTrouble(bookingsUrl: string): Promise<void> {
  return within(bookingsUrl, async (client) => {
    await client.query(trouble);
  });
}
