import { Cron } from "croner";
import Joi from "joi";
import { kinds } from "../connection/kinds.ts";
import { cellRange } from "../file/sheet.ts";
import { periodsProblem } from "../http/periods.ts";
import { occasions } from "../message/message.ts";
import { holesIn } from "../parameter/scan.ts";
import { parameterTypes } from "../parameter/value.ts";
import { parseFigure } from "../proof/figure.ts";
import { durationSeconds } from "../schedule/duration.ts";
import { isZone } from "../schedule/schedule.ts";
import { NameError, parseSourceName, parseTableName } from "../sql/identifier.ts";
import { canonicalType } from "../sql/type.ts";
import { type Load, takesAway } from "./pipeline.ts";

/**
 * The Joi schemas of everything a project file says. The server checks requests with them and
 * `docs/project-file.schema.json` is generated from them.
 */

function checked(check: (value: string) => void) {
  return (value: string, helpers: Joi.CustomHelpers) => {
    try {
      check(value);
      return value;
    } catch (error) {
      return helpers.message({
        custom: `{{#label}}: ${(error as Error).message.replaceAll("{", "(").replaceAll("}", ")")}`,
      });
    }
  };
}

/** Names of connections, pipelines and loads: they stand in addresses and on command lines. */
const slugPattern = /^[A-Za-z0-9][A-Za-z0-9_-]{0,62}$/;
export const slug = Joi.string()
  .pattern(slugPattern, "name")
  .messages({ "string.pattern.name": "{{#label}} may hold letters, digits, - and _, up to 63 of them" });

const columnPattern = /^[\s\S]{1,63}$/;
const column = Joi.string().min(1).max(63);
/** A text without the holes that parameters fill, each as some name. */
const whole = (text: string) =>
  holesIn(text).reduceRight((rest, { from, to }) => `${rest.slice(0, from)}x${rest.slice(to)}`, text);
const tableName = Joi.string().custom(
  checked((text) => {
    // One hole alone is filled with all of a name.
    if (whole(text) !== "x") parseTableName(whole(text));
  }),
  "schema.table",
);
/** A table at a source, or a set of records by its one name. */
const sourceName = Joi.string().custom(
  checked((text) => {
    if (whole(text) !== "x") parseSourceName(whole(text));
  }),
  "schema.table",
);
/** A connection's name, which may have holes. */
const connectionName = Joi.string()
  .pattern(/^([A-Za-z0-9]|\{[A-Za-z_][A-Za-z0-9_]*\})([A-Za-z0-9_-]|\{[A-Za-z_][A-Za-z0-9_]*\}){0,62}$/, "name")
  .messages({ "string.pattern.name": "{{#label}} may hold letters, digits, - and _, up to 63 of them" });
/** One parameter in the place of a whole value. */
const placeholder = /^:[A-Za-z_][A-Za-z0-9_]*$/;
/** What addresses name for once, such as trip.from.table. */
export const givenSettings = Joi.object().pattern(/^[\s\S]{1,300}$/, Joi.string().min(1).max(300));
const zone = Joi.string().custom(
  checked((value) => {
    if (!isZone(value)) throw new NameError(`${value} is not a time zone; write one like Europe/Oslo`);
  }),
  "time zone",
);

const csvFormat = Joi.object({
  delimiter: Joi.string().length(1),
  quote: Joi.string().length(1),
  decimal: Joi.string().valid(".", ","),
  encoding: Joi.string().valid("utf-8", "utf-16", "windows-1252"),
  header: Joi.boolean(),
  skip: Joi.number().integer().min(0).max(10_000),
  dates: Joi.string().valid("dmy", "mdy"),
});

/** A member's name within an answer, or several with points between. */
const memberPath = Joi.string()
  .pattern(/^[^.\s]+(\.[^.\s]+)*$/, "members")
  .max(300)
  .messages({ "string.pattern.name": "{{#label}} is a member's name, or several with points between: meta.next" });
const queryName = Joi.string().min(1).max(200);
const pageForm = Joi.object({
  link: Joi.boolean().valid(true),
  next: memberPath,
  cursor: memberPath,
  as: queryName,
  number: queryName,
  first: Joi.number().integer().min(0).max(1_000_000),
  offset: queryName,
  size: Joi.number().integer().min(1).max(1_000_000),
  sizeAs: queryName,
})
  .xor("link", "next", "cursor", "number", "offset")
  .and("cursor", "as")
  .with("first", "number")
  .with("sizeAs", "size")
  .messages({
    "object.missing": "{{#label}} says how pages follow each other: by link, next, cursor, number or offset",
    "object.xor": "{{#label}} follows in more than one way; keep one of link, next, cursor, number and offset",
    "object.and": "{{#label}}: a cursor needs the parameter that sends it back (as)",
  });

