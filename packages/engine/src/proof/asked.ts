import type { HashedRow } from "@undercoat/core/proof/difference";
import type { Figure } from "@undercoat/core/proof/figure";
import type { CellSum, SideSlice } from "@undercoat/core/proof/verdict";
import type { Buckets, Extent, SliceChoice } from "@undercoat/core/sql/proof";
import type { Slicing } from "@undercoat/core/sql/slice";
import type { Row } from "../connection/credentials.ts";
import type { Checksums, FiguresOfSide, KeyedRow, ProofSide } from "./side.ts";

/** What every relation has, whatever database it is of. */
interface AnyRelation {
  columns: { name: string }[];
  key: string[];
  slicing: Slicing | null;
  figures: Figure[];
}

/** The statements by which a database is asked of a relation; what their columns are called is the same for all. */
export interface SideStatements<Relation> {
  figures(relation: Relation, slices: SliceChoice, cells: boolean): string;
  keySpan(relation: Relation, extent: Extent): string;
  rowCount(relation: Relation, extent: Extent): string;
  bucketChecksums(relation: Relation, extent: Extent, buckets: Buckets, figures: boolean): string;
  bucketRows(relation: Relation, extent: Extent, buckets: Buckets, numbers: bigint[]): string;
  rowsByKey(relation: Relation, keys: string[][]): string;
  matching(relation: Relation): unknown[];
  rangeKey(relation: Relation): unknown;
}

/** Rows of a database as a side of a proof, asked by its SQL. */
export abstract class AskedSide<Relation extends AnyRelation> implements ProofSide {
  readonly columns: readonly string[];
  readonly key: readonly string[];
  readonly ranged: boolean;

  constructor(
    protected readonly relation: Relation,
    private readonly sql: SideStatements<Relation>,
  ) {
    this.columns = relation.columns.map((column) => column.name);
    this.key = relation.key;
    this.ranged = sql.rangeKey(relation) !== null;
  }

  protected abstract ask(text: string): Promise<Row[]>;
  /** as `ask`, of a statement that makes few groups out of many rows */
  protected abstract askGroups(text: string): Promise<Row[]>;
  abstract present(keys: string[][]): Promise<boolean[]>;

  figures(slices: SliceChoice, cells: boolean): Promise<FiguresOfSide> {
    return this.figuresOf(this.relation, slices, cells);
  }

  cells(): Promise<FiguresOfSide> {
    return this.figuresOf({ ...this.relation, slicing: null, figures: [] }, "all", true);
  }

  private async figuresOf(relation: Relation, slices: SliceChoice, cells: boolean): Promise<FiguresOfSide> {
    const text = this.sql.figures(relation, slices, cells);
    const rows = await this.ask(text);
    const total = rows.find((row) => row.total === "1");
    const all = total ? sliceOf(relation, total, cells) : emptySlice(relation, cells);
    const sliced = rows.filter((row) => row.total !== "1");
    const each = sliced.map((row): [string | null, SideSlice] => [row.slice ?? null, sliceOf(relation, row, cells)]);
    return { slices: new Map(relation.slicing ? each : [[null, all]]), total: all, sql: text };
  }

  async span(extent: Extent) {
    const [row] = await this.ask(this.sql.keySpan(this.relation, extent));
    return { low: row?.low ?? null, high: row?.high ?? null };
  }

  async count(extent: Extent): Promise<bigint> {
    return BigInt((await this.ask(this.sql.rowCount(this.relation, extent)))[0]?.rows ?? "0");
  }

  async checksums(extent: Extent, buckets: Buckets, figures: boolean): Promise<Checksums> {
    const text = this.sql.bucketChecksums(this.relation, extent, buckets, figures);
    const rows = await this.askGroups(text);
    const total = rows.find((row) => row.total === "1");
    const all = total ? sliceOf(this.relation, total, true) : emptySlice(this.relation, true);
    return {
      buckets: new Map(rows.filter((row) => row !== total).map((row) => [row.bucket ?? "", cellsOf(row)])),
      all: figures ? { slices: new Map([[null, all]]), total: all, sql: text } : null,
    };
  }

  async hashes(extent: Extent, buckets: Buckets, numbers: bigint[]): Promise<HashedRow[]> {
    const rows = await this.ask(this.sql.bucketRows(this.relation, extent, buckets, numbers));
    return rows.map((row) => ({ hash: row.hash ?? "", key: this.keyOf(row) }));
  }

  async rowsByKey(keys: string[][]): Promise<Map<string, KeyedRow>> {
    const rows = await this.ask(this.sql.rowsByKey(this.relation, keys));
    return new Map(
      rows.map((row) => [
        JSON.stringify(this.keyOf(row)),
        {
          values: this.columns.map((_, at) => row[`c${at}`] ?? null),
          hashes: this.columns.map((_, at) => row[`h${at}`] ?? ""),
        },
      ]),
    );
  }

  /** A row's key as it was asked for. */
  protected keyOf(row: Row): (string | null)[] {
    return this.sql.matching(this.relation).map((_, at) => row[`k${at}`] ?? null);
  }
}

const cellsOf = (row: Row): CellSum => ({ rows: row.rows ?? "0", checksum: row.checksum ?? "0" });

function sliceOf({ figures }: AnyRelation, row: Row, cells: boolean): SideSlice {
  return { values: figures.map((_, at) => row[`f${at}`] ?? null), cells: cells ? cellsOf(row) : null };
}

/** What there is to tell of no rows. */
function emptySlice({ figures }: AnyRelation, cells: boolean): SideSlice {
  const counts = figures.map(({ column, measure }) => (column === null || measure === "count" ? "0" : null));
  return { values: counts, cells: cells ? { rows: "0", checksum: "0" } : null };
}
