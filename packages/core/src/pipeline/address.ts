import type { ConnectionSettings } from "./pipeline.ts";

/** True where two settings send a password to the same place, in the same name and no less protected: a stored password goes on only then. */
export function sameAddress(a: ConnectionSettings, b: ConnectionSettings): boolean {
  return (
    a.kind === b.kind &&
    a.host === b.host &&
    a.port === b.port &&
    a.database === b.database &&
    a.user === b.user &&
    a.tls === b.tls
  );
}

/** What a connection is where nothing else is said. A definition carries it, so that what is stored is what runs. */
export const connectionDefaults = { port: 5432, tls: "off" as const };
