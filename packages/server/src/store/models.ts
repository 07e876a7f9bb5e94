import type { Role } from "@undercoat/core/api/api";
import type { Attempt, Delivery } from "@undercoat/core/message/delivery";
import type { Message } from "@undercoat/core/message/message";
import type { TroubleKind } from "@undercoat/core/message/trouble";
import type { Given, ResolvedValue } from "@undercoat/core/parameter/resolve";
import type { ConnectionSettings, Pipeline } from "@undercoat/core/pipeline/pipeline";
import type { RowDifferences } from "@undercoat/core/proof/difference";
import type { Depth, FigurePair, SliceFigures, Verdict } from "@undercoat/core/proof/verdict";
import type { Rehearsal } from "@undercoat/core/run/rehearsal";
import type {
  CellProof,
  CountProof,
  Failure,
  Findings,
  HistoryProof,
  LoadProof,
  PhaseTime,
  RunKind,
  RunStatus,
  Scope,
  Tally,
  WithinProof,
} from "@undercoat/core/run/run";
import type { IntervalUnit } from "@undercoat/core/schedule/intervals";
import {
  type CreationOptional,
  DataTypes,
  type InferAttributes,
  type InferCreationAttributes,
  Model,
  type ModelAttributes,
  type ModelStatic,
  type Sequelize,
} from "sequelize";

abstract class StoredRow<M extends Model> extends Model<InferAttributes<M>, InferCreationAttributes<M>> {}

export class UserRow extends StoredRow<UserRow> {
  declare id: CreationOptional<number>;
  declare login: string;
  declare name: string;
  declare role: Role;
  declare password: string | null;
  declare active: CreationOptional<boolean>;
}

/** Anything that signs somebody in: a browser's session, a command line's token, a link that works once; or the link that makes the first account, whose user is null. */
export class PassRow extends StoredRow<PassRow> {
  declare id: CreationOptional<number>;
  declare kind: "session" | "token" | "link" | "setup";
  declare hash: string;
  declare userId: number | null;
  declare name: string | null;
  declare createdAt: CreationOptional<Date>;
  declare lastUsedAt: Date | null;
  declare expiresAt: Date | null;
}

export class ConnectionRow extends StoredRow<ConnectionRow> {
  declare name: string;
  declare settings: ConnectionSettings;
  /** the sealed password, or null where none was given */
  declare secret: string | null;
  /** the sealed refresh token of somebody's consent; null where nobody has consented */
  declare consent: CreationOptional<string | null>;
}

/** Consent that somebody has been sent to give, until they come back. */
export class ConsentRow extends StoredRow<ConsentRow> {
  /** the SHA-256 of what is sent along and must come back */
  declare state: string;
  declare connection: string;
  declare userId: number;
  /** the sealed verifier of PKCE */
  declare verifier: string;
  declare redirect: string;
  declare expiresAt: Date;
}

export class PipelineRow extends StoredRow<PipelineRow> {
  declare name: string;
  declare title: string;
  declare definition: Pipeline;
  declare nextAt: Date | null;
  /** who saved it last; null for what came by itself */
  declare savedBy: string | null;
  /** the number of the version that is saved */
  declare version: CreationOptional<number>;
  declare updatedAt: CreationOptional<Date>;
}

/** A pipeline as it was saved at some time. */
export class VersionRow extends StoredRow<VersionRow> {
  declare pipeline: string;
  declare number: number;
  declare definition: Pipeline;
  /** null for what came by itself */
  declare author: string | null;
  /** what the change was for */
  declare note: string | null;
  /** what somebody calls it */
  declare name: CreationOptional<string | null>;
  /** the modules that it reads by, by their files, as they were then; null where there are none */
  declare modules: CreationOptional<Record<string, string> | null>;
  declare at: Date;
}

/** What somebody is changing and has not saved. */
export class DraftRow extends StoredRow<DraftRow> {
  declare pipeline: string;
  declare userId: number;
  /** what was saved when the first step was taken, and when it had been */
  declare origin: Pipeline;
  declare base: Date;
  declare steps: Pipeline[];
  declare at: Date;
}

