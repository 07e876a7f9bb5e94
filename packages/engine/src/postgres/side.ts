import type { HashedRow } from "@undercoat/core/proof/difference";
import type { CellSum, SideSlice } from "@undercoat/core/proof/verdict";
import * as sql from "@undercoat/core/sql/proof";
import type { Relation } from "@undercoat/core/sql/relation";
import type { Row } from "../connection/credentials.ts";
import type { Checksums, FiguresOfSide, KeyedRow, ProofSide } from "../proof/side.ts";
import { arrayText } from "./array.ts";
import type { Session } from "./session.ts";

/** Rows of a PostgreSQL database as a side of a proof. */
export class PostgresSide implements ProofSide {
  readonly columns: readonly string[];
  readonly key: readonly string[];
  readonly ranged: boolean;

  constructor(
    private readonly session: Session,
    private readonly relation: Relation,
  ) {
    this.columns = relation.columns.map((column) => column.name);
    this.key = relation.key;
    this.ranged = sql.rangeKey(relation) !== null;
  }

  private ask(text: string): Promise<Row[]> {
    return this.session.query(text, this.relation.parameters);
  }

  figures(slices: sql.SliceChoice, cells: boolean): Promise<FiguresOfSide> {
    return this.figuresOf(this.relation, slices, cells);
  }

  cells(): Promise<FiguresOfSide> {
    return this.figuresOf({ ...this.relation, slicing: null, figures: [] }, "all", true);
  }

  private async figuresOf(relation: Relation, slices: sql.SliceChoice, cells: boolean): Promise<FiguresOfSide> {
    const text = sql.figures(relation, slices, cells);
    const rows = await this.ask(text);
    const total = rows.find((row) => row.total === "1");
    const sliced = relation.slicing ? rows.filter((row) => row.total !== "1") : rows;
    const read = (row: Row) => sliceOf(relation, row, cells);
    return {
      slices: new Map(sliced.map((row) => [row.slice ?? null, read(row)])),
      total: read(total ?? {}),
      sql: text,
    };
  }

  async span(extent: sql.Extent) {
    const [row] = await this.ask(sql.keySpan(this.relation, extent));
    return { low: row?.low ?? null, high: row?.high ?? null };
  }

  async count(extent: sql.Extent): Promise<bigint> {
    return BigInt((await this.ask(sql.rowCount(this.relation, extent)))[0]?.rows ?? "0");
  }

  async checksums(extent: sql.Extent, buckets: sql.Buckets, figures: boolean): Promise<Checksums> {
    const text = sql.bucketChecksums(this.relation, extent, buckets, figures);
    await this.session.query(sql.groupByHashing);
    const rows = await this.ask(text);
    await this.session.query(sql.groupAsPlanned);
    const total = rows.find((row) => row.total === "1");
    const all = total ? sliceOf(this.relation, total, true) : null;
    return {
      buckets: new Map(rows.filter((row) => row !== total).map((row) => [row.bucket ?? "", cellsOf(row)])),
      all: all && { slices: new Map([[null, all]]), total: all, sql: text },
    };
  }

  async hashes(extent: sql.Extent, buckets: sql.Buckets, numbers: bigint[]): Promise<HashedRow[]> {
    const rows = await this.ask(sql.bucketRows(this.relation, extent, buckets, numbers));
    const width = sql.matching(this.relation).length;
    return rows.map((row) => ({
      hash: row.hash ?? "",
      key: Array.from({ length: width }, (_, at) => row[`k${at}`] ?? null),
    }));
  }

  async rowsByKey(keys: string[][]): Promise<Map<string, KeyedRow>> {
    const rows = await this.ask(sql.rowsByKey(this.relation, keys));
    const width = sql.matching(this.relation).length;
    return new Map(
      rows.map((row) => [
        JSON.stringify(Array.from({ length: width }, (_, at) => row[`k${at}`] ?? null)),
        {
          values: this.columns.map((_, at) => row[`c${at}`] ?? null),
          hashes: this.columns.map((_, at) => row[`h${at}`] ?? ""),
        },
      ]),
    );
  }

  async present(keys: string[][]): Promise<boolean[]> {
    const width = sql.matching(this.relation).length;
    const arrays = Array.from({ length: width }, (_, at) => arrayText(keys.map((key) => key[at] ?? "")));
    const rows = await this.session.query(sql.presentKeys(this.relation), [...this.relation.parameters, ...arrays]);
    const places = new Set(rows.map((row) => Number(row.place)));
    return keys.map((_, at) => places.has(at + 1));
  }
}

const cellsOf = (row: Row): CellSum => ({ rows: row.rows ?? "0", checksum: row.checksum ?? "" });

function sliceOf(relation: Relation, row: Row, cells: boolean): SideSlice {
  return { values: relation.figures.map((_, at) => row[`f${at}`] ?? null), cells: cells ? cellsOf(row) : null };
}
