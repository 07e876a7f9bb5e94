import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import type { HashedRow } from "@undercoat/core/proof/difference";
import type { SideFigures } from "@undercoat/core/proof/verdict";
import type { Analysis } from "@undercoat/core/shape/analyse";
import * as sql from "@undercoat/core/sql/proof";
import type { Session } from "../session.ts";
import { admitRules, expressionTypes } from "../source/postgres/describe.ts";

export interface FiguresOfSide {
  slices: SideFigures;
  total: (string | null)[];
  sql: string;
}

export interface BucketSum {
  rows: string;
  checksum: string;
}

/** What either side of a proof can compute, and what it needs to know before it does. Both must give the same text for the same value. */
export interface ProofSide {
  /** the types of a load's expressions; throws PlanError where PostgreSQL does not take one */
  types(dataset: Dataset, analysis: Analysis): Promise<Record<string, string>>;
  /** Throws PlanError where PostgreSQL does not take one of a load's rules. */
  admitRules(plan: LoadPlan): Promise<void>;
  figures(plan: LoadPlan, slices: sql.SliceChoice): Promise<FiguresOfSide>;
  /** least and greatest value of a single whole-number key */
  span(plan: LoadPlan, extent: sql.Extent): Promise<{ low: string | null; high: string | null }>;
  count(plan: LoadPlan, extent: sql.Extent): Promise<bigint>;
  checksums(plan: LoadPlan, extent: sql.Extent, buckets: sql.Buckets): Promise<Map<string, BucketSum>>;
  hashes(plan: LoadPlan, extent: sql.Extent, buckets: sql.Buckets, numbers: bigint[]): Promise<HashedRow[]>;
  /** key as JSON → each column's text and hash */
  rowsByKey(plan: LoadPlan, keys: string[][]): Promise<Map<string, { values: (string | null)[]; hashes: string[] }>>;
  /** how source rows lie to a watermark; null where the load has none */
  lateness(plan: LoadPlan, keys: string[][], watermark: string): Promise<{ past: string; before: string; late: string | null } | null>;
}

/** A PostgreSQL session as a side of a proof. */
export class PostgresSide implements ProofSide {
  constructor(
    protected readonly session: Session,
    private readonly side: sql.Side,
  ) {}

  types(dataset: Dataset, analysis: Analysis): Promise<Record<string, string>> {
    return expressionTypes(this.session, dataset, analysis);
  }

  admitRules(plan: LoadPlan): Promise<void> {
    return admitRules(this.session, plan);
  }

  async figures(plan: LoadPlan, slices: sql.SliceChoice): Promise<FiguresOfSide> {
    const text = sql.figures(plan, this.side, slices);
    const rows = await this.session.query(text);
    const values = (row: Record<string, string | null>) => plan.figures.map((_, at) => row[`f${at}`] ?? null);
    const total = rows.find((row) => row.total === "1");
    const sliced = plan.by ? rows.filter((row) => row.total !== "1") : rows;
    return { slices: new Map(sliced.map((row) => [row.slice ?? null, values(row)])), total: total ? values(total) : [], sql: text };
  }

  async span(plan: LoadPlan, extent: sql.Extent) {
    const row = await this.session.one(sql.keySpan(plan, this.side, extent));
    return { low: row.low ?? null, high: row.high ?? null };
  }

  async count(plan: LoadPlan, extent: sql.Extent): Promise<bigint> {
    return BigInt((await this.session.one(sql.rowCount(plan, this.side, extent))).rows ?? "0");
  }

  async checksums(plan: LoadPlan, extent: sql.Extent, buckets: sql.Buckets) {
    await this.session.query(sql.groupByHashing);
    const rows = await this.session.query(sql.bucketChecksums(plan, this.side, extent, buckets));
    return new Map(rows.map((row) => [row.bucket ?? "", { rows: row.rows ?? "0", checksum: row.checksum ?? "" }]));
  }

  async hashes(plan: LoadPlan, extent: sql.Extent, buckets: sql.Buckets, numbers: bigint[]): Promise<HashedRow[]> {
    const rows = await this.session.query(sql.bucketRows(plan, this.side, extent, buckets, numbers));
    const width = plan.key.length || plan.read.columns.length;
    return rows.map((row) => ({ hash: row.hash ?? "", key: Array.from({ length: width }, (_, at) => row[`k${at}`] ?? null) }));
  }

  async rowsByKey(plan: LoadPlan, keys: string[][]) {
    const rows = await this.session.query(sql.rowsByKey(plan, this.side, keys));
    const names = plan.read.columns.map((column) => column.name);
    return new Map(
      rows.map((row) => {
        const values = names.map((_, at) => row[`c${at}`] ?? null);
        const key = plan.key.map((name) => values[names.indexOf(name)] ?? null);
        return [JSON.stringify(key), { values, hashes: names.map((_, at) => row[`h${at}`] ?? "") }];
      }),
    );
  }

  async lateness(plan: LoadPlan, keys: string[][], watermark: string) {
    const text = sql.keysPastWatermark(plan, keys, watermark);
    if (!text) return null;
    const row = await this.session.one(text);
    return { past: row.past ?? "0", before: row.before ?? "0", late: row.late ?? null };
  }
}
