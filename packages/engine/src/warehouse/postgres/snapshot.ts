import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { HistoryShape } from "@undercoat/core/history/shape";
import { periodSlices, type Standing } from "@undercoat/core/plan/periods";
import type { LoadPlan, Without } from "@undercoat/core/plan/plan";
import type { HistoryProof, LoadProof, WithinProof } from "@undercoat/core/run/run";
import type { Analysis } from "@undercoat/core/shape/analyse";
import type { KnownColumn } from "@undercoat/core/shape/drift";
import * as house from "@undercoat/core/sql/house";
import { formatTableName, type TableName } from "@undercoat/core/sql/identifier";
import { openRejected } from "@undercoat/core/sql/reject";
import { keysOf, relationAsOf, targetRelation } from "@undercoat/core/sql/relation";
import { ownColumns, standingPeriods } from "@undercoat/core/sql/target";
import { LoadFailure } from "../../failure.ts";
import { arrayText } from "../../postgres/array.ts";
import { admitCasts, admitRules, expressionTypes, findDataset } from "../../postgres/describe.ts";
import type { Session } from "../../postgres/session.ts";
import { PostgresSide } from "../../postgres/side.ts";
import type { ProofSide } from "../../proof/side.ts";
import type { Known, LoadPlace, WarehouseSnapshot } from "../warehouse.ts";
import { lookAtInvariants } from "./apply.ts";
import { lookWithin } from "./within.ts";

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
    if (!this.furnished) return { columns: null, sweep: true, history: null };
    const row = await this.session.one(house.readKnown, [
      house.placeName({ write: { target: place.target, part: place.part === null ? null : { text: place.part } } }),
      place.pipeline,
      place.load,
      every,
      formatTableName(place.target),
    ]);
    return {
      columns: row.columns ? (JSON.parse(row.columns) as KnownColumn[]) : null,
      sweep: row.sweep !== "f",
      history: row.shape ? (JSON.parse(row.shape) as HistoryShape) : null,
    };
  }

  describe(target: TableName): Promise<Dataset | null> {
    return findDataset(this.session, target);
  }

  async watermark(plan: LoadPlan): Promise<string | null> {
    if (!this.furnished) return null;
    const row = await this.session.one(house.readWatermark, [house.placeName(plan), plan.pipeline, plan.load]);
    return row.value && row.fingerprint === plan.fingerprint ? row.value : null;
  }

  async standing(plan: LoadPlan, existing: Dataset | null): Promise<Standing> {
    if (!existing?.columns.some(({ name }) => name === plan.write.span?.column)) return null;
    const { first, last } = await this.session.one(standingPeriods(plan));
    return first && last ? { first, last } : null;
  }

  async without(plan: LoadPlan): Promise<Without | null> {
    if (!this.furnished) return null;
    // Of a report those of the periods that it is asked for.
    const parts = plan.write.span ? arrayText(periodSlices(plan)) : null;
    const open = await this.session.one(openRejected, [house.placeName(plan), parts]);
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

  within(plan: LoadPlan): Promise<WithinProof | null> {
    return lookWithin(this.session, plan, null);
  }

  async history(plan: LoadPlan): Promise<HistoryProof> {
    const found = await lookAtInvariants(this.session, plan, null);
    const earlier = await this.earlier(plan);
    return earlier ? { ...found, earlier } : found;
  }

  /**
   * The figures of the oldest whole proof, as the table gives them as of its moment: what has been proved of the past must
   * stay so. A source that dates its rows may change its past, and what is overwritten was never meant to stay.
   */
  private async earlier(plan: LoadPlan): Promise<HistoryProof["earlier"] | null> {
    if (plan.write.history?.since !== null) return null;
    const [row] = await this.session.query(house.oldestProof, [house.placeName(plan)]);
    if (!row?.moment) return null;
    const proof = JSON.parse(row.proof ?? "null") as LoadProof;
    const lasting = plan.prove.figures.filter(
      ({ column }) =>
        column === null || plan.write.key.includes(column) || plan.write.history?.roles.get(column) === "version",
    );
    const then = new Map(proof.figures.map((pair) => [pair.figure, pair.warehouse]));
    const figures = lasting.filter((figure) => then.has(figure.name));
    if (figures.length === 0) return null;
    const relation = { ...relationAsOf(plan, row.moment), slicing: null, figures };
    const { total, slices } = await new PostgresSide(this.session, relation).figures("all", false);
    const values = slices.get(null)?.values ?? total.values;
    return {
      moment: row.moment,
      figures: figures.map(({ name }, at) => ({ figure: name, was: then.get(name) ?? null, is: values[at] ?? null })),
    };
  }

  keys(plan: LoadPlan, without: Without | null, existing: Dataset | null): ProofSide {
    return new PostgresSide(this.session, keysOf(targetRelation(plan, without, null, lacking(plan, existing))));
  }

  close(): Promise<void> {
    return this.session.close();
  }
}
