import type { GivenValue, Parameter } from "../parameter/value.ts";

/** The shapes that a project file holds and the server stores; one for both, so that nothing is translated between them. */

export type Mode = "replace" | "append" | "upsert" | "history";
export type TimeUnit = "hour" | "day" | "week" | "month" | "year";
/** What a slice is: a stretch of time, or all rows of one origin. */
export type SliceUnit = TimeUnit | "origin";

export interface Watermark {
  column: string;
  /** an ISO 8601 duration for time columns (`PT10M`), a whole number for numeric ones */
  lookBack?: string;
}

export interface From {
  connection: string;
  /** `schema.table`; either this, `query`, `tables` or `files` */
  table?: string;
  /** a read-only SELECT */
  query?: string;
  /** several tables of one shape: the mark of each and its `schema.table` */
  tables?: Record<string, string>;
  /** the column that holds each row's mark, where there are several tables; or its file's name */
  origin?: string;
  /** a file, or a pattern of files: `2026/**\/*.csv` */
  files?: string;
  /** how texts separated by a delimiter are written, where that is not as guessed; of a workbook its head and the rows before it */
  csv?: CsvFormat;
  /** of workbooks: a sheet, or a pattern of sheets; the first one where absent */
  sheets?: string;
  /** of workbooks: the block of cells that counts, `B3:H200`; all where absent */
  range?: string;
  /** of JSON: true where objects within a record are taken apart, one column a member (`outer_inner`) */
  flatten?: boolean;
  /** of what comes as text: the type of each column that is said, found by reading all of it or chosen; the others are guessed from a sample */
  types?: Record<string, string>;
  /** what is done with files once the load has committed: `keep`, where absent too, `delete`, or `move:DIR` */
  after?: string;
  /** where an application's records are asked for, below the connection's address: `/scans` */
  path?: string;
  /** where the records stand in an answer: a member's name, or several with points between; the answer itself where absent */
  records?: string;
  /** where each record holds a list, whose own records are the rows; the records themselves are where absent */
  each?: string;
  /** members of the record that go along with each row of its list */
  keep?: string[];
  /** how the pages of an answer follow each other; one page where absent */
  page?: PageForm;
  /** how an application is asked for what changed only */
  since?: SinceForm;
  /** an application's own list of what it has deleted; without one, rows that are gone are found by comparing keys */
  gone?: GoneForm;
  /** where an answer says how many records there are in all; compared with those that were read */
  count?: string;
  /** how an application exports all of it in the background; whole reads then take that way */
  bulk?: BulkForm;
  /** parameters of the address; `split` is none, but asks for a report part by part: by day, week or month between `from` and `to` */
  parameters?: Record<string, string>;
  /** how a report that is split is kept and asked for */
  period?: PeriodForm;
  /** an SQL condition over the source's columns */
  where?: string;
  /** `visible`: where policies hide rows from the connection's user, those it may see are the ones to load; else that is an error */
  rows?: "visible";
}

/** How a text of rows and fields is written; what is absent is guessed. */
export interface CsvFormat {
  delimiter?: string;
  quote?: string;
  /** the sign before a number's decimals */
  decimal?: "." | ",";
  encoding?: "utf-8" | "utf-16" | "windows-1252";
  /** true where the first line names the columns */
  header?: boolean;
  /** lines before the first that counts */
  skip?: number;
  /** the order of dates that are not written as ISO 8601: `dmy` 24.12.2026, `mdy` 12/24/2026 */
  dates?: "dmy" | "mdy";
}

/** How one page leads to the next: by a link header, an address or a cursor in the answer, or by counting pages or records. */
export interface PageForm {
  /** a header `Link: <…>; rel="next"` (RFC 8288) */
  link?: true;
  /** where the answer holds the next page's address */
  next?: string;
  /** where the answer holds a cursor, and the parameter that sends it back */
  cursor?: string;
  as?: string;
  /** the parameter that counts pages, from `first` (1 where absent) */
  number?: string;
  first?: number;
  /** the parameter that says how many records to pass over */
  offset?: string;
  /** so many records a page, and the parameter that says so */
  size?: number;
  sizeAs?: string;
}

/** An export in the background: begun by a POST, asked for until it is done, fetched in parts. Members of answers are named with points between. */
export interface BulkForm {
  /** the path that begins one, and what is sent to it */
  begin: string;
  body?: Record<string, unknown>;
  /** where the answer says which it is */
  id: string;
  /** the path that tells how it stands, `{id}` in it */
  ask: string;
  /** where that stands, and what it says when it is done, or has failed */
  at: string;
  done: string;
  failed?: string;
  /** where it says how many records there are so far */
  count?: string;
  /** where the addresses of its parts are listed */
  parts: string;
  format: "csv" | "ndjson";
  /** where the application says how many records there are (`count`): fewer than so many are read by pages; 10,000 where absent */
  least?: number;
}

