import { existsSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { allowEgress } from "@undercoat/engine/http/egress";
import { allowFolders } from "@undercoat/engine/source/files/folder";
import { spoolInto } from "@undercoat/engine/source/http/spool";
import { modulesIn } from "@undercoat/engine/source/module/module";
import type { Settings } from "../settings.ts";

/**
 * Says what sources of this process reach: the folders below which files lie, where pages are kept, and where connections may
 * lead, which is not to the product's own database and address unless they are listed.
 * @param database the address of the product's database, once it is known
 */
export function settleReach(settings: Settings, database: string | null): void {
  allowFolders(settings.files);
  modulesIn(settings.modules);
  spoolInto(join(settings.data, "pages"));
  const file = join(settings.data, "address");
  const addresses = [database, existsSync(file) ? readFileSync(file, "utf8").trim() : null];
  allowEgress({
    allowed: settings.egress,
    own: addresses.flatMap((address) => {
      if (address === null || !URL.canParse(address)) return [];
      const { protocol, hostname, port, pathname } = new URL(address);
      const web = /^https?:$/.test(protocol);
      return [
        {
          host: hostname.replace(/^\[|\]$/g, ""),
          port: Number(port || (web ? 80 : 5432)),
          database: web ? null : decodeURIComponent(pathname.slice(1)),
        },
      ];
    }),
  });
}
