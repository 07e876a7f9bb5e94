import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { From } from "@undercoat/core/pipeline/pipeline";
import type { LoadPlan, Without } from "@undercoat/core/plan/plan";
import type { Window } from "@undercoat/core/plan/window";
import * as catalog from "@undercoat/core/sql/mariadb/catalog";
import { keysOf, sourceRelation } from "@undercoat/core/sql/mariadb/proof";
import * as read from "@undercoat/core/sql/mariadb/read";
import type { CredentialsOf, Row } from "../../connection/credentials.ts";
import type { ProofSide } from "../../proof/side.ts";
import type { Answers, RowStream, Snapshot } from "../source.ts";
import { Whole } from "../whole.ts";
import { type Described, describe } from "./describe.ts";
import type { MariaSession } from "./session.ts";
import { MariaSide } from "./side.ts";

/** A session of a MariaDB server at one moment. */
export class MariaSnapshot extends Whole implements Snapshot, Answers {
  readonly hashing = "texts";
  private described: Described | null = null;

  constructor(
    private readonly session: MariaSession,
    private readonly credentials: CredentialsOf<"mariadb">,
  ) {
    super();
  }

  async describe(from: From): Promise<Dataset> {
    const { name, settings } = this.credentials;
    this.described = await describe(this.session, from, name, settings.zeroDates ?? "reject");
    return this.described.dataset;
  }

  private get at(): Described {
    if (!this.described) throw new Error("A server is described before it is read");
    return this.described;
  }

  answers(plan: LoadPlan): Answers | null {
    return this.at.oneMoment && read.answersFor(plan, this.at.rows) ? this : null;
  }

  async identity(): Promise<string | null> {
    return (await this.session.one(catalog.identity)).identity ?? null;
  }

  async moment(): Promise<string | null> {
    return (await this.session.one(catalog.clock)).moment ?? null;
  }

  async rows(plan: LoadPlan, window: Window, limit: number | null): Promise<RowStream> {
    const stream = await this.session.lines(read.lines(plan, this.at.rows, window, limit));
    return Object.assign(stream, { format: "csv" as const });
  }

  statement(plan: LoadPlan, window: Window): string {
    return read.lines(plan, this.at.rows, window);
  }

  async highWater(plan: LoadPlan, window: Window): Promise<string | null> {
    const text = read.highWater(plan, this.at.rows, window);
    return text ? ((await this.session.one(text)).value ?? null) : null;
  }

  preview(plan: LoadPlan, window: Window, limit: number): Promise<Row[]> {
    return this.session.query(read.preview(plan, this.at.rows, window, limit));
  }

  side(plan: LoadPlan, without: Without | null, window?: Window): ProofSide {
    return new MariaSide(this.session, sourceRelation(plan, this.at.rows, without, window));
  }

  keys(plan: LoadPlan, without: Without | null): ProofSide {
    return new MariaSide(this.session, keysOf(sourceRelation(plan, this.at.rows, without)));
  }

  async contents(plan: LoadPlan, keys: string[][]): Promise<string[] | null> {
    return (await this.session.query(read.contents(plan, this.at.rows, keys))).map((row) => row.content ?? "");
  }

  async lateness(plan: LoadPlan, keys: string[][], watermark: string) {
    const text = read.lateness(plan, this.at.rows, keys, watermark);
    if (!text) return null;
    const row = await this.session.one(text);
    return { past: row.past ?? "0", before: row.before ?? "0", late: row.late ?? null };
  }

  close(): Promise<void> {
    return this.session.close();
  }
}
