import type { ConnectionSettings, ServerSettings } from "@undercoat/core/pipeline/pipeline";

/** A connection with its password: what it takes to sign in. Lives only as long as the session. */
export interface Credentials<Settings extends ConnectionSettings = ConnectionSettings> {
  name: string;
  settings: Settings;
  password: string;
}

/** The credentials of a connection of some kind. */
export type CredentialsOf<Kind extends ConnectionSettings["kind"]> = Credentials<
  Extract<ConnectionSettings, { kind: Kind }>
>;

export type ServerCredentials = Credentials<ServerSettings>;

/** A row as text: values never become JavaScript numbers or Dates. */
export type Row = Record<string, string | null>;
