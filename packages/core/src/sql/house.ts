import { formatTableName, identifier, type TableName } from "./identifier.ts";
import { createTold } from "./told.ts";

/** Undercoat's own schema in a warehouse: what it needs to know there, in the same transaction as the rows. */
export const houseSchema = "undercoat";

/**
 * Under which name the house keeps what it knows of a load's target: the table's, and of one that several loads share also
 * the part that is the load's own.
 */
export function placeName({
  write: { target, part },
}: {
  write: { target: TableName; part: { text: string } | null };
}): string {
  return part ? `${formatTableName(target)} where ${part.text}` : formatTableName(target);
}

/** A lock's first number: 'unde'. */
const lockSpace = 1970169957;

/**
 * The versions of that schema, one step each; a step that has landed is never changed. Rejected rows stand in the
 * warehouse, written in the load's own transaction: a row stays on the list until a run has read it again (`left_run`);
 * `identity` is the hash of what identifies it, `content` that of its every value, `key` the warehouse key where it could
 * be made, and `covered` tells that another row of that key was accepted.
 */
const steps = [
  `CREATE TABLE IF NOT EXISTS undercoat.watermark (
  target text PRIMARY KEY, pipeline text NOT NULL, load text NOT NULL, fingerprint text NOT NULL,
  value text NOT NULL, run uuid NOT NULL, at timestamptz NOT NULL DEFAULT now());
CREATE TABLE IF NOT EXISTS undercoat.tally (
  run uuid NOT NULL, pipeline text NOT NULL, load text NOT NULL, target text NOT NULL,
  read bigint NOT NULL, new bigint NOT NULL, changed bigint NOT NULL, same bigint NOT NULL, rejected bigint NOT NULL, deleted bigint NOT NULL,
  watermark text, proof json NOT NULL, at timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (run, load),
  CHECK (read = new + changed + same + rejected));
CREATE TABLE IF NOT EXISTS undercoat.known (
  target text PRIMARY KEY, pipeline text NOT NULL, load text NOT NULL, columns json NOT NULL, swept_at timestamptz);
CREATE TABLE IF NOT EXISTS undercoat.rejected (
  id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, run uuid NOT NULL, number integer NOT NULL, pipeline text NOT NULL, load text NOT NULL, target text NOT NULL,
  code text NOT NULL, col text, reason text NOT NULL, message text NOT NULL, identity bigint NOT NULL, key text[], original json, at timestamptz NOT NULL DEFAULT now(),
  left_run uuid, left_at timestamptz);
CREATE INDEX IF NOT EXISTS rejected_target ON undercoat.rejected (target, identity) WHERE left_run IS NULL;
CREATE INDEX IF NOT EXISTS rejected_run ON undercoat.rejected (run, load)`,
  "ALTER TABLE undercoat.rejected ADD COLUMN content bigint, ADD COLUMN covered boolean NOT NULL DEFAULT false",
  "ALTER TABLE undercoat.tally ADD COLUMN void boolean NOT NULL DEFAULT false",
  `CREATE TABLE undercoat.history (
  target text PRIMARY KEY, pipeline text NOT NULL, load text NOT NULL, shape json NOT NULL, moment timestamptz, surrogate bigint);
ALTER TABLE undercoat.tally ADD COLUMN versions bigint, ADD COLUMN closed bigint, ADD COLUMN overwritten bigint, ADD COLUMN moment timestamptz`,
  "ALTER TABLE undercoat.rejected ADD COLUMN file text",
  createTold,
];

/** The version that this program works with. */
export const houseVersion = steps.length;

/** Brings the schema from one version to the present one; sessions that come at once do it one after another, so the version is asked again under the lock. */
export const lockHouse = `SELECT pg_advisory_xact_lock(${lockSpace}, 0)`;
export const createHouse = `CREATE SCHEMA IF NOT EXISTS undercoat;
COMMENT ON SCHEMA undercoat IS 'What Undercoat has loaded here: watermarks, and each run''s tally and proof';
CREATE TABLE IF NOT EXISTS undercoat.version (number integer PRIMARY KEY, at timestamptz NOT NULL DEFAULT now())`;
export function furnish(from: number): string {
  return steps
    .slice(from)
    .map((step, at) => `${step};\nINSERT INTO undercoat.version (number) VALUES (${from + at + 1})`)
    .join(";\n");
}

/** True ('t') where there is a version to ask for. */
export const hasVersion = "SELECT to_regclass('undercoat.version') IS NOT NULL AS known";
export const readVersion = "SELECT coalesce(max(number), 0)::text AS version FROM undercoat.version";

/** A lock's second number: the target's hash. */
const lockKey = "$1::text";

export const tryLock = `SELECT pg_try_advisory_lock(${lockSpace}, hashtext(${lockKey})) AS locked`;
export const awaitLock = `SELECT pg_advisory_lock(${lockSpace}, hashtext(${lockKey}))`;
/** Waits until no run writes a target, and keeps the next one from beginning; any number of readers may hold it. */
export const awaitSharedLock = `SELECT pg_advisory_lock_shared(${lockSpace}, hashtext(${lockKey}))`;

/** Who holds a target's lock, by the name its session gave itself. */
export const lockHolder = `SELECT a.application_name AS holder FROM pg_locks l JOIN pg_stat_activity a USING (pid)
WHERE l.locktype = 'advisory' AND l.granted AND l.classid = ${lockSpace} AND l.objid::bigint = (hashtext(${lockKey})::bigint & 4294967295) AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database()) LIMIT 1`;

export const readWatermark =
  "SELECT value, fingerprint FROM undercoat.watermark WHERE target = $1 AND pipeline = $2 AND load = $3";

