import { boundMark } from "@undercoat/core/mark/mark";
import type { CredentialsOf, ServerCredentials } from "../connection/credentials.ts";
import { failureOf, isAnswer, LoadFailure } from "../failure.ts";
import { Session } from "../postgres/session.ts";
import { MariaSession } from "../source/mariadb/session.ts";
import { type Arrival, changesNone, type Teller } from "./teller.ts";

/** Sends marks as statements, each a transaction of its own. @param run how many rows one changed */
function teller(
  sign: "numbered" | "questions",
  name: string,
  run: (sql: string, values: (string | null)[]) => Promise<number>,
  isRefusal: (error: unknown) => boolean,
  close: () => Promise<void>,
): Teller {
  return {
    async send(mark): Promise<Arrival> {
      if (!("sql" in mark)) return { state: "refused", why: `${name} is a database and takes no requests` };
      const { sql, values } = boundMark(mark, sign);
      try {
        const rows = await run(sql, values);
        return changesNone(sql, rows)
          ? { state: "refused", why: `${name} has no row that the statement is about` }
          : { state: "sent" };
      } catch (error) {
        return { state: isRefusal(error) ? "refused" : "unsure", why: failureOf(error, { name }).message };
      }
    },
    close,
  };
}

/** @throws LoadFailure where nobody has allowed that a connection is written to */
function refuseUnmarked({ name, settings }: ServerCredentials | CredentialsOf<"mariadb">): void {
  if (settings.marks) return;
  throw new LoadFailure({
    message: `Loads may not write marks through ${name}`,
    hint: "An administrator allows it on the connection's page.",
  });
}

/** Tells a PostgreSQL database. @throws LoadFailure where it may not be written to, or can't be reached */
export async function postgresTeller(credentials: ServerCredentials, signal?: AbortSignal): Promise<Teller> {
  refuseUnmarked(credentials);
  const session = await Session.open(credentials, { application: "undercoat marks", fresh: true, signal });
  const run = async (sql: string, values: (string | null)[]) => Number(await session.run(sql, values));
  return teller("numbered", credentials.name, run, isAnswer, () => session.close());
}

/** Tells a MariaDB database. @throws LoadFailure where it may not be written to, or can't be reached */
export async function mariaTeller(credentials: CredentialsOf<"mariadb">, signal?: AbortSignal): Promise<Teller> {
  refuseUnmarked(credentials);
  const session = await MariaSession.open(credentials, signal, "writes");
  // What the server answers has a number of its own; what cuts the connection has none.
  const refuses = (error: unknown) => typeof (error as { errno?: unknown }).errno === "number";
  return teller(
    "questions",
    credentials.name,
    (sql, values) => session.run(sql, values),
    refuses,
    () => session.close(),
  );
}