/** One schedule of a pipeline: when it is next due, and how often it has started something. */
export class TimerRow extends StoredRow<TimerRow> {
  declare pipeline: string;
  /** what tells it from the pipeline's others */
  declare schedule: string;
  /** the pipeline whose end it follows, and whether that must have been proved */
  declare after: string | null;
  declare proved: boolean;
  /** pipelines that it does not run at the same time as */
  declare apart: string[] | null;
  declare nextAt: Date | null;
  declare begun: number;
  /** of one that waits for files: those it has started something for, and those there were at its last look */
  declare seen: { started: string; last: string } | null;
}

/** An earlier interval that is loaded slice by slice. */
export class BackfillRow extends StoredRow<BackfillRow> {
  declare id: CreationOptional<number>;
  declare pipeline: string;
  declare loads: string[];
  declare given: Given;
  declare from: string;
  declare to: string;
  declare by: IntervalUnit;
  declare order: "newest" | "oldest";
  declare parallel: number;
  declare status: "open" | "paused" | "finished" | "cancelled";
  /** why it was paused by itself */
  declare problem: CreationOptional<string | null>;
  declare requestedBy: string | null;
  declare createdAt: Date;
  declare finishedAt: CreationOptional<Date | null>;
}

export class BackfillSliceRow extends StoredRow<BackfillSliceRow> {
  declare backfillId: number;
  declare from: string;
  declare to: string;
  declare status: "waiting" | "running" | "finished" | "failed";
  declare runId: CreationOptional<number | null>;
}

/** Who is told of what; its secret is sealed. */
export class MessageRow extends StoredRow<MessageRow> {
  declare name: string;
  declare definition: Message;
  declare secret: CreationOptional<string | null>;
}

/** Something wrong that a message has told of and that is not over. */
export class TroubleRow extends StoredRow<TroubleRow> {
  declare message: string;
  declare pipeline: string;
  declare load: string;
  declare line: string;
  declare kind: TroubleKind;
  declare says: string;
  declare since: Date;
  declare runId: number | null;
}

/** Something to tell, until it has been taken or given up, and what was tried. */
export class DeliveryRow extends StoredRow<DeliveryRow> {
  declare id: CreationOptional<number>;
  /** the same in every attempt, so that a receiver knows it again */
  declare uid: CreationOptional<string>;
  declare message: string;
  declare pipeline: string;
  declare body: Delivery;
  declare status: "waiting" | "sent" | "given up";
  /** the latest last */
  declare attempts: Attempt[];
  declare tries: number;
  declare createdAt: Date;
  declare nextAt: Date | null;
}

/** A process that takes runs, and what is wanted of it. */
export class WorkerRow extends StoredRow<WorkerRow> {
  declare name: string;
  declare parallel: number;
  /** it is to take no more */
  declare resting: boolean;
  declare seenAt: Date;
}

/** Something about the whole installation, by name. */
export class FactRow extends StoredRow<FactRow> {
  declare name: string;
  declare value: unknown;
}

/** A pipeline that somebody wants to see first. */
export class FavouriteRow extends StoredRow<FavouriteRow> {
  declare userId: number;
  declare pipeline: string;
}

export class RunRow extends StoredRow<RunRow> {
  declare id: CreationOptional<number>;
  declare uid: CreationOptional<string>;
  declare pipeline: string;
  declare title: string;
  declare definition: Pipeline;
  declare kind: RunKind;
  declare status: RunStatus;
  declare reason: string;
  declare scope: Scope;
  /** a proof's wish for the very rows */
  declare wantsRows: CreationOptional<boolean>;
  /** a rehearsal looks at so many rows of each load only */
  declare rowLimit: number | null;
  /** the values it was asked to run with, and what they came to */
  declare given: CreationOptional<Given>;
  declare values: CreationOptional<Record<string, ResolvedValue>>;
  /** the first of the runs that were asked for together; null where it was alone */
  declare heading: CreationOptional<number | null>;
  /** the saved version that it ran; null for a draft */
  declare version: CreationOptional<number | null>;
  /** the schedule that started it, as its timer names it */
  declare schedule: CreationOptional<string | null>;
  /** the backfill that it is a slice of */
  declare backfill: CreationOptional<number | null>;
  declare requestedBy: string | null;
  declare worker: string | null;
  /** the fence: what the present holder of the run shows */
  declare token: string | null;
  declare leaseUntil: Date | null;
  /** how often the warehouse has been asked in vain whether it committed */
  declare asked: CreationOptional<number>;
  declare cancelAskedAt: Date | null;
  declare cancelledBy: string | null;
  declare createdAt: CreationOptional<Date>;
  declare startedAt: Date | null;
  declare finishedAt: Date | null;
  declare failure: Failure | null;
}

