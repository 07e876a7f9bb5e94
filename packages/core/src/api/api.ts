import type { Attempt, Delivery, DeliveryKind } from "../message/delivery.ts";
import type { MailServer, Message } from "../message/message.ts";
import type { Trouble } from "../message/trouble.ts";
import type { Given, ResolvedValue } from "../parameter/resolve.ts";
import type { ConnectionSettings, Load, Pipeline } from "../pipeline/pipeline.ts";
import type { Problem } from "../pipeline/schema.ts";
import type { RowDifferences } from "../proof/difference.ts";
import type { Depth, FigurePair, SliceFigures, Verdict } from "../proof/verdict.ts";
import type { DriftNote } from "../run/drift.ts";
import type { Rehearsal } from "../run/rehearsal.ts";
import type { RejectedList } from "../run/rejected.ts";
import type {
  CellProof,
  CountProof,
  Failure,
  FileRead,
  Findings,
  HistoryProof,
  LoadProof,
  PhaseTime,
  RunKind,
  RunStatus,
  Scope,
  Tally,
  WithinProof,
} from "../run/run.ts";
import type { IntervalUnit } from "../schedule/intervals.ts";

/** What the server's API answers with; server and pages share these shapes. Times are ISO 8601 in UTC. */

export type Role = "viewer" | "editor" | "administrator";

export interface User {
  id: number;
  name: string;
  login: string;
  role: Role;
  active: boolean;
}

/** Who is signed in, and what this installation is. */
export interface Me {
  user: User | null;
  /** true while no account exists, so that the first visitor makes one */
  needsSetup: boolean;
  /** true where the demo runs, so that an hour of business can pass */
  demo: boolean;
}

export interface TokenSummary {
  id: number;
  name: string;
  /** whose it is */
  user: string;
  createdAt: string;
  lastUsedAt: string | null;
  /** null for one that lasts until it is ended */
  expiresAt: string | null;
}

export type ConnectionView = ConnectionSettings & {
  name: string;
  /** what its kind makes of it; see ConnectionKind */
  about: {
    /** its kind, as people call it */
    title: string;
    /** where it leads, and as whom */
    place: string;
    manner: string | null;
    /** true where loads can write into it */
    warehouse: boolean;
    /** true where SQL is asked of it: it has tables, and takes queries and conditions */
    asks: boolean;
    lists: "tables" | "files" | "resources" | "sets";
    /** true where files can be dropped onto its page */
    takes: boolean;
    /** how it is told of rows that were turned away; null where it can't be */
    told: "requests" | "statements" | null;
  };
  hasPassword: boolean;
  /** of one that is read in somebody's name: whether they have consented; null where nobody needs to */
  consent: "given" | "missing" | null;
  /** pipelines that read from or write into it */
  usedBy: { pipeline: string; title: string; as: "source" | "warehouse" }[];
};

/** A file, or a sheet of one, that a load has taken: as it was read last. */
export interface FileTaken extends FileRead {
  run: number;
  /** which of the load's sets read it; null where it has none */
  set: string | null;
  at: string;
}

export interface PipelineSummary {
  name: string;
  title: string;
  warehouse: string;
  loads: { name: string; table: string; mode: string; connection: string }[];
  /** when it runs, in words */
  runs: string;
  labels: string[];
  owner: string | null;
  /** true where the one who asks wants to see it first */
  favourite: boolean;
  /** what it does, in one sentence */
  sentence: string;
  nextAt: string | null;
  lastRun: RunSummary | null;
  /** how many of its loads stand so, each by its newest outcome */
  standing: { disagrees: number; failed: number; rejecting: number; proved: number };
}

export interface PipelineView {
  name: string;
  definition: Pipeline;
  /** each schedule in words, with its next times */
  schedules: { words: string; next: string[] }[];
  lastRun: RunSummary | null;
  updatedAt: string;
  savedBy: string | null;
  version: number;
  favourite: boolean;
  sentence: string;
}

/** A pipeline as it was saved at some time. */
export interface VersionView {
  number: number;
  /** null for what came by itself */
  author: string | null;
  note: string | null;
  name: string | null;
  at: string;
  /** what differs from the version before, in words; null for the first */
  changes: string | null;
}

/** What is being changed of a pipeline and not saved. */
export interface DraftView {
  mine: { origin: Pipeline; base: string; steps: Pipeline[]; at: string } | null;
  others: { user: string; at: string; steps: number }[];
}

