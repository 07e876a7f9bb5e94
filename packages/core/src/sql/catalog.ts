/** The catalogue queries of a PostgreSQL server, as source and as warehouse. */

const userSchema =
  "n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg\\_toast%' AND n.nspname NOT LIKE 'pg\\_temp%'";

/** Every table and view this user may read; partitions are counted with their parent. */
export const datasets = `
SELECT n.nspname AS schema, c.relname AS name,
  CASE c.relkind WHEN 'v' THEN 'view' WHEN 'm' THEN 'materialized view' WHEN 'p' THEN 'partitioned table' WHEN 'f' THEN 'foreign table' ELSE 'table' END AS kind,
  CASE WHEN c.relkind IN ('v', 'f') THEN NULL WHEN c.relkind = 'p'
    THEN (SELECT sum(greatest(p.reltuples, 0))::bigint FROM pg_partition_tree(c.oid) t JOIN pg_class p ON p.oid = t.relid WHERE t.isleaf)
    ELSE nullif(c.reltuples, -1)::bigint END::text AS rows,
  CASE WHEN c.relkind IN ('v', 'f') THEN NULL WHEN c.relkind = 'p'
    THEN (SELECT sum(pg_total_relation_size(t.relid))::bigint FROM pg_partition_tree(c.oid) t WHERE t.isleaf)
    ELSE pg_total_relation_size(c.oid) END::text AS bytes,
  obj_description(c.oid, 'pg_class') AS comment
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'v', 'm', 'p', 'f') AND NOT c.relispartition AND ${userSchema} AND n.nspname <> 'undercoat'
  AND has_schema_privilege(n.oid, 'USAGE') AND has_table_privilege(c.oid, 'SELECT')
ORDER BY 1, 2`;

/** Resolves domains down to the type beneath; takes rows of (position, name, type_id, modifier, …) from `given`. */
const resolveTypes = `
resolved AS (
  SELECT g.position, g.type_id, g.modifier FROM given g
  UNION ALL
  SELECT r.position, t.typbasetype, CASE WHEN t.typtypmod >= 0 THEN t.typtypmod ELSE r.modifier END
  FROM resolved r JOIN pg_type t ON t.oid = r.type_id WHERE t.typtype = 'd'
)
SELECT g.name, format_type(g.type_id, g.modifier) AS declared, format_type(r.type_id, r.modifier) AS resolved,
  t.typtype AS kind, (t.typnamespace = 'pg_catalog'::regnamespace) AS built_in,
  e.typtype AS element_kind, format_type(e.oid, r.modifier) AS element, (e.typnamespace = 'pg_catalog'::regnamespace) AS element_built_in,
  g.not_null, g.generated, g.has_default, g.comment
FROM given g JOIN resolved r USING (position) JOIN pg_type t ON t.oid = r.type_id AND t.typtype <> 'd'
LEFT JOIN pg_type e ON e.oid = t.typelem AND t.typcategory = 'A'
ORDER BY g.position`;

/** The columns of a table or view; $1 its regclass text. */
export const tableColumns = `
WITH RECURSIVE given AS (
  SELECT a.attnum::int AS position, a.attname AS name, a.atttypid AS type_id, a.atttypmod AS modifier,
    (a.attnotnull OR (t.typtype = 'd' AND t.typnotnull)) AS not_null, (a.attgenerated <> '') AS generated, (a.atthasdef OR a.attidentity <> '') AS has_default, col_description(a.attrelid, a.attnum) AS comment
  FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid
  WHERE a.attrelid = $1::regclass AND a.attnum > 0 AND NOT a.attisdropped
), ${resolveTypes}`;

/** The columns of a query's result: $1 names, $2 type oids, $3 type modifiers. */
export const resultColumns = `
WITH RECURSIVE given AS (
  SELECT position::int, name, type_id::oid, modifier::int, false AS not_null, false AS generated, false AS has_default, NULL::text AS comment
  FROM unnest($1::text[], $2::bigint[], $3::int[]) WITH ORDINALITY AS u(name, type_id, modifier, position)
), ${resolveTypes}`;

/** The indexes of a table without expressions or conditions; $1 its regclass text. */
export const tableIndexes = `
SELECT c.relname AS name, i.indisunique AS is_unique, i.indisprimary AS is_primary,
  (SELECT json_agg(a.attname ORDER BY k.position) FROM unnest(i.indkey::int[]) WITH ORDINALITY k(number, position)
   JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.number WHERE k.position <= i.indnkeyatts) AS columns
FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid
WHERE i.indrelid = $1::regclass AND i.indexprs IS NULL AND i.indpred IS NULL AND i.indisvalid
ORDER BY i.indisprimary DESC, c.relname`;

/** The regclass text of a table, or null where there is none this user can see; $1 schema, $2 name. */
export const findTable = `SELECT c.oid::text AS oid FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relname = $2 AND c.relkind IN ('r', 'v', 'm', 'p', 'f')`;

export const serverFacts =
  "SELECT current_setting('server_version_num')::int / 10000 AS major, current_setting('server_version') AS version, current_user AS name, current_database() AS database";

export const canCreateSchema =
  "SELECT has_database_privilege(current_database(), 'CREATE') AS create, (to_regnamespace('undercoat') IS NULL OR has_schema_privilege('undercoat', 'CREATE')) AS house";

export const readableTables = `SELECT count(*) FILTER (WHERE has_schema_privilege(n.oid, 'USAGE') AND has_table_privilege(c.oid, 'SELECT'))::text AS readable, count(*)::text AS all FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'v', 'm', 'p', 'f') AND NOT c.relispartition AND ${userSchema}`;