export class RunLoadRow extends StoredRow<RunLoadRow> {
  declare id: CreationOptional<number>;
  declare runId: number;
  declare load: string;
  declare target: string;
  /** under which line the ledger keeps what it wrote; '' for a pipeline's defaults */
  declare line: CreationOptional<string>;
  declare status: RunStatus;
  declare phase: string | null;
  declare waitingFor: string | null;
  declare tally: Tally;
  declare bytes: CreationOptional<string>;
  declare watermark: string | null;
  declare proofId: number | null;
  declare phases: PhaseTime[];
  declare failure: Failure | null;
  declare findings: Findings | null;
  declare rehearsal: Rehearsal | null;
  declare startedAt: Date | null;
  declare finishedAt: Date | null;
}

export class RunLineRow extends StoredRow<RunLineRow> {
  declare id: CreationOptional<number>;
  declare runId: number;
  declare load: string | null;
  declare at: Date;
  declare message: string;
  declare sql: string | null;
}

export class ProofRow extends StoredRow<ProofRow> {
  declare id: CreationOptional<number>;
  declare runId: number;
  declare pipeline: string;
  declare load: string;
  declare line: CreationOptional<string>;
  declare target: string;
  declare at: Date;
  declare verdict: Verdict;
  declare depth: Depth;
  declare how: LoadProof["how"];
  declare cells: CellProof | null;
  declare history: HistoryProof | null;
  declare within: WithinProof | null;
  declare counted: CountProof | null;
  declare whole: boolean;
  declare sliceCount: number;
  declare agreeing: number;
  declare figures: FigurePair[];
  declare slices: SliceFigures[];
  declare rows: RowDifferences | null;
  declare without: string | null;
  declare trouble: string | null;
  declare sourceSql: string;
  declare warehouseSql: string;
}

/** How one load stands now: how its latest run ended, and its latest proofs. */
export class StandingRow extends StoredRow<StandingRow> {
  declare pipeline: string;
  declare load: string;
  declare line: CreationOptional<string>;
  declare runId: number | null;
  declare status: RunStatus | null;
  declare failure: Failure | null;
  declare endedAt: Date | null;
  /** when it last wrote */
  declare loadedAt: Date | null;
  /** rows that its latest run rejected, exact text */
  declare rejected: CreationOptional<string>;
  declare proofId: number | null;
  declare proofRunId: number | null;
  /** the latest proof of all of it */
  declare wholeId: number | null;
  declare wholeRunId: number | null;
}

/** A warehouse table that a load has written, and which did last; also of pipelines that are gone. */
export class TargetRow extends StoredRow<TargetRow> {
  declare connection: string;
  declare target: string;
  declare title: string;
  declare loadedAt: Date;
}

/** The latest known state of one slice of one load; the ledger's mark. `slice` is '' for a whole table or rows without a date. */
export class SliceRow extends StoredRow<SliceRow> {
  declare pipeline: string;
  declare load: string;
  declare line: CreationOptional<string>;
  declare slice: string;
  declare verdict: Verdict;
  declare figures: FigurePair[];
  declare proofId: number;
  declare provedAt: Date;
  /** `cells` where every cell has been compared and no run has changed the slice since */
  declare depth: Depth;
  /** when every cell was last compared */
  declare cellsAt: Date | null;
}

