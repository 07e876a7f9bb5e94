import type { ConnectionSettings } from "@undercoat/core/pipeline/pipeline";
import type { Credentials, CredentialsOf } from "../connection/credentials.ts";
import { LoadFailure } from "../failure.ts";
import { PostgresWarehouse } from "./postgres/postgres.ts";
import type { Warehouse } from "./warehouse.ts";

/** Every kind of warehouse; a new kind is one line here. */
const kinds: { [Kind in ConnectionSettings["kind"]]?: (credentials: CredentialsOf<Kind>) => Warehouse } = {
  postgres: (credentials) => new PostgresWarehouse(credentials),
};

export function warehouseFor(credentials: Credentials): Warehouse {
  const make = kinds[credentials.settings.kind] as ((credentials: Credentials) => Warehouse) | undefined;
  if (!make) throw new LoadFailure({ message: `${credentials.name} is no warehouse: nothing can be loaded into it` });
  return make(credentials);
}
