import type { Credentials } from "../connection/credentials.ts";
import { PostgresSource } from "./postgres/postgres.ts";
import type { Source } from "./source.ts";

/** Every kind of source; a new kind is one line here. */
const kinds: Record<string, (credentials: Credentials) => Source> = {
  postgres: (credentials) => new PostgresSource(credentials),
};

export function sourceFor(credentials: Credentials): Source {
  const make = kinds[credentials.settings.kind];
  if (!make) throw new RangeError(`${credentials.settings.kind} is not a kind of source`);
  return make(credentials);
}
