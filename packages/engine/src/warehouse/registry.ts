import type { Credentials } from "../connection/credentials.ts";
import { PostgresWarehouse } from "./postgres/postgres.ts";
import type { Warehouse } from "./warehouse.ts";

/** Every kind of warehouse; a new kind is one line here. */
const kinds: Record<string, (credentials: Credentials) => Warehouse> = {
  postgres: (credentials) => new PostgresWarehouse(credentials),
};

export function warehouseFor(credentials: Credentials): Warehouse {
  const make = kinds[credentials.settings.kind];
  if (!make) throw new RangeError(`${credentials.settings.kind} is not a kind of warehouse`);
  return make(credentials);
}
