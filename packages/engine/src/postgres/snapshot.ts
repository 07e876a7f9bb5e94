import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { From } from "@undercoat/core/pipeline/pipeline";
import type { LoadPlan, Without } from "@undercoat/core/plan/plan";
import type { Window } from "@undercoat/core/plan/window";
import { contentsOfKeys, copyOut, highWater, keysPastWatermark, previewRows } from "@undercoat/core/sql/read";
import { keysOf, sourceRelation } from "@undercoat/core/sql/relation";
import { clock, databaseIdentity } from "@undercoat/core/sql/session";
import type { Row } from "../connection/credentials.ts";
import { isDataError, LoadFailure } from "../failure.ts";
import type { ProofSide } from "../proof/side.ts";
import type { Answers, RowStream, Snapshot } from "../source/source.ts";
import { Whole } from "../source/whole.ts";
import { describe } from "./describe.ts";
import type { Session } from "./session.ts";
import { PostgresSide } from "./side.ts";

/** A session as a source at one moment: that of a transaction which has been begun. */
export class PostgresSnapshot extends Whole implements Snapshot, Answers {
  readonly hashing = "stored";

  constructor(protected readonly session: Session) {
    super();
  }

  answers(): Answers {
    return this;
  }

  async describe(from: From): Promise<Dataset> {
    if (from.files !== undefined)
      throw new LoadFailure({
        message: `${this.session.place.name} is a database: it has no files`,
        hint: "Name a table or a query of it, or a connection to a folder of files.",
      });
    if (from.query || from.where) await this.session.guard(from.rows === "visible" ? "on" : "off");
    return describe(this.session, from);
  }

  async identity(): Promise<string | null> {
    return (await this.session.one(databaseIdentity)).identity ?? null;
  }

  async moment(): Promise<string | null> {
    return (await this.session.one(clock)).moment ?? null;
  }

  async rows(plan: LoadPlan, window: Window, limit: number | null, direct: boolean): Promise<RowStream> {
    const stream = await this.session.copyOut(copyOut(plan, window, limit, direct));
    return Object.assign(stream, { format: "binary" as const });
  }

  async highWater(plan: LoadPlan, window: Window): Promise<string | null> {
    const text = highWater(plan, window);
    return text ? ((await this.session.one(text)).value ?? null) : null;
  }

  preview(plan: LoadPlan, window: Window, limit: number): Promise<Row[]> {
    return this.session.query(previewRows(plan, window, limit));
  }

  statement(plan: LoadPlan, window: Window): string {
    return copyOut(plan, window);
  }

  side(plan: LoadPlan, without: Without | null, window?: Window): ProofSide {
    return new PostgresSide(this.session, sourceRelation(plan, without, window));
  }

  keys(plan: LoadPlan, without: Without | null): ProofSide {
    return new PostgresSide(this.session, keysOf(sourceRelation(plan, without)));
  }

  async contents(plan: LoadPlan, keys: string[][]): Promise<string[] | null> {
    await this.session.query("SAVEPOINT contents");
    try {
      return (await this.session.query(contentsOfKeys(plan, keys))).map((row) => row.content ?? "");
    } catch (error) {
      // A key that is computed may fail on a row that was rejected for it.
      if (!isDataError(error)) throw error;
      await this.session.query("ROLLBACK TO SAVEPOINT contents");
      return null;
    }
  }

  async lateness(plan: LoadPlan, keys: string[][], watermark: string) {
    const text = keysPastWatermark(plan, keys, watermark);
    if (!text) return null;
    const row = await this.session.one(text);
    return { past: row.past ?? "0", before: row.before ?? "0", late: row.late ?? null };
  }

  close(): Promise<void> {
    return this.session.close();
  }
}