export const keepWatermark = `INSERT INTO undercoat.watermark (target, pipeline, load, fingerprint, value, run) VALUES ($1, $2, $3, $4, $5, $6)
ON CONFLICT (target) DO UPDATE SET pipeline = excluded.pipeline, load = excluded.load, fingerprint = excluded.fingerprint, value = excluded.value, run = excluded.run, at = now()`;

/**
 * Forgets how far others have read into a table: all of them where it was made anew or is one load's alone, else the one that
 * held all of it. Parameters: place, target, whether all.
 */
export const forgetOthers =
  "DELETE FROM undercoat.watermark WHERE target <> $1 AND (target = $2 OR ($3 = 't' AND starts_with(target, $2 || ' where ')))";

/** The source's columns as the last load knew them, whether rows gone from the source are due to be looked for, and the history that the target keeps. Parameters: place, pipeline, load, interval or null, target. */
export const readKnown = `SELECT k.columns::text, coalesce(k.swept_at + $4::interval <= now(), true) AS sweep, h.shape::text AS shape FROM (SELECT $1::text AS target) t
LEFT JOIN undercoat.known k ON k.target = t.target AND k.pipeline = $2 AND k.load = $3 LEFT JOIN undercoat.history h ON h.target = $5`;

/** Parameters: target, pipeline, load, columns, whether rows gone from the source were looked for. */
export const keepKnown = `INSERT INTO undercoat.known (target, pipeline, load, columns, swept_at) VALUES ($1, $2, $3, $4, CASE WHEN $5 = 't' THEN now() END)
ON CONFLICT (target) DO UPDATE SET pipeline = excluded.pipeline, load = excluded.load, columns = excluded.columns, swept_at = coalesce(excluded.swept_at, undercoat.known.swept_at)`;

export const keepTally = `INSERT INTO undercoat.tally (run, pipeline, load, target, read, new, changed, same, rejected, deleted, watermark, proof, versions, closed, overwritten, moment)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16)`;

/**
 * Takes a load's place in the tallies, so that whoever had begun it can't commit any more. It waits for one that is just
 * committing; afterwards `readTally` says how it ended. Parameters: run, pipeline, load, target.
 */
export const voidTally = `INSERT INTO undercoat.tally (run, pipeline, load, target, read, new, changed, same, rejected, deleted, proof, void)
VALUES ($1, $2, $3, $4, 0, 0, 0, 0, 0, 0, 'null', true) ON CONFLICT (run, load) DO NOTHING`;
export const settlePatience = "SET lock_timeout = '10s'";

/** What a run has committed in the warehouse, for one whose worker could not say so. */
export const readTally =
  "SELECT load, read, new, changed, same, rejected, deleted, versions, closed, overwritten, watermark, proof FROM undercoat.tally WHERE run = $1 AND NOT void";

/** The oldest whole proof of a target that is kept with its moment and holds. Parameter: target. */
export const oldestProof =
  "SELECT proof::text AS proof, moment::text AS moment FROM undercoat.tally WHERE target = $1 AND moment IS NOT NULL AND NOT void AND (proof ->> 'whole')::boolean AND proof ->> 'verdict' = 'proved' AND coalesce(proof ->> 'without', '0') = '0' ORDER BY at LIMIT 1";

/** Puts what is known of a pipeline's loads under another pipeline. Parameters: the pipeline before, the one after, a load or null for all. */
export const readdressing = ["watermark", "known", "rejected", "told", "history", "tally"].map(
  (table) => `UPDATE undercoat.${table} SET pipeline = $2 WHERE pipeline = $1 AND ($3::text IS NULL OR load = $3)`,
);

/** Takes away what was kept longer than $1, some rows at a time: of each target the latest tally stays. */
export const prunedAtOnce = 2000;
export const pruning = [
  `DELETE FROM undercoat.tally WHERE ctid = ANY (ARRAY(SELECT y.ctid FROM undercoat.tally y WHERE y.at < now() - $1::interval AND y.run NOT IN (SELECT w.run FROM undercoat.watermark w) LIMIT ${prunedAtOnce}))`,
  `DELETE FROM undercoat.rejected WHERE ctid = ANY (ARRAY(SELECT ctid FROM undercoat.rejected WHERE left_at < now() - $1::interval LIMIT ${prunedAtOnce}))`,
  // What a source was told of is known for as long as the row is.
  `DELETE FROM undercoat.told WHERE ctid = ANY (ARRAY(SELECT t.ctid FROM undercoat.told t WHERE t.at < now() - $1::interval AND NOT EXISTS (SELECT 1 FROM undercoat.rejected r WHERE r.target = t.target AND r.content = t.content AND r.reason = t.reason) LIMIT ${prunedAtOnce}))`,
];

/** The tables that keep what runs did to histories. */
export const deedsTables = `SELECT format('%I.%I', n.nspname, c.relname) AS name FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = '${houseSchema}' AND c.relkind = 'r' AND c.relname ~ '^deeds_[0-9a-f]{16}$'`;

/** Takes away what runs did longer ago than $1, the first load's word first. */
export const pruneDeeds = (table: string) =>
  `DELETE FROM ${table} WHERE ctid = ANY (ARRAY(SELECT ctid FROM ${table} WHERE "undercoat moment" < now() - $1::interval ORDER BY "undercoat moment" LIMIT ${prunedAtOnce}))`;

export const createSchema = (schema: string) => `CREATE SCHEMA IF NOT EXISTS ${identifier(schema)}`;

/** Makes a schema at once, apart from any load's transaction, so that loads into one new schema need not wait for each other. */
export const makeSchema = (schema: string) => `${lockHouse}; ${createSchema(schema)}`;