const text = { type: DataTypes.TEXT, allowNull: false };
const optionalText = { type: DataTypes.TEXT, allowNull: true };
const time = { type: DataTypes.DATE, allowNull: true };
const json = { type: DataTypes.JSON, allowNull: false };
const optionalJson = { type: DataTypes.JSON, allowNull: true };
const serial = { type: DataTypes.INTEGER, primaryKey: true, autoIncrement: true };
const number = { type: DataTypes.INTEGER, allowNull: false };
const optionalNumber = { type: DataTypes.INTEGER, allowNull: true };
const line = { ...text, defaultValue: "" };
const flag = { type: DataTypes.BOOLEAN, allowNull: false };

/** Binds the models to a database. Tables are made by the migrations, never from here. */
export function bindModels(sequelize: Sequelize): void {
  // Sequelize writes into the objects it is given, so each attribute gets its own.
  const own = <A extends object>(attributes: A): A =>
    Object.fromEntries(Object.entries(attributes).map(([name, attribute]) => [name, { ...attribute }])) as A;
  const bind = <M extends Model>(
    model: ModelStatic<M>,
    tableName: string,
    attributes: ModelAttributes<M, M["_attributes"]>,
  ) => model.init(own(attributes), { sequelize, tableName, underscored: true, timestamps: false });
  bind<UserRow>(UserRow, "users", {
    id: serial,
    login: text,
    name: text,
    role: text,
    password: optionalText,
    active: flag,
  });
  bind<PassRow>(PassRow, "passes", {
    id: serial,
    kind: text,
    hash: text,
    userId: optionalNumber,
    name: optionalText,
    createdAt: time,
    lastUsedAt: time,
    expiresAt: time,
  });
  bind<ConnectionRow>(ConnectionRow, "connections", {
    name: { ...text, primaryKey: true },
    settings: json,
    secret: optionalText,
    consent: optionalText,
  });
  bind<ConsentRow>(ConsentRow, "consents", {
    state: { ...text, primaryKey: true },
    connection: text,
    userId: number,
    verifier: text,
    redirect: text,
    expiresAt: { ...time, allowNull: false },
  });
  bind<PipelineRow>(PipelineRow, "pipelines", {
    name: { ...text, primaryKey: true },
    title: text,
    definition: json,
    nextAt: time,
    savedBy: optionalText,
    version: { ...number, defaultValue: 1 },
    updatedAt: time,
  });
  const first = { primaryKey: true };
  bind<VersionRow>(VersionRow, "versions", {
    pipeline: { ...text, ...first },
    number: { ...number, ...first },
    definition: json,
    author: optionalText,
    note: optionalText,
    name: optionalText,
    modules: optionalJson,
    at: time,
  });
  bind<DraftRow>(DraftRow, "drafts", {
    pipeline: { ...text, ...first },
    userId: { ...number, ...first },
    origin: json,
    base: time,
    steps: json,
    at: time,
  });
  bind<TimerRow>(TimerRow, "timers", {
    pipeline: { ...text, ...first },
    schedule: { ...text, ...first },
    after: optionalText,
    proved: flag,
    apart: optionalJson,
    nextAt: time,
    begun: number,
    seen: optionalJson,
  });
  bind<BackfillRow>(BackfillRow, "backfills", {
    id: serial,
    pipeline: text,
    loads: json,
    given: json,
    from: text,
    to: text,
    by: text,
    order: text,
    parallel: number,
    status: text,
    problem: optionalText,
    requestedBy: optionalText,
    createdAt: time,
    finishedAt: time,
  });
  bind<BackfillSliceRow>(BackfillSliceRow, "backfill_slices", {
    backfillId: { ...number, ...first },
    from: { ...text, ...first },
    to: text,
    status: text,
    runId: optionalNumber,
  });
  bind<MessageRow>(MessageRow, "messages", { name: { ...text, ...first }, definition: json, secret: optionalText });
  bind<TroubleRow>(TroubleRow, "troubles", {
    message: { ...text, ...first },
    pipeline: { ...text, ...first },
    load: { ...text, ...first },
    line: { ...text, ...first },
    kind: { ...text, ...first },
    says: text,
    since: time,
    runId: optionalNumber,
  });
  bind<DeliveryRow>(DeliveryRow, "deliveries", {
    id: serial,
    uid: { type: DataTypes.UUID, allowNull: false, defaultValue: DataTypes.UUIDV4 },
    message: text,
    pipeline: text,
    body: json,
    status: text,
    attempts: json,
    tries: number,
    createdAt: time,
    nextAt: time,
  });
  bind<WorkerRow>(WorkerRow, "workers", {
    name: { ...text, ...first },
    parallel: number,
    resting: flag,
    seenAt: time,
  });
  bind<FactRow>(FactRow, "facts", { name: { ...text, ...first }, value: json });
  bind<FavouriteRow>(FavouriteRow, "favourites", {
    userId: { ...number, ...first },
    pipeline: { ...text, ...first },
  });
  bind<RunRow>(RunRow, "runs", {
    id: serial,
    uid: { type: DataTypes.UUID, defaultValue: DataTypes.UUIDV4, allowNull: false },
    pipeline: text,
    title: text,
    definition: json,
    kind: text,
    status: text,
    reason: text,
    scope: json,
    wantsRows: flag,
    rowLimit: optionalNumber,
    given: { ...json, defaultValue: {} },
    values: { ...json, defaultValue: {} },
    heading: optionalNumber,
    version: optionalNumber,
    schedule: optionalText,
    backfill: optionalNumber,
    requestedBy: optionalText,
    worker: optionalText,
    token: { type: DataTypes.UUID },
    leaseUntil: time,
    asked: { ...number, defaultValue: 0 },
    cancelAskedAt: time,
    cancelledBy: optionalText,
    createdAt: time,
    startedAt: time,
    finishedAt: time,
    failure: optionalJson,
  });
  bind<RunLoadRow>(RunLoadRow, "run_loads", {
    id: serial,
    runId: number,
    load: text,
    target: text,
    line,
    status: text,
    phase: optionalText,
    waitingFor: optionalText,
    tally: json,
    bytes: { type: DataTypes.BIGINT, allowNull: false },
    watermark: optionalText,
    proofId: optionalNumber,
    phases: json,
    failure: optionalJson,
    findings: optionalJson,
    rehearsal: optionalJson,
    startedAt: time,
    finishedAt: time,
  });
  bind<RunLineRow>(RunLineRow, "run_lines", {
    id: serial,
    runId: number,
    load: optionalText,
    at: time,
    message: text,
    sql: optionalText,
  });
  bind<ProofRow>(ProofRow, "proofs", {
    id: serial,
    runId: number,
    pipeline: text,
    load: text,
    line,
    target: text,
    at: time,
    verdict: text,
    depth: text,
    how: text,
    cells: optionalJson,
    history: optionalJson,
    within: optionalJson,
    counted: optionalJson,
    whole: flag,
    sliceCount: number,
    agreeing: number,
    figures: json,
    slices: json,
    rows: optionalJson,
    without: optionalText,
    trouble: optionalText,
    sourceSql: text,
    warehouseSql: text,
  });
  const key = { ...text, primaryKey: true };
  bind<StandingRow>(StandingRow, "standings", {
    pipeline: key,
    load: key,
    line: { ...line, primaryKey: true },
    runId: optionalNumber,
    status: optionalText,
    failure: optionalJson,
    endedAt: time,
    loadedAt: time,
    rejected: { type: DataTypes.BIGINT, allowNull: false, defaultValue: "0" },
    proofId: optionalNumber,
    proofRunId: optionalNumber,
    wholeId: optionalNumber,
    wholeRunId: optionalNumber,
  });
  bind<TargetRow>(TargetRow, "targets", { connection: key, target: key, title: text, loadedAt: time });
  bind<SliceRow>(SliceRow, "slices", {
    pipeline: key,
    load: key,
    line: { ...line, primaryKey: true },
    slice: key,
    verdict: text,
    figures: json,
    proofId: number,
    provedAt: time,
    depth: text,
    cellsAt: time,
  });
}
