import { literal } from "./literal.ts";

/**
 * The settings of every session: those under which both sides print the same value as the same text, those on which the
 * reading of our own statements rests, and those that keep a statement from being hidden or ended. Author's SQL can't
 * change them, and where it runs they are set anew and verified before each statement of ours.
 */
const settings: Record<string, string> = {
  TimeZone: "UTC",
  DateStyle: "ISO, YMD",
  IntervalStyle: "postgres",
  extra_float_digits: "1",
  bytea_output: "hex",
  standard_conforming_strings: "on",
  backslash_quote: "safe_encoding",
  xmloption: "content",
  lc_monetary: "C",
  lc_numeric: "C",
  lc_time: "C",
  jit: "off",
  statement_timeout: "0",
  lock_timeout: "0",
  idle_in_transaction_session_timeout: "0",
};

/** Rows that a policy hides from a role are an error, unless the role's own view of them is what was asked for. */
export type RowSecurity = "off" | "on";

function withRows(rows: RowSecurity): [string, string][] {
  return Object.entries({ ...settings, row_security: rows });
}

export function setSession(rows: RowSecurity): string {
  return withRows(rows)
    .map(([name, value]) => `SET ${name} = '${value}'`)
    .join("; ");
}

/** Gives `settled`, true ('t') where every setting is as it was set. */
export function settledSession(rows: RowSecurity): string {
  return `SELECT ${withRows(rows)
    .map(([name, value]) => `current_setting('${name}') = '${value}'`)
    .join(" AND ")} AS settled`;
}

/** Built-in names mean the built-in things, whatever schemas a role's own path names first. */
export const builtInFirst = "SELECT set_config('search_path', 'pg_catalog, ' || current_setting('search_path'), false)";

export const readOnlySession = (readOnly: boolean) => `SET default_transaction_read_only = ${readOnly ? "on" : "off"}`;

/** A statement at work whose client is gone ends by itself and frees its locks; servers from version 14 on. */
export const noticeLostClient =
  "SELECT set_config('client_connection_check_interval', '2s', false) WHERE current_setting('server_version_num')::int >= 140000";

export const named = (application: string) => `SET application_name = ${literal(application)}`;

/** Undoes everything that a session's work may have left: transaction, locks, temporary things, settings. */
export const forgetWork =
  "ROLLBACK; SELECT pg_advisory_unlock_all(); DISCARD TEMP; DISCARD SEQUENCES; UNLISTEN *; RESET ALL; SET application_name = 'undercoat, idle'";

export const backend = "SELECT pg_backend_pid() AS pid";
export const terminateBackend = "SELECT pg_terminate_backend($1::int)";

/** Which database this is: the cluster's own number and the database's. */
export const databaseIdentity =
  "SELECT c.system_identifier || '/' || d.oid AS identity FROM pg_control_system() c, pg_database d WHERE d.datname = current_database()";

/** What time it is at a server, as `moment`. */
export const clock = "SELECT clock_timestamp()::text AS moment";

export const beginSnapshot = "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY";
/** Begins the transaction of a load whose source is the same database: what it reads is one moment. */
export const beginInside = "BEGIN ISOLATION LEVEL REPEATABLE READ";

/** Lets other sessions read at the moment of this one's transaction, for as long as it lasts; gives its name as `moment`. */
export const shareMoment = "SELECT pg_export_snapshot() AS moment";
/** Begins a reading transaction at another's moment, that waits for no lock for long. */
export const beginAt = (moment: string) =>
  `${beginSnapshot}; SET TRANSACTION SNAPSHOT ${literal(moment)}; SET LOCAL lock_timeout = '60s'`;

/** The tables and views among some names that can be locked, as `name` and regclass text `locked`. Parameter: names as an array, quoted where they need it. */
export const lockable =
  "SELECT n.name, c.oid::regclass::text AS locked, c.relkind FROM unnest($1::text[]) n(name) JOIN pg_class c ON c.oid = to_regclass(n.name) WHERE c.relkind IN ('r', 'p', 'v')";

/** Keeps tables from being rewritten or emptied until the transaction ends. Its moment begins after this. */
export function lockShared(tables: readonly string[], patience: string): string[] {
  return [
    `SET LOCAL lock_timeout = '${patience}'`,
    ...tables.map((table) => `LOCK TABLE ${table} IN ACCESS SHARE MODE`),
    "SET LOCAL lock_timeout = 0",
  ];
}

/** Who keeps some tables to themselves. Parameter: names as an array. */
export const exclusiveHolders = `SELECT DISTINCT l.relation::regclass::text AS name, coalesce(nullif(a.application_name, ''), a.usename, 'a session') || ' (process ' || a.pid || ')' AS holder
FROM pg_locks l JOIN pg_stat_activity a USING (pid) WHERE l.granted AND l.mode = 'AccessExclusiveLock' AND l.locktype = 'relation' AND l.relation IN (SELECT to_regclass(n)::oid FROM unnest($1::text[]) n)`;

/** Functions and operators of some names with what decides on them: whether any is volatile, and which stand outside PostgreSQL's own schema. Parameter: names as an array. */
export const functionFacts = `SELECT p.proname AS name, n.nspname AS schema, bool_or(p.provolatile = 'v')::text AS volatile FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
WHERE p.proname = ANY($1::text[]) AND (n.nspname = 'pg_catalog' OR pg_function_is_visible(p.oid) OR n.nspname = ANY($2::text[])) GROUP BY 1, 2 ORDER BY 1, 2`;
export const operatorFacts = `SELECT DISTINCT o.oprname AS name, n.nspname AS schema, p.proname AS function FROM pg_operator o JOIN pg_namespace n ON n.oid = o.oprnamespace JOIN pg_proc p ON p.oid = o.oprcode JOIN pg_language l ON l.oid = p.prolang
WHERE o.oprname = ANY($1::text[]) AND n.nspname <> 'pg_catalog' AND l.lanname NOT IN ('internal', 'c') ORDER BY 1, 2`;
