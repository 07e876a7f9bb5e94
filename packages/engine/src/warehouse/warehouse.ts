import type { Readable, Writable } from "node:stream";
import type { Dataset } from "@undercoat/core/dataset/dataset";
import type { AsOf, Between, HistoryShape, KeptHistory, Lifeline } from "@undercoat/core/history/shape";
import type { From } from "@undercoat/core/pipeline/pipeline";
import type { Standing } from "@undercoat/core/plan/periods";
import type { LoadPlan, Without } from "@undercoat/core/plan/plan";
import type { Window } from "@undercoat/core/plan/window";
import type { Example } from "@undercoat/core/run/rehearsal";
import type { RejectedChoice, RejectedList } from "@undercoat/core/run/rejected";
import type { Findings, HistoryProof, LoadProof, Tally, WithinProof } from "@undercoat/core/run/run";
import type { Analysis } from "@undercoat/core/shape/analyse";
import type { KnownColumn } from "@undercoat/core/shape/drift";
import type { TableName } from "@undercoat/core/sql/identifier";
import type { RejectedFilter } from "@undercoat/core/sql/reject";
import type { TargetChange } from "@undercoat/core/sql/target";
import type { UntoldRow } from "../load/tell.ts";
import type { ProofSide } from "../proof/side.ts";
import type { Answers, RowStream, Snapshot, Source } from "../source/source.ts";

/** Takes rows as a binary COPY stream; `rowCount` is exact once it has finished. */
export type RowSink = Writable & { rowCount: number };

/** Told of every statement before it runs, and of what it did after. */
export type Told = (message: string, sql?: string) => void;

/** Told whom a session waits for, or null when the wait is over. */
export type Waiting = (holder: string | null) => void;

/** What an apply did, before reading and rejecting are counted in. */
export type Applied = Omit<Tally, "read" | "rejected">;

/** Where a load's own records stand. */
export interface LoadPlace {
  pipeline: string;
  load: string;
  target: TableName;
  /** which of its rows are the load's own; null for all of them */
  part: string | null;
}

/** What a load knew when it last ran. */
export interface Known {
  /** the source's columns; null where it has not run yet */
  columns: KnownColumn[] | null;
  /** true where it is time to look for rows gone from the source */
  sweep: boolean;
  /** the history that the target keeps; null where it keeps none */
  history: HistoryShape | null;
}

/** What an apply would do, with examples. */
export interface Weighed extends Applied, Pick<Findings, "opened"> {
  added: Example[];
  altered: Example[];
}

/** What a warehouse can be asked, at one moment or within a load. */
export interface WarehouseSnapshot {
  /** the types of a load's expressions; throws PlanError where the warehouse does not take one */
  types(dataset: Dataset, analysis: Analysis): Promise<Record<string, string>>;
  /** Throws PlanError where the warehouse does not take one of a load's rules, or can't make one type of another. */
  admit(plan: LoadPlan): Promise<void>;
  describe(target: TableName): Promise<Dataset | null>;
  /** `every`: how long after the last look rows gone from the source are looked for again; null for at every run */
  known(place: LoadPlace, every: string | null): Promise<Known>;
  /** the stored watermark, or null where none was kept or the load read something else then */
  watermark(plan: LoadPlan): Promise<string | null>;
  /** the first and the last period of a report of which its target, as it stands, holds rows */
  standing(plan: LoadPlan, existing: Dataset | null): Promise<Standing>;
  /** the rejected rows that a proof leaves out; null where there are none */
  without(plan: LoadPlan): Promise<Without | null>;
  /** the target's rows as a side of a proof */
  side(plan: LoadPlan, without: Without | null): ProofSide;
  /** Whether each row of the target finds exactly one version of what the load looks up; null where it looks none up. */
  within(plan: LoadPlan): Promise<WithinProof | null>;
  /** What always holds of a history's versions, looked at over all of them. */
  history(plan: LoadPlan): Promise<HistoryProof>;
  /** the keys of the target's rows as a side of a proof; `existing`: its columns, where some may still be lacking */
  keys(plan: LoadPlan, without: Without | null, existing: Dataset | null): ProofSide;
  close(): Promise<void>;
}

/** What a load has committed, as the warehouse tells it. */
export interface Committed {
  tally: Tally;
  watermark: string | null;
  proof: LoadProof;
}