/** A list of deleted records. */
export interface GoneForm extends Pick<From, "records" | "page" | "since"> {
  path: string;
  /** the members that identify a record, in the order of the load's key; those that the key takes where absent */
  key?: string[];
}

/** The parameter that names a moment or a number, and what it means. */
export interface SinceForm {
  parameter: string;
  /** true where what changed at that very moment is not told */
  excludes?: true;
  /** how a moment is written: ISO 8601 where absent, or seconds or milliseconds since 1970 */
  as?: "seconds" | "milliseconds";
}

/** The parts of a report by date. */
export interface PeriodForm {
  /** the column that holds the first day of each row's part; `period` where absent */
  column?: string;
  /** an ISO 8601 duration: of the parts that are loaded those so far back are asked for again; all where absent */
  again?: string;
  /** the parameters that say from which day and to which, where they go by other names than `from` and `to` */
  from?: string;
  to?: string;
  /** whether the application counts the last day among those that are asked for; `excluded` where absent */
  ends?: "included" | "excluded";
}

export interface Into {
  table: string;
  /** an SQL condition over warehouse columns: which of the table's rows are this load's; all of them where absent */
  part?: string;
  mode: Mode;
  key?: string[];
  /** what becomes of rows gone from the source; `close` ends the current version, in mode history */
  deleted?: "keep" | "mark" | "remove" | "close";
  deletions?: Deletions;
  /** how versions are kept, in mode history */
  history?: History;
  /** `drop`: where the table keeps versions and this mode keeps none, those that have ended are removed */
  versions?: "drop";
}

/** True for a load whose files are taken away once they are loaded. */
export const takesAway = ({ from: { after = "keep" } }: Pick<Load, "from">): boolean => after !== "keep";

/** True for loads that can be loaded by intervals: those with slices or a watermark, whose rows a second reading finds again. */
export const takesIntervals = ({ proof, watermark, into }: Load): boolean =>
  Boolean(
    ((proof?.by && proof.by.slice !== "origin") || watermark) &&
      into.mode !== "replace" &&
      (into.key?.length || into.mode === "append"),
  );

/** True for a load of files that reads those which are new or changed; where rows are to go that are gone from them, it must be known of each which file it is of. */
export const changesOnly = ({ from, into }: Load): boolean =>
  from.files !== undefined &&
  into.mode !== "replace" &&
  (from.origin !== undefined || into.deleted === undefined || into.deleted === "keep");

/** True for a load that looks for rows gone from the source. */
export const sweeps = (load: Load | undefined): boolean => !["keep", undefined].includes(load?.into.deleted);

/** What the change of a column does: keep the first value, overwrite it, open a version, or keep the value before in a second column. */
export type ColumnChange = "keep" | "overwrite" | "version" | { previous: string };

/** How a table keeps the history of its rows; every part may be absent. */
export interface History {
  /** by warehouse column; `version` where not named */
  columns?: Record<string, ColumnChange>;
  /** which versions an overwritten column is overwritten in; `all` where absent */
  overwrite?: "all" | "current";
  /** what happens to a row that changes a kept column; `reject` where absent */
  breach?: Breach;
  /** what the versions that stand hold of a column that the load gets later: null where absent, or what the source says now */
  added?: "null" | "fill";
  /** the source column that says from when a row is so; `run`, the read's moment, where absent */
  since?: string;
  /** from when a key's first version is valid: a time, or `since`, where absent */
  first?: string;
  /** the column that holds from when a version is valid; `valid_from` where absent */
  from?: string;
  /** the column that holds until when, excluded; `valid_to` where absent */
  to?: string;
  /** what that holds in the current version: a time, or null where absent */
  end?: string | null;
  /** the column that marks the current version, and its values; `is_current`, true and false, where absent */
  current?: string | { column: string; yes: Flag; no: Flag };
  /** the column that holds what a version came by: new, version, overwrite, deleted or returned; none where absent */
  change?: string;
  /** a column that numbers versions; none where absent */
  surrogate?: { column: string; start?: number; step?: number };
  /** what is no change in a text */
  compare?: { ignore: ("case" | "space" | "accents")[]; locale?: string };
}

/** A value of a column that marks the current version. */
export type Flag = string | number | boolean;

/** How rows gone from the source are looked for. */
export interface Deletions {
  /** the load stops when more than so many percent of the table would go; 50 where absent */
  most?: number;
  /** an ISO 8601 duration: not at every run, but when so long has passed since the last look */
  every?: string;
  /** the column that holds the time a row was found gone; `deleted_at` where absent */
  column?: string;
}