/** An earlier interval that is loaded slice by slice. */
export interface BackfillView {
  id: number;
  pipeline: string;
  loads: string[];
  given: Given;
  from: string;
  to: string;
  by: IntervalUnit;
  order: "newest" | "oldest";
  /** so many slices at a time */
  parallel: number;
  status: "open" | "paused" | "finished" | "cancelled";
  /** why it was paused by itself */
  problem: string | null;
  requestedBy: string | null;
  createdAt: string;
  finishedAt: string | null;
  /** by the mean of those done; null while none is, or nothing is left */
  secondsLeft: number | null;
  tally: Tally;
  slices: {
    from: string;
    to: string;
    status: "waiting" | "running" | "finished" | "failed";
    run: number | null;
    startedAt: string | null;
    finishedAt: string | null;
    tally: Tally;
    verdict: Verdict | null;
    failure: Failure | null;
  }[];
}

/** Who is told of what, with what is open. */
export interface MessageView {
  name: string;
  definition: Message;
  hasSecret: boolean;
  /** what it has told of and is not over */
  troubles: (Trouble & { since: string; run: number | null })[];
  /** the latest of them */
  last: DeliveryHeading | null;
  waiting: number;
}

/** A delivery in a list. */
export interface DeliveryHeading {
  id: number;
  message: string;
  type: DeliveryKind;
  subject: string;
  status: "waiting" | "sent" | "given up";
  tries: number;
  createdAt: string;
  /** when it is tried next; null where it is not */
  nextAt: string | null;
  /** what the last attempt came to */
  error: string | null;
}

export interface DeliveryView extends DeliveryHeading {
  uid: string;
  body: Delivery;
  /** as mail tells it */
  text: string;
  attempts: Attempt[];
}

/** What the demo's mailbox and receiver of webhooks have been given, the latest first. */
export interface ArrivedView {
  mails: { at: string; from: string; to: string[]; subject: string; text: string; id: string }[];
  requests: {
    at: string;
    headers: Record<string, string>;
    body: string;
    /** whether the signature is right; null where it has none */
    signed: boolean | null;
    status: number;
  }[];
}

export interface MailServerView {
  settings: MailServer | null;
  hasPassword: boolean;
}

/** Who takes runs, and what may be used at a time. */
export interface WorkersView {
  workers: {
    name: string;
    host: string;
    pid: number;
    version: string;
    /** so many runs at a time */
    parallel: number;
    /** it takes no more */
    resting: boolean;
    /** in bytes */
    memory: string;
    startedAt: string;
    seenAt: string;
    /** it has not been heard of for longer than a lease lasts */
    lost: boolean;
    runs: {
      id: number;
      title: string;
      kind: RunKind;
      startedAt: string | null;
      loads: { load: string; phase: string | null }[];
    }[];
  }[];
  /** runs that nobody has taken yet */
  waiting: number;
  connections: { name: string; parallel: number; taken: number }[];
}

/** What runs when, over all pipelines. */
export interface SchedulesView {
  /** why no schedule starts anything; null while they do */
  paused: { reason: string; by: string; at: string } | null;
  rows: {
    pipeline: string;
    title: string;
    words: string;
    paused: boolean;
    /** the pipeline that it follows */
    after: string | null;
    /** true where a run begins only when a file has come */
    waits: boolean;
    zone: string;
    /** when it is due, where it has come due or waits */
    due: string | null;
    next: string[];
    /** all its times of the next 24 hours */
    day: string[];
    /** how long its runs took lately, by their median, in seconds */
    seconds: number | null;
  }[];
}

export interface SuggestedLoad {
  name: string;
  load: Load;
  /** why key, mode and watermark are what they are */
  why: string;
}

/** The columns of a load's source and of its target as they are. */
export interface BothColumns {
  source: { name: string; type: string; notNull: boolean }[];
  /** null where the target is not there yet */
  held: { name: string; type: string }[] | null;
}

/** A load as it would read now: its columns and real rows. */
export interface PreviewRow {
  values: Record<string, string | null>;
  /** why the row would be turned away; its values are then the source's */
  rejected: string | null;
  /** the warehouse's row of the same key; null where it has none */
  held: Record<string, string | null> | null;
}

