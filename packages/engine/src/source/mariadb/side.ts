import * as sql from "@undercoat/core/sql/mariadb/proof";
import type { Row } from "../../connection/credentials.ts";
import { AskedSide } from "../../proof/asked.ts";
import type { MariaSession } from "./session.ts";

/** Rows of a MariaDB server as a side of a proof. */
export class MariaSide extends AskedSide<sql.MariaRelation> {
  constructor(
    private readonly session: MariaSession,
    relation: sql.MariaRelation,
  ) {
    super(relation, sql);
  }

  protected ask(text: string): Promise<Row[]> {
    return this.session.query(text);
  }

  protected askGroups(text: string): Promise<Row[]> {
    return this.ask(text);
  }

  async present(keys: string[][]): Promise<boolean[]> {
    const rows = await this.ask(sql.presentKeys(this.relation, keys));
    const there = new Set(rows.map((row) => JSON.stringify(this.keyOf(row))));
    return keys.map((key) => there.has(JSON.stringify(key)));
  }
}
