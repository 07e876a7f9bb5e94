import type { CredentialsOf } from "@undercoat/engine/connection/credentials";
import type { Crew } from "@undercoat/standins/crew";

/** The Crew office as a connection. */
export const officeOf = ({ url, user, password }: Crew): CredentialsOf<"odata"> => ({
  name: "crew",
  settings: { kind: "odata", url, auth: { basic: { user } } },
  password,
});