/** A load's session: a lock on the target, then one transaction that holds everything or nothing. */
export interface WarehouseSession extends WarehouseSnapshot {
  /** Holds the target against every other run until the session closes. */
  lock(target: TableName, waiting: Waiting): Promise<void>;
  /** This very session as the source of a load into `target`; it reads one moment once `begin` has been called. */
  inside(target: TableName, signal?: AbortSignal): Snapshot;
  /** Makes a schema where it is missing, before the load's transaction begins; an empty one stays if the load fails. */
  makeSchema(schema: string): Promise<void>;
  /** `reading`: what this session reads as a source too */
  begin(reading: From | null, waiting: Waiting): Promise<void>;
  /** What must be changed at the target before rows are written; throws LoadFailure for a target that can't take them. */
  changes(
    plan: LoadPlan,
    existing: Dataset | null,
    widened: readonly string[],
    kept: HistoryShape | null,
  ): TargetChange[];
  change(changes: readonly TargetChange[], told: Told): Promise<void>;
  /** Adds the key to a new target, once its rows are there. */
  finishTarget(plan: LoadPlan, told: Told): Promise<void>;
  /** A new target that takes rows as they come. */
  direct(plan: LoadPlan): Landing;
  /** Takes back the rows that a history's new target took as they came, where one of them can't be dated; true where it did. */
  withdraw(plan: LoadPlan): Promise<boolean>;
  /** Makes the stage; without a run's number one that only this session sees. */
  stage(plan: LoadPlan, run: number | null): Promise<Stage>;
  /** A place for the rows of a source that answers nothing, which then answers in its stead; without a run's number one that only this session sees. */
  receive(plan: LoadPlan, run: number | null): Promise<Received>;
  /** the target's rows, those marked as gone left out; `existing`: its columns, where some may still be lacking */
  targetRows(plan: LoadPlan, existing: Dataset | null): Promise<bigint>;
  /** the server's estimate of the target's rows, without reading it */
  estimatedRows(target: TableName): Promise<number>;
  /** Removes or marks the rows of some keys, as the load's policy says; how many, and the slices they were in. */
  sweep(plan: LoadPlan, keys: string[][]): Promise<{ rows: string; slices: (string | null)[] }>;
  readonly list: RejectedRows;
  record(
    plan: LoadPlan,
    run: string,
    tally: Tally,
    read: { watermark: string | null; position: string | null },
    proof: LoadProof,
    known: { columns: KnownColumn[]; swept: boolean; made: boolean },
  ): Promise<void>;
  commit(): Promise<void>;
  /** Undoes everything since begin(). */
  rollback(): Promise<void>;
}

/** Where rows arrive. */
export interface Landing {
  sink(format: RowStream["format"]): RowSink;
  /** Reads and writes without a row leaving the database; how many. */
  take(window: Window, limit: number | null): Promise<string>;
  /** rows and bytes taken so far by the running COPY, asked from beside it; null when it can't be told */
  progress(): Promise<{ rows: string; bytes: string } | null>;
}

/** The rows of a source that answers nothing of them, as they were received. */
export interface Received {
  landing: Landing;
  /** what is asked of the source is asked of these rows */
  answers: Answers;
  /** Those of a window as a stage; how many, or null where it is all of them. */
  stage(window: Window, limit: number | null): Promise<{ stage: Stage; rows: string | null }>;
  drop(): Promise<void>;
}

/** Rows as they were read. */
export interface Stage extends Landing {
  /**
   * Turns away the staged rows that don't fit a type, a rule or the key, and leaves the others as the warehouse would hold
   * them: in the target where it is new and takes all of them, else in a table of their own.
   * @throws LoadFailure when more are turned away than the load allows.
   */
  sift(read: string, intoTarget: boolean, told: Told): Promise<Sifted>;
}

/** Rows that have been checked; those that passed can be written. */
export interface Sifted extends Pick<Findings, "reasons" | "counted"> {
  rejected: string;
  accepted: string;
  /** some of the rows that were turned away, with their staged values */
  rejectedExamples(): Promise<{ reason: string; values: Record<string, string | null> }[]>;
  /** Takes rows that were read again off the list of rejected rows, writes this run's own onto it, and clears the stage of them. */
  keepRejected(run: { id: number; uid: string }, read: { whole: boolean; ids: string[] | null }): Promise<void>;
  /** Clears the stage of the rows that were turned away, which are kept nowhere. */
  discardRejected(): Promise<void>;
  /** the first accepted rows under the load's columns, as text */
  firstRows(limit: number): Promise<(string | null)[][]>;
  /** Adds rows that look new before any is matched, where nothing at the target can change or keep out one; apply() and touched() know of it. */
  addAhead(told: Told): Promise<void>;
  /** True where the target holds the key of an accepted row for a file that is none of these; the load says in which column. */
  takesFromOthers(column: string, files: string[]): Promise<boolean>;
  /** the slices that the accepted rows fall into; `all` where they are too many to tell */
  fallInto(): Promise<"all" | (string | null)[]>;
  /** the slices that the accepted rows bring news to; `all` where they are too many to tell */
  touched(): Promise<"all" | (string | null)[]>;
  /** rows that came after the watermark had passed them, and by how much at most; null where there were none */
  late(stored: string): Promise<{ rows: string; most: string } | null>;
  /** What an apply would do, without doing it. `changes`: what would be changed at the target first */
  weigh(existing: Dataset | null, changes: readonly TargetChange[], told: Told): Promise<Weighed>;
  /** Writes the accepted rows by the load's mode. `added`: columns that the target got in this very load. */
  apply(added: readonly string[], told: Told): Promise<Applied>;
  /** As `within`, of the accepted rows. */
  within(): Promise<WithinProof | null>;
  /** What the writing of a history found out; null in other modes, and where a new target took every row as it came. */
  after(): Promise<{ opened: NonNullable<Findings["opened"]>; history: HistoryProof } | null>;
  /** the statements by which an apply writes, in their order */
  steps(): TargetChange[];
  /** the target's rows that the accepted ones stand for, as a side of a proof */
  side(): Promise<ProofSide>;
  drop(): Promise<void>;
}

