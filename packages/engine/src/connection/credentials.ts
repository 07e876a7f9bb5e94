import type { ConnectionSettings, ServerSettings, WebSettings } from "@undercoat/core/pipeline/pipeline";

/** A connection with its password: what it takes to sign in. Lives only as long as the session. */
export interface Credentials<Settings extends ConnectionSettings = ConnectionSettings> {
  name: string;
  settings: Settings;
  password: string;
  /** where somebody had to consent and has */
  consent?: Consent;
}

/** Consent that somebody has given in an application, by which it gives tokens. */
export interface Consent {
  /** Turns the refresh token that is kept into tokens; the one that is to be kept from then on goes back. Nobody else does meanwhile. */
  renew<T>(work: (refresh: string) => Promise<{ refresh: string; got: T }>): Promise<T>;
}

/** The credentials of a connection of some kind. */
export type CredentialsOf<Kind extends ConnectionSettings["kind"]> = Credentials<
  Extract<ConnectionSettings, { kind: Kind }>
>;

/** The credentials of an application that is asked by HTTP. */
export type WebCredentials = Credentials<Extract<ConnectionSettings, WebSettings>>;

export type ServerCredentials = Credentials<ServerSettings>;

/** A row as text: values never become JavaScript numbers or Dates. */
export type Row = Record<string, string | null>;