const duration = Joi.string().custom(checked(durationSeconds), "duration");

const httpPath = Joi.string()
  .max(2000)
  .pattern(/^\/(?!\/)[^\s#?]*$/, "path")
  .messages({ "string.pattern.name": "{{#label}} is a path below the connection's address, such as /scans" });
const sinceForm = Joi.object({
  parameter: queryName.required(),
  excludes: Joi.boolean().valid(true),
  as: Joi.string().valid("seconds", "milliseconds"),
});

export const fromSchema = Joi.object({
  connection: connectionName.required(),
  table: sourceName,
  query: Joi.string().max(100_000),
  tables: Joi.object()
    .pattern(/^[\s\S]{1,200}$/, tableName)
    .min(1)
    .max(200),
  files: Joi.string()
    .max(1000)
    .pattern(/^(?!\/)(?!.*(^|\/)\.\.(\/|$))[^\0\\]+$/),
  csv: csvFormat,
  sheets: Joi.string().min(1).max(200),
  range: Joi.string().custom(checked(cellRange), "range"),
  flatten: Joi.boolean(),
  types: Joi.object().pattern(
    columnPattern,
    Joi.string()
      .max(200)
      .custom(
        checked((type) => {
          canonicalType(type);
        }),
        "type",
      ),
  ),
  path: httpPath,
  records: memberPath,
  each: memberPath,
  keep: Joi.array().items(column).min(1).max(100).unique(),
  page: pageForm,
  since: sinceForm,
  gone: Joi.object({
    path: httpPath.required(),
    records: memberPath,
    page: pageForm,
    since: sinceForm,
    key: Joi.array().items(column).min(1).max(32),
  }),
  count: memberPath,
  bulk: Joi.object({
    begin: Joi.string()
      .pattern(/^\/(?!\/)\S*$/)
      .max(2000)
      .required(),
    body: Joi.object(),
    id: memberPath.required(),
    ask: Joi.string()
      .pattern(/^\/(?!\/)\S*\{id\}\S*$/, "ask")
      .max(2000)
      .required(),
    at: memberPath.required(),
    done: Joi.string().max(200).required(),
    failed: Joi.string().max(200),
    count: memberPath,
    parts: memberPath.required(),
    format: Joi.string().valid("csv", "ndjson").required(),
    least: Joi.number().integer().min(0).max(1_000_000_000),
  }),
  parameters: Joi.object()
    .pattern(/^[\s\S]{1,200}$/, Joi.string().allow("").max(2000))
    .max(50),
  period: Joi.object({
    column,
    from: queryName,
    to: queryName,
    again: duration,
    ends: Joi.string().valid("included", "excluded"),
  }),
  after: Joi.string()
    .pattern(/^(keep|delete|move:(?!\/)(?!.*(^|[/:])\.\.(\/|$))[^\0\\]+)$/, "after")
    .messages({ "string.pattern.name": "{{#label}} is keep, delete or move:DIR, a folder below the connection's" }),
  origin: column,
  where: Joi.string().max(20_000),
  rows: Joi.string().valid("visible"),
})
  .xor("table", "query", "tables", "files", "path")
  .with("tables", "origin")
  .with("csv", "files")
  .with("sheets", "files")
  .with("range", "files")
  .oxor("csv", "path")
  .with("records", "path")
  .with("page", "path")
  .with("each", "path")
  .with("keep", "each")
  .with("since", "path")
  .with("gone", "path")
  .with("count", "path")
  .with("parameters", "path")
  .with("period", "parameters")
  .with("bulk", "path")
  .without("query", ["flatten", "types"])
  .without("tables", ["flatten", "types"])
  .without("path", ["where", "rows"])
  .with("after", "files")
  .without("files", ["where", "rows"])
  .messages({
    "object.missing": "{{#label}} needs a table, a query, tables, files or a path",
    "object.xor": "{{#label}} has more than one of table, query, tables, files and path; keep one",
    "string.pattern.base": "{{#label}} names files below the connection's folder, without a leading / and without ..",
    "object.without": "{{#label}}: {{#mainWithLabel}} goes with no {{#peerWithLabel}}; leave rows out by a rule",
    "object.with": "{{#label}}: {{#mainWithLabel}} needs {{#peerWithLabel}} beside it",
  })
  .custom((from, helpers) => {
    const problem = periodsProblem(from);
    return problem === null
      ? from
      : helpers.message({ custom: `{{#label}}: ${problem.replaceAll("{", "(").replaceAll("}", ")")}` });
  });

const watermark = Joi.object({
  column: column.required(),
  lookBack: Joi.string().custom(
    checked((value) => {
      if (!/^\d{1,18}$/.test(value) && !placeholder.test(value)) durationSeconds(value);
    }),
    "look-back",
  ),
});

/** A moment as a project file writes it; without a zone it is one in UTC. */
const time = Joi.string()
  .pattern(/^(-?infinity|\d{4,6}-\d{2}-\d{2}([T ]\d{2}:\d{2}(:\d{2}(\.\d{1,6})?)?( ?(Z|[+-]\d{2}(:?\d{2})?))?)?)$/)
  .messages({ "string.pattern.base": "{{#label}} is a time such as 2026-01-01, 2026-01-01T06:00Z or -infinity" });
const flag = Joi.alternatives(Joi.string().min(1).max(20), Joi.number().integer(), Joi.boolean());

const history = Joi.object({
  columns: Joi.object().pattern(
    columnPattern,
    Joi.alternatives(
      Joi.string().valid("keep", "overwrite", "version"),
      Joi.object({ previous: column.required() }),
    ).messages({
      "alternatives.types": "{{#label}} is keep, overwrite, version or (previous: a column's name)",
      "alternatives.match": "{{#label}} is keep, overwrite, version or (previous: a column's name)",
    }),
  ),
  overwrite: Joi.string().valid("all", "current"),
  breach: Joi.string().valid("stop", "reject", "count"),
  added: Joi.string().valid("null", "fill"),
  since: column,
  first: Joi.alternatives(Joi.string().valid("since"), time),
  from: column,
  to: column,
  end: time.invalid("-infinity").allow(null),
  current: Joi.alternatives(
    column,
    Joi.object({ column: column.required(), yes: flag.required(), no: flag.required() }).custom(
      (current: { yes: unknown; no: unknown }, helpers) =>
        typeof current.yes === typeof current.no && current.yes !== current.no
          ? current
          : helpers.message({ custom: "{{#label}}: yes and no are two values of one kind" }),
      "flag",
    ),
  ),
  change: column,
  surrogate: Joi.object({
    column: column.required(),
    start: Joi.number().integer().min(0).max(Number.MAX_SAFE_INTEGER),
    step: Joi.number().integer().min(1).max(1_000_000),
  }),
  compare: Joi.object({
    ignore: Joi.array()
      .items(Joi.string().valid("case", "space", "accents"))
      .unique()
      .required(),
    locale: Joi.string()
      .pattern(/^[a-z]{2,3}(-[A-Za-z0-9]{2,8})*$/)
      .messages({ "string.pattern.base": "{{#label}} is a locale such as nb-NO" }),
  }),
});

const keyedModes: Record<string, string> = {
  upsert: "{{#label}} is needed: an upsert must know which columns identify a row",
  history: "{{#label}} is needed: a history must know which columns say whose versions they are",
};

const into = Joi.object({
  table: tableName.required(),
  part: Joi.string().min(1).max(20_000),
  mode: Joi.string().valid("replace", "append", "upsert", "history").required(),
  key: Joi.array()
    .items(column)
    .min(1)
    .unique()
    .when("mode", {
      switch: Object.entries(keyedModes).map(([is, message]) => ({
        is,
        // biome-ignore lint/suspicious/noThenProperty: Joi's word for a condition's outcome
        then: Joi.required().messages({ "any.required": message }),
      })),
    }),
  deleted: Joi.string().valid("keep", "mark", "remove", "close"),
  deletions: Joi.object({ most: Joi.number().min(0).max(100), every: duration, column }),
  history,
  versions: Joi.string().valid("drop"),
}).custom((into, helpers) => {
  const keeping = into.mode === "history";
  if (into.history && !keeping)
    return helpers.message({ custom: "{{#label}}: history says how versions are kept, which is mode: history" });
  if (into.versions && keeping)
    return helpers.message({ custom: "{{#label}}: versions: drop is for a mode that keeps none" });
  if (keeping ? ["mark", "remove"].includes(into.deleted) : into.deleted === "close")
    return helpers.message({
      custom: keeping
        ? `{{#label}}: a history keeps or closes what is gone; deleted: ${into.deleted} would change the past`
        : "{{#label}}: deleted: close ends a version, which only mode: history has",
    });
  if ((into.deleted === "mark" || into.deleted === "remove") && (!into.key || into.mode === "replace"))
    return helpers.message({
      custom: `{{#label}}: deleted: ${into.deleted} needs a key and a mode that keeps rows, because keys tell which rows are gone`,
    });
  return into;
}, "deletions");

const type = Joi.string().max(100).custom(checked(canonicalType), "type");
const expression = Joi.string().min(1).max(20_000);
const computed = Joi.object({ as: expression.required(), type });
const rule = Joi.object({
  check: expression.required(),
  null: Joi.string().valid("reject", "pass"),
  breach: Joi.string().valid("stop", "reject", "count"),
  from: Joi.string()
    .pattern(/^(\d{4}-\d{2}-\d{2}|:[A-Za-z_][A-Za-z0-9_]*)$/)
    .messages({ "string.pattern.base": "{{#label}} is a date such as 2026-01-01" }),
  of: column,
})
  .with("of", "from")
  .messages({ "object.with": "{{#label}}: of needs from" });
const rejects = Joi.object({
  limit: Joi.alternatives(
    Joi.number().integer().min(0).max(Number.MAX_SAFE_INTEGER),
    Joi.string().pattern(/^\d{1,3}(\.\d{1,6})?%$/),
  ).messages({
    "alternatives.types": "{{#label}} is a number of rows, or a share of those read such as 2%",
    "alternatives.match": "{{#label}} is a number of rows, or a share of those read such as 2%",
  }),
  breach: Joi.string().valid("stop", "reject"),
  duplicates: Joi.string().valid("stop", "reject"),
  keep: Joi.number().integer().min(0).max(1_000_000),
});
const drift = Joi.object({
  added: Joi.string().valid("take", "ignore", "stop"),
  changed: Joi.string().valid("stop", "null", "take"),
  gone: Joi.string().valid("stop", "null"),
});

const proof = Joi.object({
  by: Joi.object({
    column: column.required(),
    slice: Joi.string().valid("hour", "day", "week", "month", "year", "origin").required(),
    zone,
  }),
  within: Joi.object({
    dimension: tableName.required(),
    key: Joi.alternatives(column, Joi.array().items(column).min(1).unique()).required(),
    at: column.required(),
  }),
  figures: Joi.array()
    .items(Joi.string().custom(checked(parseFigure), "figure"))
    .min(1)
    .unique()
    .required(),
  cells: Joi.alternatives(
    Joi.string().valid("never"),
    Joi.string().custom(
      checked((value) => {
        if (durationSeconds(value) < 3600) throw new RangeError("the whole table is compared every hour at the most");
      }),
      "interval",
    ),
  ),
});

const report = Joi.object({
  connection: connectionName,
  method: Joi.string().valid("POST", "PUT", "PATCH"),
  path: Joi.string()
    .max(2000)
    .pattern(/^\/(?!\/)[^\s#]*$/, "path")
    .messages({ "string.pattern.name": "{{#label}} is a path below the connection's address, such as /scans" }),
  body: Joi.object(),
  sql: Joi.string().max(20_000),
  limit: Joi.number().integer().min(1).max(10_000),
})
  .xor("path", "sql")
  .with("method", "path")
  .with("body", "path")
  .with("sql", "connection")
  .messages({
    "object.missing": "{{#label}} says what is sent: a path of the application, or an SQL statement",
    "object.xor": "{{#label}} has a path and an SQL statement; keep one",
    "object.with": "{{#label}}: {{#mainWithLabel}} needs {{#peerWithLabel}} beside it",
  });

export const loadSchema = Joi.object({
  from: fromSchema.required(),
  watermark,
  columns: Joi.object().pattern(columnPattern, Joi.alternatives(expression, computed)).min(1).max(1600),
  rules: Joi.object()
    .pattern(/^[\s\S]{1,200}$/, Joi.alternatives(expression, rule))
    .max(200),
  rejects,
  report,
  drift,
  into: into.required(),
  proof,
}).custom((load, helpers) => {
  const { mode, key, deleted = "keep" } = load.into;
  if (takesAway(load) && deleted !== "keep")
    return helpers.message({
      custom: `{{#label}} takes its files away once they are loaded, so deleted: ${deleted} would take their rows away too; keep one of the two`,
    });
  if (mode === "append" && !load.watermark && !key)
    return helpers.message({
      custom:
        "{{#label}} appends without a watermark or a key, so every run would add all rows again; give it one of them",
    });
  return load;
}, "append");

const day = Joi.string().custom(
  checked((value) => {
    if (
      !/^\d{4}-\d{2}-\d{2}$/.test(value) ||
      Number.isNaN(Date.parse(value)) ||
      new Date(value).toISOString().slice(0, 10) !== value
    )
      throw new RangeError(`${value} is not a day; write one like 2026-12-01`);
  }),
  "day",
);

export const scheduleSchema = Joi.object({
  every: Joi.string().custom(
    checked((value) => {
      const seconds = durationSeconds(value);
      if (seconds < 60 || seconds > 31 * 86_400)
        throw new RangeError("an interval lies between one minute and 31 days");
    }),
    "interval",
  ),
  cron: Joi.string().custom(
    checked((value) => {
      if (value.trim().split(/\s+/).length !== 5) throw new RangeError("a cron schedule has five fields");
      try {
        new Cron(value).stop();
      } catch (error) {
        throw new RangeError((error as Error).message.replace(/^CronPattern: /, ""));
      }
    }),
    "cron",
  ),
  after: slug,
  on: Joi.string().valid("finished", "proved"),
  when: Joi.string().valid("arrived"),
  zone,
  paused: Joi.boolean(),
  from: day,
  until: day,
  times: Joi.number().integer().min(1).max(1_000_000),
  values: Joi.array().items(Joi.string().max(63)).min(1).max(1000).unique(),
  set: givenSettings.min(1),
  do: Joi.string().valid("run", "prove", "sweep"),
  apart: Joi.array().items(slug).min(1).max(100).unique(),
  overlap: Joi.string().valid("wait", "skip"),
  catchUp: Joi.string().valid("one", "none"),
})
  .xor("every", "cron", "after")
  .with("on", "after")
  .with("when", "every")
  .messages({
    "object.missing": "{{#label}} needs every, cron or after",
    "object.xor": "{{#label}} has more than one of every, cron and after; keep one",
    "object.with": "{{#label}}: on goes with after, and when with every",
  });

const parameterName = /^[A-Za-z_][A-Za-z0-9_]{0,62}$/;
const oneValue = Joi.alternatives(Joi.string().allow("").max(10_000), Joi.number().unsafe(), Joi.boolean());
const givenValue = Joi.alternatives(oneValue, Joi.array().items(oneValue).max(1000));
export const givenValues = Joi.object().pattern(parameterName, givenValue);

const parameter = Joi.object({
  type: Joi.string()
    .valid(...parameterTypes)
    .required(),
  default: givenValue,
  oneOf: Joi.array().items(oneValue).min(1).max(1000),
  note: Joi.string().max(1000),
});

export const pipelineSchema = Joi.object({
  title: Joi.string().min(1).max(120).required(),
  warehouse: connectionName.required(),
  zone,
  parameters: Joi.object().pattern(parameterName, parameter).max(100),
  values: Joi.object()
    .pattern(/^[A-Za-z0-9][A-Za-z0-9_-]{0,62}$/, givenValues)
    .max(1000),
  owner: Joi.string().min(1).max(120),
  labels: Joi.array().items(Joi.string().min(1).max(40)).unique().max(20),
  note: Joi.string().max(20_000),
  loads: Joi.object().pattern(slugPattern, loadSchema).min(1).max(500).required(),
  joins: Joi.object({
    connection: slug.required(),
    schema: Joi.string().min(1).max(63).required(),
    tables: Joi.string().max(200),
    into: Joi.string().min(1).max(63).required(),
  }),
  schedule: scheduleSchema,
  schedules: Joi.array().items(scheduleSchema).min(1).max(50),
}).custom((pipeline, helpers) => {
  const sets = new Set(Object.keys(pipeline.values ?? {}));
  const listed = [...(pipeline.schedule ? [pipeline.schedule] : []), ...(pipeline.schedules ?? [])];
  const missing = listed
    .flatMap((schedule: { values?: string[] }) => schedule.values ?? [])
    .find((set) => !sets.has(set));
  const reads = (Object.values(pipeline.loads ?? {}) as Load[]).some(({ from }) => from.files !== undefined);
  if (!reads && listed.some((schedule: { when?: string }) => schedule.when === "arrived"))
    return helpers.message({ custom: "{{#label}}: a schedule waits for files to arrive, and no load reads files" });
  return missing === undefined
    ? pipeline
    : helpers.message({
        custom: `{{#label}}: a schedule names the values ${missing}, and the pipeline has no such set`,
      });
}, "schedules");

/** A connection's settings by its kind, with what else is given beside them. @param secret the schema of what it signs in with */
export function connectionSchema(secret: Joi.Schema, more: Joi.SchemaMap = {}): Joi.Schema {
  const each = Object.entries(kinds).map(([kind, { settings, secret: name }]) => ({
    is: kind,
    // biome-ignore lint/suspicious/noThenProperty: Joi names it so.
    then: Joi.object({ ...settings, ...(name ? { [name]: secret } : {}), ...more }),
  }));
  return Joi.alternatives().conditional(".kind", {
    switch: each,
    otherwise: Joi.object({
      kind: Joi.string()
        .valid(...Object.keys(kinds))
        .required(),
    }).unknown(),
  });
}

/** Headers that say who asks, how the body is written or what signs it are the product's own. */
const ownHeaders = /^(authorization|cookie|host|connection|content-.*|transfer-encoding|webhook-.*)$/i;

const told = {
  on: Joi.array()
    .items(Joi.string().valid(...occasions))
    .min(1)
    .unique()
    .required(),
  pipelines: Joi.array().items(slug).min(1).unique(),
  over: Joi.number().integer().min(0).max(1_000_000_000),
  late: Joi.object({
    by: Joi.string()
      .pattern(/^([01]\d|2[0-3]):[0-5]\d$/)
      .required()
      .messages({ "string.pattern.base": "{{#label}} is a time of day like 07:00" }),
    zone,
    needs: Joi.string().valid("finished", "proved"),
  }),
};
/** A secret as it stands in a project file or in the environment. */
const secret = Joi.alternatives(Joi.string().min(16).max(200), Joi.object({ env: Joi.string().required() }));

export const messageSchema = Joi.alternatives().conditional(".to", {
  switch: [
    {
      is: "webhook",
      // biome-ignore lint/suspicious/noThenProperty: Joi names it so.
      then: Joi.object({
        to: Joi.string().valid("webhook").required(),
        url: Joi.string()
          .uri({ scheme: ["http", "https"] })
          .max(2000)
          .required(),
        secret,
        headers: Joi.object()
          .pattern(
            Joi.string()
              .pattern(/^[A-Za-z0-9!#$%&'*+.^_|~-]{1,100}$/)
              .pattern(ownHeaders, { invert: true }),
            Joi.string().pattern(/^[\t\x20-\x7e]{1,1000}$/),
          )
          .max(20),
        ...told,
      }),
    },
    {
      is: "mail",
      // biome-ignore lint/suspicious/noThenProperty: Joi names it so.
      then: Joi.object({
        to: Joi.string().valid("mail").required(),
        address: Joi.string().email({ tlds: false }).required(),
        ...told,
      }),
    },
  ],
  otherwise: Joi.object({ to: Joi.string().valid("webhook", "mail").required() }).unknown(),
});

export const mailServerSchema = Joi.object({
  host: Joi.string()
    .pattern(/^[^\s/\\@,]+$/)
    .max(255)
    .required(),
  port: Joi.number().integer().min(1).max(65_535).required(),
  from: Joi.string().email({ tlds: false }).required(),
  user: Joi.string().min(1).max(255),
  password: Joi.alternatives(Joi.string().max(1024), Joi.object({ env: Joi.string().required() })),
  tls: Joi.string().valid("off", "starttls", "tls"),
});

export const projectSchema = Joi.object({
  undercoat: Joi.number().valid(1).required(),
  messages: Joi.object().pattern(slugPattern, messageSchema),
  mail: mailServerSchema,
  connections: Joi.object().pattern(
    slugPattern,
    connectionSchema(Joi.alternatives(Joi.string().allow("").max(1024), Joi.object({ env: Joi.string().required() }))),
  ),
  pipelines: Joi.object().pattern(slugPattern, pipelineSchema.keys({ title: Joi.string().min(1).max(120) })),
});

/** One thing wrong, where it is (`loads.booking.into.key`), and what it is. */
export interface Problem {
  path: (string | number)[];
  message: string;
  /** the offending character of an expression, from 0 */
  position?: number;
}

/** Checks a value; returns it with defaults filled in, or every problem at once. */
export function check<T>(schema: Joi.Schema, value: unknown): { value: T; problems: Problem[] } {
  const result = schema.validate(value, {
    abortEarly: false,
    convert: false,
    errors: { wrap: { label: false }, label: "key" },
  });
  return {
    value: result.value as T,
    problems: (result.error?.details ?? []).map((detail) => ({ path: detail.path, message: detail.message })),
  };
}
