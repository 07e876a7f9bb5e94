import type { Readable } from "node:stream";
import type {
  Dataset,
  DatasetSummary,
  Glance,
  Proposal,
  Scan,
  ScanProgress,
  TimeColumn,
} from "@undercoat/core/dataset/dataset";
import type { ApiSignIn } from "@undercoat/core/http/openapi";
import type { From } from "@undercoat/core/pipeline/pipeline";
import type { LoadPlan, Without } from "@undercoat/core/plan/plan";
import type { Window } from "@undercoat/core/plan/window";
import type { Asked, FileRead } from "@undercoat/core/run/run";
import type { Hashing } from "@undercoat/core/sql/hash";
import type { TableName } from "@undercoat/core/sql/identifier";
import type { CheckStep } from "../connection/check.ts";
import type { Row } from "../connection/credentials.ts";
import type { Teller } from "../mark/teller.ts";
import type { ProofSide } from "../proof/side.ts";

/**
 * Rows as a byte stream in a COPY format of PostgreSQL's: binary, or csv without a head, where every value is quoted and a null
 * is nothing. `counted` is how many the source says it sent, told after the last.
 */
export type RowStream = Readable & { format: "binary" | "csv"; counted: Promise<number> };

/** One unchanging moment of a source: rows, watermark and figures read through it belong together. */
export interface Snapshot {
  /** who answers for a load's rows at this moment: the source itself; null where what was received of it must */
  answers(plan: LoadPlan): Answers | null;
  describe(from: From): Promise<Dataset>;
  /** which database this is; a watermark taken from another one does not count. Null where the source can't tell */
  identity(): Promise<string | null>;
  /** the moment of what is read, by the source's own clock, as text with its offset; null where it can't tell */
  moment(): Promise<string | null>;
  /** `limit`: only so many rows, the latest by watermark; `direct`: as a new target takes them */
  rows(plan: LoadPlan, window: Window, limit: number | null, direct: boolean): Promise<RowStream>;
  /** the statement by which a window is read, for people */
  statement(plan: LoadPlan, window: Window): string;
  /**
   * Where reading stands once all has been read, in words that only the source understands: what each of its parts was then.
   * Null where a watermark tells, or nothing. `before`: the position kept from the last time
   */
  position(before: string | null, plan: LoadPlan): Promise<string | null>;
  /** Takes in what it tells of changes since a position, where it tells that by itself: they are then what a window of them reads. False where all must be read. */
  tracks?(plan: LoadPlan, since: string): Promise<boolean>;
  /** Which of its parts, such as files, are not as they were at a position, and which are gone. */
  news(since: string): Promise<News>;
  /** The keys of what it lists as deleted, in the order of the load's key, where it lists that; for a window past a watermark. */
  gone?(plan: LoadPlan, window: Window): Promise<string[][]>;
  /** How many rows it has now by its own word, in all and in those of some slices that it can tell; null where it does not count. */
  counts?(plan: LoadPlan, slices: readonly (string | null)[]): Promise<OwnCounts | null>;
  /** Its parts, such as files, as they have been read so far; none where it has none. */
  parts(): FileRead[];
  /** when reading began, ISO 8601, of a source that has no one moment: what changed since may not be among the rows. Told once they have come */
  began?(): string | null;
  /** What was asked of an application so far; null where nothing is asked request by request. */
  asked?(): Asked | null;
  /** The load has committed: what was read is dealt with as it says. Never fails it; sentences that tell what was done. */
  finish(from: From): Promise<string[]>;
  close(): Promise<void>;
}

/** How many rows a source itself counts, exact text. */
export interface OwnCounts {
  total: string;
  slices: Map<string | null, string>;
  /** true where something has changed there since it was read */
  moved(): Promise<boolean>;
}

/** Parts of a source by name, such as files. */
export interface News {
  changed: string[];
  gone: string[];
  /** how many there are in all */
  all: number;
}

/** What is asked of a source's rows at one moment. */
export interface Answers {
  /** how it hashes rows; whom its side is compared with must do so alike */
  readonly hashing: Hashing;
  /** the highest watermark of a window's rows as text; null where there is none */
  highWater(plan: LoadPlan, window: Window): Promise<string | null>;
  /** the first rows under the warehouse's names, as text */
  preview(plan: LoadPlan, window: Window, limit: number): Promise<Row[]>;
  /** its rows as a side of a proof, of a window or all, less rejected ones */
  side(plan: LoadPlan, without: Without | null, window?: Window): ProofSide;
  /** the keys of its rows, less rejected ones, as a side of a proof */
  keys(plan: LoadPlan, without: Without | null): ProofSide;
  /** hashes of the rows that have some keys, to tell which rejected rows still stand; null where that can't be asked */
  contents(plan: LoadPlan, keys: string[][]): Promise<string[] | null>;
  /** how rows of some keys lie to a watermark; null where the load has none */
  lateness(
    plan: LoadPlan,
    keys: string[][],
    watermark: string,
  ): Promise<{ past: string; before: string; late: string | null } | null>;
}

/** For what a snapshot is taken. */
export interface SnapshotOptions {
  /** what is read: it is kept from being emptied or rewritten before the moment is taken */
  from?: From;
  /** the moment is not taken before this has come about */
  after?: Promise<unknown>;
  /** told whom the snapshot waits for, or null when the wait is over */
  waiting?: (holder: string | null) => void;
  signal?: AbortSignal;
  /** told what people should know of how the rows come */
  note?: (words: string) => void;
  /** true where what was read before a load was cut is read on from */
  goesOn?: boolean;
}

/** An outside system that datasets are read from. A kind is a folder with one of these, and a line in the registry. */
export interface Source {
  /** Tells each step as it ends; true when all passed. `asWarehouse` asks for the right to write too. */
  check(asWarehouse: boolean, tell: (step: CheckStep) => void): Promise<boolean>;
  datasets(): Promise<DatasetSummary[]>;
  dataset(table: TableName): Promise<Dataset>;
  firstRows(table: TableName, limit: number): Promise<Row[]>;
  timeColumns(table: TableName): Promise<TimeColumn[]>;
  /** The parts that a load would read, as a text that is another once one comes or changes; null where a kind has none. */
  arrivals(from: From): Promise<string | null>;
  /** The beginning of what a load names as it stands, beside what becomes of it, where a kind has such. */
  glance?(from: From): Promise<Glance>;
  /** How it says itself that it is to be signed in to, where a kind has such a description; asked without signing in. */
  signIn?(): Promise<{ title: string; ways: ApiSignIn[] }>;
  /** What is read of a thing that it lists, as far as it tells how: where records stand, how pages follow each other. */
  completed?(from: From): Promise<From>;
  /** Looks at an answer for where its records are and how pages follow each other, and tries it by reading two. */
  propose?(from: From, signal: AbortSignal): Promise<Proposal>;
  /** Reads all of what a load names, for the types that every value fits, where a kind's rows come as texts. */
  scan?(from: From, tell: (progress: ScanProgress) => void, signal: AbortSignal): Promise<Scan>;
  /**
   * Takes a file as it comes, where a kind does: it lies there whole or not at all.
   * @throws LoadFailure for a name that leads elsewhere, one that is there, or more bytes than are taken
   */
  receive?(
    file: string,
    bytes: Readable,
    how: { most: number; replace: boolean; signal: AbortSignal },
  ): Promise<{ bytes: number }>;
  /** Who tells it of rows that were turned away, where a kind can be told. @throws LoadFailure where it can't be reached */
  teller?(signal: AbortSignal): Promise<Teller>;
  snapshot(application: string, options?: SnapshotOptions): Promise<Snapshot>;
}
