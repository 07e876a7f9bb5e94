import type { ConnectionSettings } from "../pipeline/pipeline.ts";
import type { GivenSecret } from "../pipeline/project.ts";
import { files } from "./files.ts";
import { http } from "./http.ts";
import type { ConnectionKind } from "./kind.ts";
import { mariadb } from "./mariadb.ts";
import { module } from "./module.ts";
import { odata } from "./odata.ts";
import { postgres } from "./postgres.ts";
import { sftp } from "./sftp.ts";

/** Every kind of connection; a new one is one line here. */
export const kinds: {
  [Kind in ConnectionSettings["kind"]]: ConnectionKind<Extract<ConnectionSettings, { kind: Kind }>>;
} = { postgres, files, sftp, mariadb, http, odata, module };

/** The kind of a connection, which its own settings fit. */
export function kindOf<Settings extends ConnectionSettings>({ kind }: Settings): ConnectionKind<Settings> {
  return kinds[kind] as unknown as ConnectionKind<Settings>;
}

/** What is given of a connection, parted into its settings and its secret. */
export function partedOf(given: ConnectionSettings & { password?: GivenSecret }): {
  settings: ConnectionSettings;
  password: GivenSecret | undefined;
} {
  const { apart } = kindOf<ConnectionSettings>(given);
  if (apart) return apart(given);
  const { password, ...settings } = given;
  return { settings: settings as ConnectionSettings, password };
}

/** True where two settings send a secret to the same place, in the same name and no less protected. */
export function sameAddress(a: ConnectionSettings, b: ConnectionSettings): boolean {
  return a.kind === b.kind && JSON.stringify(kindOf(a).address(a)) === JSON.stringify(kindOf(b).address(b));
}

/** Settings as a project file tells them. */
export const writtenSettings = (settings: ConnectionSettings) => ({
  kind: settings.kind,
  ...kindOf(settings).written(settings),
});
