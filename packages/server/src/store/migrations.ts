import type { QueryInterface } from "sequelize";

/** The product's own tables, step by step; a step that has landed is never changed. */
export const migrations = [
  {
    name: "0001-first-tables",
    async up({ context }: { context: QueryInterface }): Promise<void> {
      await context.sequelize.query(`
CREATE TABLE users (id serial PRIMARY KEY, login text NOT NULL UNIQUE, name text NOT NULL, role text NOT NULL CHECK (role IN ('viewer', 'editor', 'administrator')), password text, active boolean NOT NULL DEFAULT true);
CREATE TABLE passes (id serial PRIMARY KEY, kind text NOT NULL CHECK (kind IN ('session', 'token', 'link')), hash text NOT NULL UNIQUE, user_id integer NOT NULL REFERENCES users ON DELETE CASCADE, name text,
  created_at timestamptz NOT NULL DEFAULT now(), last_used_at timestamptz, expires_at timestamptz);
CREATE TABLE connections (name text PRIMARY KEY, settings json NOT NULL, secret text);
CREATE TABLE pipelines (name text PRIMARY KEY, title text NOT NULL, definition json NOT NULL, next_at timestamptz, updated_at timestamptz NOT NULL DEFAULT now());
CREATE TABLE runs (id serial PRIMARY KEY, uid uuid NOT NULL UNIQUE, pipeline text NOT NULL, title text NOT NULL, definition json NOT NULL, kind text NOT NULL, status text NOT NULL, reason text NOT NULL, scope json NOT NULL,
  wants_rows boolean NOT NULL DEFAULT false, requested_by text, worker text, seen_at timestamptz, created_at timestamptz NOT NULL DEFAULT now(), started_at timestamptz, finished_at timestamptz, failure json);
CREATE INDEX ON runs (pipeline, id);
CREATE INDEX ON runs (status) WHERE status IN ('queued', 'running');
CREATE TABLE run_loads (id serial PRIMARY KEY, run_id integer NOT NULL REFERENCES runs ON DELETE CASCADE, load text NOT NULL, target text NOT NULL, status text NOT NULL, phase text, waiting_for text, tally json NOT NULL,
  bytes bigint NOT NULL DEFAULT 0, watermark text, proof_id integer, phases json NOT NULL, failure json, started_at timestamptz, finished_at timestamptz, UNIQUE (run_id, load));
CREATE TABLE run_lines (id serial PRIMARY KEY, run_id integer NOT NULL REFERENCES runs ON DELETE CASCADE, load text, at timestamptz NOT NULL, message text NOT NULL, sql text);
CREATE INDEX ON run_lines (run_id, id);
CREATE TABLE proofs (id serial PRIMARY KEY, run_id integer NOT NULL REFERENCES runs ON DELETE CASCADE, pipeline text NOT NULL, load text NOT NULL, target text NOT NULL, at timestamptz NOT NULL, verdict text NOT NULL, whole boolean NOT NULL,
  slice_count integer NOT NULL, agreeing integer NOT NULL, figures json NOT NULL, slices json NOT NULL, rows json, source_sql text NOT NULL, warehouse_sql text NOT NULL);
CREATE INDEX ON proofs (pipeline, load, id);
CREATE TABLE slices (pipeline text NOT NULL, load text NOT NULL, slice text NOT NULL, verdict text NOT NULL, figures json NOT NULL, proof_id integer NOT NULL, proved_at timestamptz NOT NULL, PRIMARY KEY (pipeline, load, slice));
CREATE INDEX ON slices (pipeline, load) WHERE verdict = 'disagrees';`);
    },
  },
  {
    name: "0002-findings-and-rehearsals",
    async up({ context }: { context: QueryInterface }): Promise<void> {
      await context.sequelize.query(`
ALTER TABLE run_loads ADD COLUMN findings json, ADD COLUMN rehearsal json;
ALTER TABLE runs ADD COLUMN row_limit integer;
ALTER TABLE proofs ADD COLUMN without text, ADD COLUMN trouble text;`);
    },
  },
  {
    name: "0003-depth",
    async up({ context }: { context: QueryInterface }): Promise<void> {
      await context.sequelize.query(`
ALTER TABLE proofs ADD COLUMN depth text NOT NULL DEFAULT 'figures', ADD COLUMN how text NOT NULL DEFAULT 'source', ADD COLUMN cells json;
ALTER TABLE slices ADD COLUMN depth text NOT NULL DEFAULT 'figures', ADD COLUMN cells_at timestamptz;
ALTER TABLE passes DROP CONSTRAINT passes_kind_check, ADD CHECK (kind IN ('session', 'token', 'link', 'setup')), ALTER COLUMN user_id DROP NOT NULL;`);
    },
  },
  {
    name: "0004-leases",
    async up({ context }: { context: QueryInterface }): Promise<void> {
      await context.sequelize.query(`
ALTER TABLE runs ADD COLUMN token uuid, ADD COLUMN lease_until timestamptz, ADD COLUMN asked integer NOT NULL DEFAULT 0, ADD COLUMN cancel_asked_at timestamptz, ADD COLUMN cancelled_by text, DROP COLUMN seen_at;
DROP INDEX runs_status_idx;
CREATE INDEX runs_open ON runs (status, lease_until) WHERE status IN ('queued', 'running', 'unknown');
ALTER TABLE pipelines ADD COLUMN saved_by text;
CREATE TABLE seats (connection text NOT NULL, run_id integer NOT NULL REFERENCES runs ON DELETE CASCADE, load text NOT NULL, PRIMARY KEY (connection, run_id, load));`);
    },
  },
  {
    name: "0005-standings",
    async up({ context }: { context: QueryInterface }): Promise<void> {
      // How each load stands now, kept beside its history: the ledger asks no more than this.
      await context.sequelize.query(`
CREATE TABLE standings (pipeline text NOT NULL, load text NOT NULL, run_id integer, status text, failure json, ended_at timestamptz, loaded_at timestamptz, rejected bigint NOT NULL DEFAULT 0,
  proof_id integer, proof_run_id integer, whole_id integer, whole_run_id integer, PRIMARY KEY (pipeline, load));
INSERT INTO standings (pipeline, load, run_id, status, failure, ended_at, rejected)
SELECT DISTINCT ON (r.pipeline, l.load) r.pipeline, l.load, r.id, l.status, l.failure, l.finished_at, coalesce((l.tally ->> 'rejected')::bigint, 0)
FROM run_loads l JOIN runs r ON r.id = l.run_id WHERE r.kind IN ('load', 'repair') AND l.finished_at IS NOT NULL ORDER BY r.pipeline, l.load, r.id DESC;
UPDATE standings s SET loaded_at = f.at FROM (SELECT r.pipeline, l.load, max(l.finished_at) AS at FROM run_loads l JOIN runs r ON r.id = l.run_id WHERE l.status = 'finished' AND r.kind IN ('load', 'repair') GROUP BY 1, 2) f WHERE f.pipeline = s.pipeline AND f.load = s.load;
INSERT INTO standings (pipeline, load, proof_id, proof_run_id) SELECT DISTINCT ON (pipeline, load) pipeline, load, id, run_id FROM proofs ORDER BY pipeline, load, id DESC
ON CONFLICT (pipeline, load) DO UPDATE SET proof_id = excluded.proof_id, proof_run_id = excluded.proof_run_id;
UPDATE standings s SET whole_id = p.id, whole_run_id = p.run_id FROM (SELECT DISTINCT ON (pipeline, load) pipeline, load, id, run_id FROM proofs WHERE whole ORDER BY pipeline, load, id DESC) p WHERE p.pipeline = s.pipeline AND p.load = s.load;
CREATE INDEX runs_latest ON runs (pipeline, kind, id);
CREATE INDEX runs_ended ON runs (finished_at);
CREATE INDEX ON proofs (run_id);
CREATE INDEX ON seats (run_id);`);
    },
  },
  {
    name: "0006-history",
    async up({ context }: { context: QueryInterface }): Promise<void> {
      await context.sequelize.query("ALTER TABLE proofs ADD COLUMN history json, ADD COLUMN within json");
    },
  },
  {
    name: "0007-targets",
    async up({ context }: { context: QueryInterface }): Promise<void> {
      // Who wrote each table last, kept beside the runs: it outlives them and their pipelines.
      await context.sequelize.query(`
CREATE TABLE targets (connection text NOT NULL, target text NOT NULL, title text NOT NULL, loaded_at timestamptz NOT NULL, PRIMARY KEY (connection, target));
INSERT INTO targets SELECT DISTINCT ON (1, 2) r.definition ->> 'warehouse', l.target, r.title, l.finished_at
FROM run_loads l JOIN runs r ON r.id = l.run_id WHERE r.kind IN ('load', 'repair') AND l.status = 'finished' ORDER BY 1, 2, l.id DESC;`);
    },
  },
  {
    name: "0008-values",
    async up({ context }: { context: QueryInterface }): Promise<void> {
      // What a load wrote stands under a line for each set of values; runs that were asked for together stand under the first.
      await context.sequelize.query(`
ALTER TABLE runs ADD COLUMN given json NOT NULL DEFAULT '{}', ADD COLUMN "values" json NOT NULL DEFAULT '{}', ADD COLUMN heading integer;
CREATE INDEX runs_heading ON runs (heading) WHERE heading IS NOT NULL;
ALTER TABLE run_loads ADD COLUMN line text NOT NULL DEFAULT '';
ALTER TABLE proofs ADD COLUMN line text NOT NULL DEFAULT '';
DROP INDEX proofs_pipeline_load_id_idx;
CREATE INDEX proofs_of_line ON proofs (pipeline, load, line, id);
ALTER TABLE slices ADD COLUMN line text NOT NULL DEFAULT '', DROP CONSTRAINT slices_pkey, ADD PRIMARY KEY (pipeline, load, line, slice);
ALTER TABLE standings ADD COLUMN line text NOT NULL DEFAULT '', DROP CONSTRAINT standings_pkey, ADD PRIMARY KEY (pipeline, load, line);`);
    },
  },
  {
    name: "0009-versions",
    async up({ context }: { context: QueryInterface }): Promise<void> {
      await context.sequelize.query(`
CREATE TABLE versions (pipeline text NOT NULL, number integer NOT NULL, definition json NOT NULL, author text, note text, name text, at timestamptz NOT NULL, PRIMARY KEY (pipeline, number));
ALTER TABLE pipelines ADD COLUMN version integer NOT NULL DEFAULT 1;
ALTER TABLE runs ADD COLUMN version integer, ADD COLUMN schedule text;
INSERT INTO versions (pipeline, number, definition, author, at) SELECT name, 1, definition, saved_by, updated_at FROM pipelines;
CREATE TABLE drafts (pipeline text NOT NULL, user_id integer NOT NULL REFERENCES users ON DELETE CASCADE, origin json NOT NULL, base timestamptz NOT NULL, steps json NOT NULL, at timestamptz NOT NULL, PRIMARY KEY (pipeline, user_id));
CREATE TABLE timers (pipeline text NOT NULL, schedule text NOT NULL, "after" text, proved boolean NOT NULL DEFAULT false, apart json, next_at timestamptz, begun integer NOT NULL DEFAULT 0, PRIMARY KEY (pipeline, schedule));
CREATE INDEX timers_due ON timers (next_at);
CREATE TABLE facts (name text PRIMARY KEY, value json NOT NULL);
CREATE TABLE favourites (user_id integer NOT NULL REFERENCES users ON DELETE CASCADE, pipeline text NOT NULL, PRIMARY KEY (user_id, pipeline));`);
    },
  },
  {
    name: "0010-backfills",
    async up({ context }: { context: QueryInterface }): Promise<void> {
      await context.sequelize.query(`
CREATE TABLE backfills (id serial PRIMARY KEY, pipeline text NOT NULL, loads json NOT NULL, given json NOT NULL, "from" text NOT NULL, "to" text NOT NULL, by text NOT NULL, "order" text NOT NULL, parallel integer NOT NULL,
  status text NOT NULL, problem text, requested_by text, created_at timestamptz NOT NULL, finished_at timestamptz);
CREATE TABLE backfill_slices (backfill_id integer NOT NULL REFERENCES backfills ON DELETE CASCADE, "from" text NOT NULL, "to" text NOT NULL, status text NOT NULL, run_id integer, PRIMARY KEY (backfill_id, "from"));
CREATE INDEX backfill_runs ON backfill_slices (run_id);
ALTER TABLE runs ADD COLUMN backfill integer;`);
    },
  },
  {
    name: "0011-messages",
    async up({ context }: { context: QueryInterface }): Promise<void> {
      await context.sequelize.query(`
CREATE TABLE messages (name text PRIMARY KEY, definition json NOT NULL, secret text);
CREATE TABLE troubles (message text NOT NULL REFERENCES messages ON DELETE CASCADE, pipeline text NOT NULL, load text NOT NULL, line text NOT NULL, kind text NOT NULL, says text NOT NULL, since timestamptz NOT NULL, run_id integer, PRIMARY KEY (message, pipeline, load, line, kind));
CREATE TABLE deliveries (id serial PRIMARY KEY, uid uuid NOT NULL DEFAULT gen_random_uuid(), message text NOT NULL REFERENCES messages ON DELETE CASCADE, pipeline text NOT NULL, body json NOT NULL, status text NOT NULL, attempts json NOT NULL, tries integer NOT NULL,
  created_at timestamptz NOT NULL, next_at timestamptz);
CREATE INDEX deliveries_due ON deliveries (next_at) WHERE status = 'waiting';
CREATE INDEX deliveries_of ON deliveries (message, id);`);
    },
  },
  {
    name: "0012-workers",
    async up({ context }: { context: QueryInterface }): Promise<void> {
      await context.sequelize.query(`
CREATE TABLE workers (name text PRIMARY KEY, host text NOT NULL, pid integer NOT NULL, version text NOT NULL, parallel integer NOT NULL, resting boolean NOT NULL, memory bigint NOT NULL, started_at timestamptz NOT NULL, seen_at timestamptz NOT NULL);
CREATE INDEX runs_queued ON runs (pipeline) WHERE status = 'queued';`);
    },
  },
  {
    name: "0013-arrivals",
    async up({ context }: { context: QueryInterface }): Promise<void> {
      await context.sequelize.query("ALTER TABLE timers ADD COLUMN seen json");
    },
  },
  {
    name: "0014-consent",
    async up({ context }: { context: QueryInterface }): Promise<void> {
      await context.sequelize.query(`
ALTER TABLE connections ADD COLUMN consent text;
CREATE TABLE consents (state text PRIMARY KEY, connection text NOT NULL REFERENCES connections ON DELETE CASCADE ON UPDATE CASCADE, user_id integer NOT NULL REFERENCES users ON DELETE CASCADE, verifier text NOT NULL, redirect text NOT NULL, expires_at timestamptz NOT NULL);`);
    },
  },
  {
    name: "0015-modules",
    async up({ context }: { context: QueryInterface }): Promise<void> {
      await context.sequelize.query("ALTER TABLE versions ADD COLUMN modules json");
    },
  },
  {
    name: "0016-counts",
    async up({ context }: { context: QueryInterface }): Promise<void> {
      await context.sequelize.query("ALTER TABLE proofs ADD COLUMN counted json");
    },
  },
];