/** A column that an expression computes. */
export interface ComputedColumn {
  /** a source column's name, or an SQL expression over source columns */
  as: string;
  /** the warehouse column's type; that of the expression where absent */
  type?: string;
}

/** `fare: fare_cents` and `fare: { as: fare_cents }` mean the same. */
export function computedColumn(column: string | ComputedColumn): ComputedColumn {
  return typeof column === "string" ? { as: column } : column;
}

/** What happens when a row breaks a rule or a type: the load stops, the row is rejected, or it is only counted. */
export type Breach = "stop" | "reject" | "count";

export interface Rule {
  /** an SQL condition over the warehouse columns */
  check: string;
  /** what a null answer means; `reject` where absent */
  null?: "reject" | "pass";
  breach?: Breach;
  /** a date from which on the rule holds: of the rows' `of` column, else of the day they are read */
  from?: string;
  of?: string;
}

/** `positive: fare > 0` and `positive: { check: fare > 0 }` mean the same. */
export function ruleOf(rule: string | Rule): Rule {
  return typeof rule === "string" ? { check: rule } : rule;
}

export interface Rejects {
  /** more rejected rows than this, or than this share of those read (`2%`), fail the load; 0 stops at the first */
  limit?: number | string;
  /** what happens to a row that breaks a type or a rule that does not say; `reject` where absent */
  breach?: "stop" | "reject";
  /** what happens to the earlier of two rows with one key; `reject` where absent */
  duplicates?: "stop" | "reject";
  /** so many rejected rows of a run are kept with their values; 10,000 where absent */
  keep?: number;
}

/** What a source is told of each row that was turned away: a request with `{names}` of its columns in it, or SQL with `:names`. */
export interface MarkForm {
  /** through which connection; the load's own where absent */
  connection?: string;
  method?: "POST" | "PUT" | "PATCH";
  path?: string;
  body?: Record<string, unknown>;
  sql?: string;
  /** most rows that are told in one run */
  limit?: number;
}

/** What happens when the source's columns are no longer those of the last load. */
export interface Drift {
  /** a new column: `take` where absent */
  added?: "take" | "ignore" | "stop";
  /** a column whose type no longer fits: `stop` where absent */
  changed?: "stop" | "null" | "take";
  /** a column that is gone: `stop` where absent */
  gone?: "stop" | "null";
}

export interface ProofBy {
  column: string;
  slice: SliceUnit;
  /** the zone in which a timestamptz falls into a slice; UTC where absent */
  zone?: string;
}

/** Rows that look a version up: each must find exactly one that was valid at its time. */
export interface Within {
  /** the table that keeps the versions, as `schema.table` of the same warehouse */
  dimension: string;
  /** the column, or columns, that hold the dimension's key, in its order */
  key: string | string[];
  /** the column that says when */
  at: string;
}

export interface ProofPlan {
  by?: ProofBy;
  /** what each row must find */
  within?: Within;
  figures: string[];
  /** how often the whole table is compared cell by cell on its own: an ISO 8601 duration, `P1D` where absent, or `never` */
  cells?: string;
}

export interface Load {
  from: From;
  watermark?: Watermark;
  /** warehouse column → source column or SQL expression; absent: every column under its own name */
  columns?: Record<string, string | ComputedColumn>;
  /** the rule's name → an SQL condition over the warehouse columns */
  rules?: Record<string, string | Rule>;
  rejects?: Rejects;
  /** what the source is told of rows that were turned away; nothing where absent */
  report?: MarkForm;
  drift?: Drift;
  into: Into;
  proof?: ProofPlan;
}

/**
 * When a pipeline is started: every so long, at times of the clock, or when another one has ended. `when: arrived`: only
 * where a file that it reads has come or changed since, and stands still.
 */
export type Timing =
  | { every: string; when?: "arrived" }
  | { cron: string }
  | { after: string; on?: "finished" | "proved" };

export type Schedule = Timing & {
  zone?: string;
  paused?: boolean;
  /** the first and the last day on which it starts something */
  from?: string;
  until?: string;
  /** so many times and no more */
  times?: number;
  /** the sets of values that it is run with, each by a run of its own; the defaults where absent */
  values?: string[];
  /** what addresses such as trip.from.table name when it runs, instead of what they name in the pipeline */
  set?: Record<string, string>;
  /** `run` where absent; only a proof; or only a look for rows gone from the source */
  do?: "run" | "prove" | "sweep";
  /** pipelines that it does not run at the same time as, nor they as it */
  apart?: string[];
  /** where the last one still runs: `wait` for it, where absent, or leave this time out */
  overlap?: "wait" | "skip";
  /** times that passed while nothing ran: `one` run for all of them, where absent, or none */
  catchUp?: "one" | "none";
};

