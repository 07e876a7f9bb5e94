import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { LoadPlan, Without } from "@undercoat/core/plan/plan";
import type { HistoryProof } from "@undercoat/core/run/run";
import type { Analysis } from "@undercoat/core/shape/analyse";
import type { KnownColumn } from "@undercoat/core/shape/drift";
import * as house from "@undercoat/core/sql/house";
import { formatTableName, type TableName } from "@undercoat/core/sql/identifier";
import { openRejected } from "@undercoat/core/sql/reject";
import { keysOf, targetRelation } from "@undercoat/core/sql/relation";
import { ownColumns } from "@undercoat/core/sql/target";
import { LoadFailure } from "../../failure.ts";
import { admitCasts, admitRules, expressionTypes, findDataset } from "../../postgres/describe.ts";
import type { Session } from "../../postgres/session.ts";
import { PostgresSide } from "../../postgres/side.ts";
import type { ProofSide } from "../../proof/side.ts";
import type { Known, LoadPlace, WarehouseSnapshot } from "../warehouse.ts";
import { lookAtInvariants } from "./apply.ts";

/** The columns that the target is yet to get. */
export function lacking(plan: LoadPlan, existing: Dataset | null): Set<string> {
  const there = new Set(existing?.columns.map((column) => column.name));
  return new Set(
    existing
      ? [...plan.read.columns, ...ownColumns(plan)].map((column) => column.name).filter((name) => !there.has(name))
      : [],
  );
}

/** More rejected rows than this can't be left out of a proof one by one. */
const mostLeftOut = 1_000_000;

export class PostgresWarehouseSnapshot implements WarehouseSnapshot {
  /** `furnished`: Undercoat's own tables stand there, in the present version */
  constructor(
    protected readonly session: Session,
    private readonly furnished: boolean,
  ) {}

  types(dataset: Dataset, analysis: Analysis): Promise<Record<string, string>> {
    return expressionTypes(this.session, dataset, analysis);
  }

  async admit(plan: LoadPlan): Promise<void> {
    await admitCasts(this.session, plan);
    await admitRules(this.session, plan);
  }

  async known(place: LoadPlace, every: string | null): Promise<Known> {
    if (!this.furnished) return { columns: null, sweep: true };
    const row = await this.session.one(house.readKnown, [
      formatTableName(place.target),
      place.pipeline,
      place.load,
      every,
    ]);
    return { columns: row.columns ? (JSON.parse(row.columns) as KnownColumn[]) : null, sweep: row.sweep !== "f" };
  }

  describe(target: TableName): Promise<Dataset | null> {
    return findDataset(this.session, target);
  }

  async watermark(plan: LoadPlan): Promise<string | null> {
    if (!this.furnished) return null;
    const row = await this.session.one(house.readWatermark, [
      formatTableName(plan.write.target),
      plan.pipeline,
      plan.load,
    ]);
    return row.value && row.fingerprint === plan.fingerprint ? row.value : null;
  }

  async without(plan: LoadPlan): Promise<Without | null> {
    if (!this.furnished) return null;
    const open = await this.session.one(openRejected, [formatTableName(plan.write.target)]);
    if (!open.rows || open.rows === "0") return null;
    if (Number(open.rows) > mostLeftOut)
      throw new LoadFailure({
        message: `${open.rows} rejected rows of ${formatTableName(plan.write.target)} are open, too many to leave out of a proof one by one`,
        hint: "Mend the shape or the source and run the whole load again; or set a limit for rejected rows.",
      });
    return {
      contents: (open.contents ?? "{}")
        .slice(1, -1)
        .split(",")
        .filter((content) => content && content !== "NULL"),
      duplicates: open.duplicates === "t",
      rows: open.rows,
    };
  }

  side(plan: LoadPlan, without: Without | null): ProofSide {
    return new PostgresSide(this.session, targetRelation(plan, without));
  }

  history(plan: LoadPlan): Promise<HistoryProof> {
    return lookAtInvariants(this.session, plan, null);
  }

  keys(plan: LoadPlan, without: Without | null, existing: Dataset | null): ProofSide {
    return new PostgresSide(this.session, keysOf(targetRelation(plan, without, null, lacking(plan, existing))));
  }

  close(): Promise<void> {
    return this.session.close();
  }
}
