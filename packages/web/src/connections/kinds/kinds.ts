import type { ConnectionSettings } from "@undercoat/core/pipeline/pipeline";
import { files } from "./files.tsx";
import { http } from "./http.tsx";
import type { KindForm } from "./kind.ts";
import { mariadb } from "./mariadb.tsx";
import { module } from "./module.tsx";
import { odata } from "./odata.tsx";
import { postgres } from "./postgres.tsx";
import { sftp } from "./sftp.tsx";

/** The form of every kind of connection; a new one is one line here. */
export const kindForms = { postgres, mariadb, files, sftp, http, odata, module } as unknown as Record<
  ConnectionSettings["kind"],
  KindForm
>;
