import { Cron } from "croner";
import Joi from "joi";
import { parseFigure } from "../proof/figure.ts";
import { durationSeconds } from "../schedule/duration.ts";
import { isZone } from "../schedule/schedule.ts";
import { NameError, parseTableName } from "../sql/identifier.ts";

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
      return helpers.message({ custom: `{{#label}}: ${(error as Error).message.replaceAll("{", "(").replaceAll("}", ")")}` });
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
const tableName = Joi.string().custom(checked(parseTableName), "schema.table");
const zone = Joi.string().custom(
  checked((value) => {
    if (!isZone(value)) throw new NameError(`${value} is not a time zone; write one like Europe/Oslo`);
  }),
  "time zone",
);

const from = Joi.object({
  connection: slug.required(),
  table: tableName,
  query: Joi.string().max(100_000),
  where: Joi.string().max(20_000),
})
  .xor("table", "query")
  .messages({
    "object.missing": "{{#label}} needs a table or a query",
    "object.xor": "{{#label}} has both a table and a query; keep one",
  });

const watermark = Joi.object({
  column: column.required(),
  lookBack: Joi.string().custom(
    checked((value) => {
      if (!/^\d{1,18}$/.test(value)) durationSeconds(value);
    }),
    "look-back",
  ),
});

const into = Joi.object({
  table: tableName.required(),
  mode: Joi.string().valid("replace", "append", "upsert").required(),
  key: Joi.array().items(column).min(1).unique().when("mode", {
    is: "upsert",
    // biome-ignore lint/suspicious/noThenProperty: Joi's word for a condition's outcome
    then: Joi.required().messages({ "any.required": "{{#label}} is needed: an upsert must know which columns identify a row" }),
  }),
  deleted: Joi.string().valid("keep"),
});

const proof = Joi.object({
  by: Joi.object({
    column: column.required(),
    slice: Joi.string().valid("hour", "day", "week", "month", "year").required(),
    zone,
  }),
  figures: Joi.array().items(Joi.string().custom(checked(parseFigure), "figure")).min(1).unique().required(),
});

export const loadSchema = Joi.object({
  from: from.required(),
  watermark,
  columns: Joi.object().pattern(columnPattern, column).min(1).max(1600),
  into: into.required(),
  proof,
}).custom((load, helpers) => {
  const { mode, key } = load.into;
  if (mode === "append" && !load.watermark && !key)
    return helpers.message({ custom: "{{#label}} appends without a watermark or a key, so every run would add all rows again; give it one of them" });
  return load;
}, "append");

export const scheduleSchema = Joi.object({
  every: Joi.string().custom(
    checked((value) => {
      const seconds = durationSeconds(value);
      if (seconds < 60 || seconds > 31 * 86_400) throw new RangeError("an interval lies between one minute and 31 days");
    }),
    "interval",
  ),
  cron: Joi.string().custom(
    checked((value) => {
      if (value.trim().split(/\s+/).length !== 5) throw new RangeError("a cron schedule has five fields");
      new Cron(value).stop();
    }),
    "cron",
  ),
  zone,
  paused: Joi.boolean(),
})
  .xor("every", "cron")
  .messages({ "object.missing": "{{#label}} needs every or cron", "object.xor": "{{#label}} has both every and cron; keep one" });

export const pipelineSchema = Joi.object({
  title: Joi.string().min(1).max(120).required(),
  warehouse: slug.required(),
  loads: Joi.object().pattern(slugPattern, loadSchema).min(1).max(500).required(),
  schedule: scheduleSchema,
});

export const connectionSchema = Joi.object({
  kind: Joi.string().valid("postgres").required(),
  host: Joi.string().min(1).max(255).required(),
  port: Joi.number().integer().min(1).max(65_535).default(5432),
  database: Joi.string().min(1).max(63).required(),
  user: Joi.string().min(1).max(63).required(),
  password: Joi.alternatives(
    Joi.string().allow("").max(1024),
    Joi.object({ env: Joi.string().required() }),
  ),
  tls: Joi.string().valid("off", "require", "verify").default("off"),
});

export const projectSchema = Joi.object({
  undercoat: Joi.number().valid(1).required(),
  connections: Joi.object().pattern(slugPattern, connectionSchema),
  pipelines: Joi.object().pattern(slugPattern, pipelineSchema.keys({ title: Joi.string().min(1).max(120) })),
});

/** One thing wrong, where it is (`loads.booking.into.key`), and what it is. */
export interface Problem {
  path: (string | number)[];
  message: string;
}

/** Checks a value; returns it with defaults filled in, or every problem at once. */
export function check<T>(schema: Joi.Schema, value: unknown): { value: T; problems: Problem[] } {
  const result = schema.validate(value, { abortEarly: false, convert: false, errors: { wrap: { label: false }, label: "key" } });
  return {
    value: result.value as T,
    problems: (result.error?.details ?? []).map((detail) => ({ path: detail.path, message: detail.message })),
  };
}
