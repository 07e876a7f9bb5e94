import type { ConnectionSettings } from "@undercoat/core/pipeline/pipeline";

/** A connection with its password: what it takes to sign in. Lives only as long as the session. */
export interface Credentials {
  name: string;
  settings: ConnectionSettings;
  password: string;
}

/** A row as text: values never become JavaScript numbers or Dates. */
export type Row = Record<string, string | null>;