export interface Preview {
  /** `source` is what a column takes: a source column's name, or the expression that computes it */
  columns: { name: string; source: string; computed: boolean; type: string; given: string; key: boolean }[];
  /** the source's columns that the load leaves out */
  unused: { name: string; type: string }[];
  sourceColumns: { name: string; type: string; notNull: boolean }[];
  rows: PreviewRow[];
  sql: string;
  /** what the read would start from */
  watermark: string | null;
  /** true where the source tells by itself what changed since it was read last */
  tracked: boolean;
  /** what the next run reads, and why */
  reads: string;
  /** the target's columns as they are; null where it is not there yet */
  held: { name: string; type: string }[] | null;
  /** what has changed about the source's columns since the last run */
  drift: DriftNote[];
  /** how late rows came in the last runs, within the look-back; null where none did */
  late: { runs: number; rows: string; most: string } | null;
}

export interface RunSummary {
  id: number;
  pipeline: string;
  title: string;
  kind: RunKind;
  status: RunStatus;
  reason: string;
  requestedBy: string | null;
  /** the set of values it ran with; null for the defaults */
  set: string | null;
  /** what it ran with, and how each came */
  values: Record<string, ResolvedValue>;
  /** the first of the runs that were asked for together; null where it was alone */
  heading: number | null;
  createdAt: string;
  startedAt: string | null;
  finishedAt: string | null;
  tally: Tally;
  verdict: Verdict | null;
  /** the reason it failed */
  failure: Failure | null;
}

/** Runs that were asked for together, told as one: under the first of them, with the tallies added up. */
export interface RunHeading extends RunSummary {
  /** how many stand under it, and how many of them have come to what; null for a run that was alone */
  runs: { all: number; open: number; failed: number; disagree: number } | null;
}

export interface RunLoadView {
  load: string;
  into: string;
  status: RunStatus;
  phase: string | null;
  waitingFor: string | null;
  tally: Tally;
  bytes: string;
  watermark: string | null;
  verdict: Verdict | null;
  depth: Depth | null;
  how: LoadProof["how"] | null;
  /** the rows whose every cell was compared */
  cells: CellProof | null;
  figures: FigurePair[];
  slices: { all: number; agreeing: number } | null;
  whole: boolean;
  proof: number | null;
  phases: PhaseTime[];
  failure: Failure | null;
  findings: Findings;
  /** rejected rows that the proof leaves out on both sides */
  without: string | null;
  /** why the proof could not be made */
  trouble: string | null;
  /** what a rehearsal found; null for other runs */
  rehearsal: Rehearsal | null;
  startedAt: string | null;
  finishedAt: string | null;
}

export interface RunLine {
  id: number;
  at: string;
  load: string | null;
  message: string;
  sql: string | null;
}

export interface RunView extends RunSummary {
  loads: RunLoadView[];
  scope: Scope;
  /** the values it was asked to run with */
  given: Given;
  /** the saved version that it ran; null for a draft */
  version: number | null;
  /** true where what it ran is what is saved now */
  saved: boolean;
}

export type { RejectedChoice, RejectedCount, RejectedList, RejectedRow } from "../run/rejected.ts";

/** Rejected rows of every warehouse. */
export interface RejectedView extends RejectedList {
  /** the values that runs were asked with, by run; those that ran with the defaults are left out */
  givens: Record<string, Given>;
  /** warehouses that could not be asked */
  unreached: string[];
}

export interface ProofSummary {
  id: number;
  pipeline: string;
  title: string;
  load: string;
  /** whose it is of a load that is run with several sets of values; '' for the defaults */
  line: string;
  target: string;
  at: string;
  verdict: Verdict;
  depth: Depth;
  how: LoadProof["how"];
  /** the rows whose every cell was compared; null where only figures were */
  cells: CellProof | null;
  /** what was found of a history's versions; null where a load keeps none */
  history: HistoryProof | null;
  /** whether rows find the versions that they look up; null where none is looked up */
  within: WithinProof | null;
  /** the source's own counts; null where it was not asked */
  counted: CountProof | null;
  whole: boolean;
  slices: { all: number; agreeing: number };
  figures: FigurePair[];
}