/** The list of rejected rows of a warehouse, within a load. */
export interface RejectedRows {
  /** What to read for rejected rows that are to be loaded again, and which they are; all open ones where `ids` is null. */
  chosen(plan: LoadPlan, ids: string[] | null): Promise<{ window: Window; ids: string[] }>;
  /** Takes every open row of a target off the list: the whole dataset has been read again. */
  closeAll(plan: LoadPlan, run: string): Promise<void>;
  /** Takes the open rows of some files off the list: they have been read again, or are gone. */
  closeFiles(plan: LoadPlan, run: string, files: string[]): Promise<void>;
  /** True where a row of another file than these was turned away because its key stands in several. */
  sharesKeys(plan: LoadPlan, files: string[]): Promise<boolean>;
  /** keys of open rows that can be asked for at the source; `name` is how the list knows each */
  keys(plan: LoadPlan): Promise<{ name: string; key: string[] }[]>;
  /** Open rows that the load's source is yet to be told of, each once, the oldest first. */
  untold(plan: LoadPlan, run: string, limit: number): Promise<UntoldRow[]>;
  countUntold(plan: LoadPlan, run: string): Promise<number>;
  /** Takes one for this run to tell; false where somebody else has. */
  claim(plan: LoadPlan, run: string, row: UntoldRow): Promise<boolean>;
  keepTold(plan: LoadPlan, row: UntoldRow, state: string, message: string | null): Promise<void>;
  /** Takes off the list the open rows of some keys, by name, that the source no longer has as they were; `contents` still stand. */
  closeGone(plan: LoadPlan, run: string, names: string[], contents: string[]): Promise<void>;
}

/** What is opened for a moment's look. */
export interface WarehouseLook {
  /** a table that no run is to be writing meanwhile */
  settled?: TableName;
  waiting?: Waiting;
  signal?: AbortSignal;
}

/** A lifeline with its runs by their uid. */
export interface KeyLifeline extends Omit<Lifeline, "runs" | "corrections"> {
  runs: Record<string, string>;
  corrections: { at: string; run: string | null }[];
}

/** One history, looked back at; each question has a session of its own. */
export interface LookBack {
  /** @param key its values as text; null where there is no such key */
  lifeline(key: readonly string[]): Promise<KeyLifeline | null>;
  /** the first rows as of a moment (ISO 8601); now where null */
  asOf(moment: string | null, limit: number): Promise<AsOf>;
  between(from: string, to: string, limit: number): Promise<Between>;
}

/** An outside system that loads write into. */
export interface Warehouse {
  /** `looking`: nothing is written, not even Undercoat's own schema */
  session(application: string, options?: { looking?: boolean; signal?: AbortSignal }): Promise<WarehouseSession>;
  snapshot(application: string, look?: WarehouseLook): Promise<WarehouseSnapshot>;
  /** true where a source is this very database, so that rows need not leave it */
  isInside(source: Source): boolean;
  /** Rejected rows, the latest first, and how many each load has for each reason. */
  rejected(filter: RejectedFilter, limit: number, offset: number): Promise<RejectedList>;
  /** the numbers of the rejected rows that are on the list, by which they can be loaded again */
  rejectedChoices(filter: RejectedFilter, most: number): Promise<RejectedChoice[]>;
  /** the rejected rows of one load as CSV, their original values as columns of their own */
  rejectedCsv(filter: RejectedFilter): Promise<Readable>;
  /** The tables that keep a history. */
  histories(): Promise<KeptHistory[]>;
  /** What those who look back ask of one; null where the table keeps none. */
  lookBack(target: string): Promise<LookBack | null>;
  /** Keeps what is known of a pipeline's loads, or of one of them, under another pipeline's name from now on. */
  readdress(from: { pipeline: string; load: string | null }, to: { pipeline: string }): Promise<void>;
  /** Takes away tallies and rejected rows that left the list longer ago than a duration (ISO 8601); how many. */
  prune(keep: string): Promise<number>;
  /**
   * Finds out for good what loads of a run have committed: one that has not can't any more.
   * @returns by load; null for one that committed nothing
   */
  settle(
    run: string,
    loads: { pipeline: string; load: string; target: string }[],
  ): Promise<Map<string, Committed | null>>;
}
