import * as sql from "@undercoat/core/sql/proof";
import type { Relation } from "@undercoat/core/sql/relation";
import type { Row } from "../connection/credentials.ts";
import { AskedSide } from "../proof/asked.ts";
import { arrayText } from "./array.ts";
import type { Session } from "./session.ts";

/** Rows of a PostgreSQL database as a side of a proof. */
export class PostgresSide extends AskedSide<Relation> {
  constructor(
    private readonly session: Session,
    relation: Relation,
  ) {
    super(relation, sql);
  }

  protected ask(text: string): Promise<Row[]> {
    return this.session.query(text, this.relation.parameters);
  }

  protected async askGroups(text: string): Promise<Row[]> {
    await this.session.query(sql.groupByHashing);
    const rows = await this.ask(text);
    await this.session.query(sql.groupAsPlanned);
    return rows;
  }

  async present(keys: string[][]): Promise<boolean[]> {
    const width = sql.matching(this.relation).length;
    const arrays = Array.from({ length: width }, (_, at) => arrayText(keys.map((key) => key[at] ?? "")));
    const rows = await this.session.query(sql.presentKeys(this.relation), [...this.relation.parameters, ...arrays]);
    const places = new Set(rows.map((row) => Number(row.place)));
    return keys.map((_, at) => places.has(at + 1));
  }
}