export interface ProofView extends ProofSummary {
  run: number;
  /** the values that its run was asked to run with */
  given: Given;
  /** rejected rows left out on both sides; null where none were */
  without: string | null;
  /** why the source's figures could not be computed */
  trouble: string | null;
  source: string;
  connection: string;
  warehouse: string;
  key: string[];
  by: { column: string; slice: string; zone?: string } | null;
  sliceFigures: SliceFigures[];
  rows: RowDifferences | null;
  sourceSql: string;
  warehouseSql: string;
  /** set while a repair of, or a newer proof after, this one exists */
  newest: number;
  lookBack: string | null;
  watermarkColumn: string | null;
}

export interface LedgerSlice {
  slice: string;
  /** `figures`: the figures agree; `proved`: every cell does */
  state: "loaded" | "figures" | "proved" | "disagrees" | "empty";
  /** when every cell was last compared; null where it never was */
  cellsAt: string | null;
  figures: FigurePair[];
  proof: number | null;
  /** whose it is, where a mark stands for the gravest of several lines */
  line?: string;
}

/** What one load writes with one set of values. */
export interface LedgerLine {
  pipeline: string;
  load: string;
  /** the set of values, or the place that values by hand wrote; '' for the defaults */
  line: string;
  /** the values to ask for it again; null where they were given by hand */
  given: Given | null;
  target: string;
  sliced: boolean;
  /** true where it keeps the history of its rows */
  history: boolean;
  by: string | null;
  rows: string | null;
  /** of the first figure that differs, over all slices; null while never proved */
  difference: string | null;
  loadedAt: string | null;
  provedAt: string | null;
  /** where the source's side of the latest proof comes from; null while never proved */
  how: LoadProof["how"] | null;
  loading: boolean;
  /** its latest run, where that failed */
  failed: { run: number; message: string } | null;
  /** rows that its latest load rejected, exact text */
  rejected: string;
  verdict: Verdict | null;
  slices: LedgerSlice[];
  /** for each day shown the slice that stands for it: it holds the day, or is the gravest that lies in it */
  days: (LedgerSlice | null)[];
  /** slices that disagree and lie before the days shown */
  earlierDisagreements: LedgerSlice[];
}

/** What one load writes; with several sets of values it tells of all together, the gravest of each. */
export interface LedgerTable extends LedgerLine {
  /** each of them, where there are several */
  lines: LedgerLine[];
}

export interface LedgerGroup {
  pipeline: string;
  title: string;
  schedule: string;
  /** when it was due, where that has passed and it has not begun */
  lateSince: string | null;
  tables: LedgerTable[];
}

export interface Ledger {
  /** the days shown, oldest first, `2026-11-20` */
  days: string[];
  groups: LedgerGroup[];
}

export interface Dock {
  running: {
    run: number;
    pipeline: string;
    title: string;
    kind: RunKind;
    load: string | null;
    rows: string;
    rate: number;
    waitingFor: string | null;
  }[];
  queued: number;
  next: { pipeline: string; title: string; at: string } | null;
}

export interface WarehouseTable {
  connection: string;
  schema: string;
  name: string;
  kind: string;
  rows: string | null;
  bytes: string | null;
  pipeline: string | null;
  load: string | null;
  loadedAt: string | null;
  /** what its comment in the catalogue says, as of what stands beside a history */
  comment: string | null;
  /** the pipeline that loaded it last, where none does any more */
  once: string | null;
  /** true where a load keeps its history */
  history: boolean;
}

export interface WarehouseView {
  tables: WarehouseTable[];
  /** warehouses whose tables could not be asked for */
  unreachable: { connection: string; failure: Failure }[];
}

export interface Finding {
  kind: "pipeline" | "table" | "connection" | "run" | "page";
  title: string;
  detail: string;
  to: string;
}

/** What an event stream carries. */
export type Event =
  | { kind: "run"; run: number; pipeline: string; status: RunStatus }
  | {
      kind: "progress";
      run: number;
      load: string;
      phase: string;
      rows: string;
      bytes: number;
      rate: number;
      waitingFor: string | null;
      phases: PhaseTime[];
    }
  | { kind: "line"; run: number }
  | { kind: "changed"; what: "pipelines" | "connections" | "proofs" | "users" | "messages" | "workers" };

/** An error's body, by RFC 9457. */
export interface ProblemDetails {
  type: string;
  title: string;
  status: number;
  detail?: string;
  hint?: string;
  problems?: (Problem & { line?: number; file?: string })[];
}
