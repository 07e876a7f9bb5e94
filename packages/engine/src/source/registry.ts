import type { ConnectionSettings } from "@undercoat/core/pipeline/pipeline";
import type { Credentials, CredentialsOf } from "../connection/credentials.ts";
import { folderSource } from "./files/files.ts";
import { HttpSource } from "./http/http.ts";
import { MariaSource } from "./mariadb/mariadb.ts";
import { ModuleSource } from "./module/module.ts";
import { ODataSource } from "./odata/odata.ts";
import { PostgresSource } from "./postgres/postgres.ts";
import { sftpSource } from "./sftp/sftp.ts";
import type { Source } from "./source.ts";

/** Every kind of source; a new kind is one line here. */
const kinds: { [Kind in ConnectionSettings["kind"]]: (credentials: CredentialsOf<Kind>) => Source } = {
  postgres: (credentials) => new PostgresSource(credentials),
  sftp: sftpSource,
  mariadb: (credentials) => new MariaSource(credentials),
  files: folderSource,
  module: (credentials) => new ModuleSource(credentials),
  odata: (credentials) => new ODataSource(credentials),
  http: (credentials) => new HttpSource(credentials),
};

export function sourceFor(credentials: Credentials): Source {
  const make = kinds[credentials.settings.kind] as ((credentials: Credentials) => Source) | undefined;
  if (!make) throw new RangeError(`${credentials.settings.kind} is not a kind of source`);
  return make(credentials);
}
