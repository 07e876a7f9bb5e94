import type { HashedRow } from "@undercoat/core/proof/difference";
import type { CellSum, SideFigures, SideSlice } from "@undercoat/core/proof/verdict";
import type { Buckets, Extent, SliceChoice } from "@undercoat/core/sql/proof";

export interface FiguresOfSide {
  slices: SideFigures;
  total: SideSlice;
  sql: string;
}

/** Checksums of some buckets' rows, and where asked for what stands for all of them. */
export interface Checksums {
  buckets: Map<string, CellSum>;
  all: FiguresOfSide | null;
}

/** A row's values as text and a hash of each, in the order of the columns compared. */
export interface KeyedRow {
  values: (string | null)[];
  hashes: string[];
}

/** What either side of a proof can compute of its rows. Both must give the same text and the same hash for the same value. */
export interface ProofSide {
  readonly columns: readonly string[];
  readonly key: readonly string[];
  /** true where the key is a single whole number, whose ranges can be split */
  readonly ranged: boolean;
  /** `cells`: also a checksum of every value */
  figures(slices: SliceChoice, cells: boolean): Promise<FiguresOfSide>;
  /** a checksum of every value of all its rows, and no figures; the total alone */
  cells(): Promise<FiguresOfSide>;
  /** least and greatest value of a single whole-number key */
  span(extent: Extent): Promise<{ low: string | null; high: string | null }>;
  count(extent: Extent): Promise<bigint>;
  /** `figures`: also those of the extent as a whole, with a checksum of every value */
  checksums(extent: Extent, buckets: Buckets, figures: boolean): Promise<Checksums>;
  hashes(extent: Extent, buckets: Buckets, numbers: bigint[]): Promise<HashedRow[]>;
  /** key as JSON → the row */
  rowsByKey(keys: string[][]): Promise<Map<string, KeyedRow>>;
  /** for each of some keys, whether there is a row of it by the database's own equality */
  present(keys: string[][]): Promise<boolean[]>;
}