/** A versioned, reusable list of loads. They run side by side, and one after another where one reads what another writes. */
export interface Pipeline {
  title: string;
  warehouse: string;
  /** where a day begins for moments told from the present one; UTC where absent */
  zone?: string;
  /** what it can be run with, by name */
  parameters?: Record<string, Parameter>;
  /** named sets of values; a parameter that a set leaves out keeps its default */
  values?: Record<string, Record<string, GivenValue>>;
  loads: Record<string, Load>;
  /** whose it is, as people know them */
  owner?: string;
  labels?: string[];
  /** what there is to know of it, in Markdown */
  note?: string;
  /** tables that get a load by themselves when they appear */
  joins?: Joins;
  /** one schedule, or several in `schedules` */
  schedule?: Schedule;
  schedules?: Schedule[];
}

/** Which new tables of a source join a pipeline, and where they go. */
export interface Joins {
  connection: string;
  schema: string;
  /** `booking_*`: a table's name, `*` standing for any characters; all tables where absent */
  tables?: string;
  /** the warehouse schema they are loaded into */
  into: string;
}

/** Where a server is, and who signs in. */
export interface NetworkSettings {
  host: string;
  port: number;
  database: string;
  user: string;
  tls: "off" | "require" | "verify";
  /** so many loads of a run use it at a time; 4 where absent */
  parallel?: number;
  /** true where loads may tell it of rejected rows by statements that write; an administrator allows it */
  marks?: true;
}

export interface ServerSettings extends NetworkSettings {
  kind: "postgres";
  /** functions of the server's own schemas that queries may call, as `schema.name`; an administrator lists them */
  functions?: string[];
}

/** What a server's connection is where nothing else is said. A definition carries it, so that what is stored is what runs. */
export const serverDefaults = { port: 5432, tls: "off" as const };

/** A MariaDB server, or one that speaks its protocol. */
export interface MariaSettings extends NetworkSettings {
  kind: "mariadb";
  /** what a day that no calendar has, such as 0000-00-00, does: its row is rejected, where absent too, or it is null */
  zeroDates?: "reject" | "null";
}

/** A folder of files. */
export interface FilesSettings {
  kind: "files";
  /** below one of the folders that the administrator allows */
  path: string;
  parallel?: number;
}

/** A folder of another host. Its password may be a private key's text. */
export interface SftpSettings extends Pick<NetworkSettings, "host" | "port" | "user" | "parallel"> {
  kind: "sftp";
  /** the fingerprint of the host's key that was accepted; no other is signed in to */
  hostKey?: string;
  path: string;
}

/** How OAuth 2 (RFC 6749) is spoken: in the application's own name, or in that of somebody who consents (with PKCE, RFC 7636). */
export interface OAuth {
  grant: "client_credentials" | "authorization_code";
  /** where somebody is sent to consent */
  authorize?: string;
  token: string;
  client: string;
  scopes?: string[];
}

/** How an application is signed in to; what is secret of it is kept apart. */
export interface HttpAuth {
  basic?: { user: string };
  key?: { header: string };
  bearer?: true;
  oauth?: OAuth;
}

/** An application that is asked by HTTP. */
export interface WebSettings {
  /** what every path is below of */
  url: string;
  auth?: HttpAuth;
  /** at most so many requests */
  limits?: { minute?: number; hour?: number };
  parallel?: number;
}

export interface HttpSettings extends WebSettings {
  kind: "http";
  /** an OpenAPI 3 document: its address, or a path below the connection's */
  describe?: string;
}

/** A service of OData 4; its address is the service's root. */
export interface ODataSettings extends WebSettings {
  kind: "odata";
}

/** A module of the user's own, which reads what no other kind does. */
export interface ModuleSettings {
  kind: "module";
  /** its name in the folder of modules */
  file: string;
  /** what is handed to it */
  settings?: Record<string, string | number | boolean>;
  /** the hosts that it may ask; an administrator lists them */
  hosts?: string[];
  /** the most seconds that it may take, and megabytes that it may hold; 600 and 256 where absent */
  seconds?: number;
  megabytes?: number;
  parallel?: number;
}

/** What a connection is, by its kind. */
export type ConnectionSettings =
  | ServerSettings
  | FilesSettings
  | SftpSettings
  | MariaSettings
  | HttpSettings
  | ODataSettings
  | ModuleSettings;

/** What a load proves when its author has not said. */
export const wholeTableRows: ProofPlan = { figures: ["rows"] };
