import type { Dataset } from "../dataset/dataset.ts";
import { type HistoryPlan, planColumns } from "../history/plan.ts";
import type { HistoryShape } from "../history/shape.ts";
import type { LoadPlan } from "../plan/plan.ts";
import { formatTableName, identifier, identifiers, qualified, type TableName } from "./identifier.ts";
import { literal, typedLiteral } from "./literal.ts";
import { keyColumns } from "./read.ts";
import { addKey, defaultOf, definitions, identifying, ownColumns, type TargetChange, targetChanges } from "./target.ts";
import {
  deedsTable,
  flag,
  historyOf,
  holdsAt,
  isOpen,
  moment,
  momentsTable,
  numbersSequence,
  openEnd,
  opens,
} from "./version.ts";

/** What a target needs to keep versions, beyond its columns: moments, keys, numbers, and views for queries. */

const name63 = (name: string) => name.slice(0, 63);

/** Makes what a history keeps beside its target, and starts it anew where the target is yet to be made; numbers are never given twice. */
export function keepHistory(plan: LoadPlan): string[] {
  const { target } = plan.write;
  const history = historyOf(plan);
  const moments = qualified(momentsTable(target));
  const key = keyColumns(plan);
  const shape = literal(JSON.stringify(shapeOf(plan, history)));
  return [
    ...(history.fresh
      ? [`DROP TABLE IF EXISTS ${moments}`, `DROP TABLE IF EXISTS ${qualified(deedsTable(target))}`, forgetProofs(plan)]
      : []),
    `CREATE TABLE IF NOT EXISTS ${moments} (${definitions(
      key,
      key.map((column) => column.name),
    )}, "undercoat at" timestamptz NOT NULL, "undercoat gone" boolean NOT NULL, PRIMARY KEY (${identifiers(key.map((column) => column.name))}, "undercoat at", "undercoat gone"))`,
    ...(history.since ? keepDeeds(plan, history) : []),
    `INSERT INTO undercoat.history (target, pipeline, load, shape) VALUES (${[formatTableName(target), plan.pipeline, plan.load].map(literal).join(", ")}, ${shape})
ON CONFLICT (target) DO UPDATE SET pipeline = excluded.pipeline, load = excluded.load, shape = excluded.shape WHERE (history.pipeline, history.load, history.shape::text) IS DISTINCT FROM (excluded.pipeline, excluded.load, excluded.shape::text)`,
    ...(history.surrogate && history.numbered ? [keepNumber(plan, history.surrogate.column)] : []),
  ];
}

function keepDeeds(plan: LoadPlan, history: HistoryPlan): string[] {
  const table = deedsTable(plan.write.target);
  const deeds = qualified(table);
  const begun = `INSERT INTO ${deeds} ("undercoat moment", "undercoat did") VALUES (${moment(plan)}, 'new')`;
  const index = (what: string) => identifier(`${table.table}_${what}`);
  return [
    `CREATE TABLE IF NOT EXISTS ${deeds} (${definitions(keyColumns(plan), [])}, "undercoat at" timestamptz, "undercoat moment" timestamptz NOT NULL, "undercoat did" text NOT NULL)`,
    `CREATE INDEX IF NOT EXISTS ${index("key")} ON ${deeds} (${identifiers(plan.write.key)})`,
    `CREATE INDEX IF NOT EXISTS ${index("moment")} ON ${deeds} USING brin ("undercoat moment")`,
    ...(history.fresh && plan.write.keyGuaranteed ? [begun] : []),
  ];
}

/** Where the past goes, nothing can be asked of it any more. */
const forgetProofs = ({ write: { target } }: LoadPlan) =>
  `UPDATE undercoat.tally SET moment = NULL WHERE target = ${literal(formatTableName(target))}`;

function shapeOf(plan: LoadPlan, history: HistoryPlan): HistoryShape {
  return {
    key: plan.write.key,
    from: history.from,
    to: history.to,
    end: history.end,
    current: { column: history.current.column, yes: history.current.yes },
    change: history.change,
    surrogate: history.surrogate?.column ?? null,
    roles: [...history.roles],
    previous: [...history.previous],
    overwrite: history.overwrite,
    since: history.since?.source ?? null,
  };
}

/** The moment that a load of a history gives what it opens and ends, as `moment`. */
export function readMoment(plan: LoadPlan): string {
  return `SELECT (${moment(plan)})::text AS moment`;
}

/** Keeps the latest moment that a history has used. */
export function keepMoment(plan: LoadPlan): string {
  return `UPDATE undercoat.history SET moment = ${moment(plan)} WHERE target = ${literal(formatTableName(plan.write.target))}`;
}

/** The number after the last one given to a version. */
export function nextNumber(plan: LoadPlan, { start, step }: { start: number; step: number }): string {
  return `(SELECT coalesce(h.surrogate + ${step}, ${start}) FROM undercoat.history h WHERE h.target = ${literal(formatTableName(plan.write.target))})`;
}

/** Keeps the last number given to a version; the target's own are not passed by, whoever gave them. */
export function keepNumber(plan: LoadPlan, column: string): string {
  return `UPDATE undercoat.history h SET surrogate = m.last FROM (SELECT max(${identifier(column)}) AS last FROM ${qualified(plan.write.target)}) m WHERE h.target = ${literal(formatTableName(plan.write.target))} AND m.last > coalesce(h.surrogate, m.last - 1)`;
}

/** From when a row that stands in a target taken over is valid: its time where it holds one, else just before this read, which may end it. */
function takenFrom(plan: LoadPlan, history: HistoryPlan, held: ReadonlySet<string>): string {
  if (history.first !== null) return typedLiteral(history.first, "timestamptz");
  const since = history.since?.written;
  const before = `${moment(plan)} - interval '1 microsecond'`;
  return since && held.has(since) ? `coalesce(t.${identifier(since)}::timestamptz, ${before})` : before;
}

/** What a table of rows or of versions made by somebody else lacks to be a history: each row is made the first version of its key. */
function takeover(plan: LoadPlan, history: HistoryPlan, existing: Dataset): TargetChange[] {
  const { target, key } = plan.write;
  const table = qualified(target);
  const held = new Set(existing.columns.map((column) => column.name));
  const changes: TargetChange[] = [];
  const fill = (message: string, set: string) => changes.push({ message, sql: `UPDATE ${table} t SET ${set}` });
  const dated = held.has(history.from);
  if (!dated)
    fill(
      "each row becomes the first version of its key",
      [
        `${identifier(history.from)} = ${takenFrom(plan, history, held)}`,
        `${identifier(history.to)} = ${openEnd(history)}`,
        `${identifier(history.current.column)} = ${flag(history, true)}`,
        ...(history.change ? [`${identifier(history.change)} = 'new'`] : []),
      ].join(", "),
    );
  else if (!held.has(history.current.column))
    fill(
      "the current versions are marked",
      `${identifier(history.current.column)} = CASE WHEN ${isOpen(history, "t")} THEN ${flag(history, true)} ELSE ${flag(history, false)} END`,
    );
  if (!dated)
    changes.push({
      message: `${history.from} is always there`,
      sql: `ALTER TABLE ${table} ALTER COLUMN ${identifier(history.from)} SET NOT NULL`,
    });
  const { surrogate } = history;
  if (surrogate && !held.has(surrogate.column)) {
    const column = identifier(surrogate.column);
    fill(
      "versions are numbered",
      `${column} = n.number FROM (SELECT r.ctid AS place, ${surrogate.start} + ${surrogate.step} * (row_number() OVER (ORDER BY r.${identifier(history.from)}, ${identifiers(key, "r")}) - 1) AS number FROM ${table} r) n WHERE t.ctid = n.place`,
    );
  }
  if (surrogate && !history.numbered)
    changes.push({ message: "the last number is kept", sql: keepNumber(plan, surrogate.column) });
  return changes;
}

/** Unique indexes that would allow only one version of a key, and the one that a history needs. */
function rekey(plan: LoadPlan, history: HistoryPlan, existing: Dataset): TargetChange[] {
  const { target, key } = plan.write;
  const table = qualified(target);
  const strict = existing.indexes.filter(
    (index) => index.unique && index.columns.length > 0 && index.columns.every((column) => key.includes(column)),
  );
  const wanted = identifying(plan);
  const serves = existing.indexes.some(
    (index) =>
      index.unique && index.columns.length === wanted.length && index.columns.every((name) => wanted.includes(name)),
  );
  return [
    ...strict.map((index) => ({
      message: `${index.name} lets a key have one row only, and goes`,
      sql: `DO ${literal(`BEGIN IF EXISTS (SELECT 1 FROM pg_constraint WHERE conrelid = ${literal(table)}::regclass AND conname = ${literal(index.name)}) THEN ALTER TABLE ${table} DROP CONSTRAINT ${identifier(index.name)}; ELSE DROP INDEX ${identifier(target.schema)}.${identifier(index.name)}; END IF; END`)}`,
    })),
    ...(serves
      ? []
      : [
          {
            message: `the key ${key.join(", ")} with ${history.from} is built`,
            sql: existing.indexes.some((index) => index.primary && !strict.includes(index))
              ? `CREATE UNIQUE INDEX ON ${table} (${identifiers(wanted)})`
              : addKey(plan),
          },
        ]),
    ...numbersIndex(plan, history, existing),
  ];
}

function numbersIndex(
  { write: { target } }: LoadPlan,
  { surrogate }: HistoryPlan,
  existing: Dataset | null,
): TargetChange[] {
  if (!surrogate) return [];
  const serves = existing?.indexes.some((index) => index.unique && index.columns.join() === surrogate.column);
  return serves
    ? []
    : [
        {
          message: `${surrogate.column} tells versions apart`,
          sql: `CREATE UNIQUE INDEX ON ${qualified(target)} (${identifier(surrogate.column)})`,
        },
      ];
}

/** A comment by which what was made beside a history is known again. */
const madeBeside = (what: string, target: TableName) => `Undercoat: ${what} of ${formatTableName(target)}`;

/** The view of the current versions and the function of those as of a moment, beside their table. */
const viewNames = ({ schema, table }: TableName) => ({
  now: { schema, table: name63(`${table.slice(0, 59)}_now`) },
  asOf: { schema, table: name63(`${table.slice(0, 57)}_as_of`) },
});

/** Makes what queries read; where something of that name stands that is not ours, or nothing may be made, that is left alone. */
function makeViews(plan: LoadPlan): TargetChange[] {
  const { target } = plan.write;
  const history = historyOf(plan);
  const { now, asOf } = viewNames(target);
  const table = qualified(target);
  const comments = [madeBeside("the current versions", target), madeBeside("the versions as of a moment", target)];
  const view = `CREATE OR REPLACE VIEW ${qualified(now)} AS SELECT t.* FROM ${table} t WHERE ${isOpen(history, "t")}`;
  const body = `SELECT t.* FROM ${table} t WHERE ${holdsAt(history, "t", "$1")}`;
  const made = `CREATE OR REPLACE FUNCTION ${qualified(asOf)}(moment timestamptz) RETURNS SETOF ${table} LANGUAGE sql STABLE AS ${literal(body)}`;
  const free = (catalogue: string, object: string, comment: string) =>
    `has_schema_privilege(${literal(target.schema)}, 'CREATE') AND (${object} IS NULL OR obj_description(${object}, ${literal(catalogue)}) = ${literal(comment)})`;
  const ofView = `to_regclass(${literal(qualified(now))})`;
  const ofFunction = `to_regprocedure(${literal(`${qualified(asOf)}(timestamptz)`)})`;
  const run = (sql: string) => `EXECUTE ${literal(sql)};`;
  const once = (condition: string, ...statements: string[]) =>
    `DO ${literal(`BEGIN IF ${condition} THEN ${statements.map(run).join(" ")} END IF; END`)}`;
  return [
    {
      message: `${formatTableName(now)} shows the current versions`,
      sql: once(
        free("pg_class", ofView, comments[0] ?? ""),
        view,
        `COMMENT ON VIEW ${qualified(now)} IS ${literal(comments[0] ?? "")}`,
      ),
    },
    {
      message: `${formatTableName(asOf)}(moment) gives those of a moment`,
      sql: once(
        free("pg_proc", ofFunction, comments[1] ?? ""),
        made,
        `COMMENT ON FUNCTION ${qualified(asOf)}(timestamptz) IS ${literal(comments[1] ?? "")}`,
      ),
    },
  ];
}

/** A column that a view shows can't be widened; the view goes first and comes again. */
function dropView({ write: { target } }: LoadPlan): TargetChange {
  const { now } = viewNames(target);
  const ours = `obj_description(to_regclass(${literal(qualified(now))}), 'pg_class') = ${literal(madeBeside("the current versions", target))}`;
  return {
    message: `${formatTableName(now)} makes way for the change`,
    sql: `DO ${literal(`BEGIN IF ${ours} THEN DROP VIEW ${qualified(now)}; END IF; END`)}`,
  };
}

/** The columns that a history added to its table, of those that stand there. */
export function keptColumns(kept: HistoryShape, existing: Dataset): string[] {
  const own = [
    kept.from,
    kept.to,
    kept.current.column,
    kept.change,
    kept.surrogate,
    ...kept.previous.map(([, before]) => before),
  ];
  return existing.columns.map((column) => column.name).filter((name) => own.includes(name));
}

/** A table that kept versions is one row a key again: the current ones stay. */
function leaveHistory(plan: LoadPlan, kept: HistoryShape, existing: Dataset): TargetChange[] {
  const { target, key } = plan.write;
  const table = qualified(target);
  const { now, asOf } = viewNames(target);
  const [ofView, ofFunction] = [
    madeBeside("the current versions", target),
    madeBeside("the versions as of a moment", target),
  ];
  const columns = keptColumns(kept, existing);
  return [
    {
      message: "the view and the function of versions go",
      sql: `DO ${literal(`BEGIN IF obj_description(to_regclass(${literal(qualified(now))}), 'pg_class') = ${literal(ofView)} THEN DROP VIEW ${qualified(now)}; END IF; IF obj_description(to_regprocedure(${literal(`${qualified(asOf)}(timestamptz)`)}), 'pg_proc') = ${literal(ofFunction)} THEN DROP FUNCTION ${qualified(asOf)}(timestamptz); END IF; END`)}`,
    },
    { message: "versions that have ended are removed", sql: `DELETE FROM ${table} t WHERE NOT (${isOpen(kept, "t")})` },
    {
      message: `the columns ${columns.join(", ")} go`,
      sql: `ALTER TABLE ${table} ${columns.map((name) => `DROP COLUMN ${identifier(name)}`).join(", ")}`,
    },
    ...(key.length ? [{ message: `the key ${key.join(", ")} is built`, sql: addKey(plan) }] : []),
    { message: "earlier proofs are no longer of a past that stands", sql: forgetProofs(plan) },
    {
      message: "what was kept of moments goes",
      sql: `DROP TABLE IF EXISTS ${qualified(momentsTable(target))}, ${qualified(deedsTable(target))}`,
    },
    {
      message: `${formatTableName(target)} keeps no history any more`,
      sql: `DELETE FROM undercoat.history WHERE target = ${literal(formatTableName(target))}`,
    },
  ];
}

/**
 * All that must be changed at a target before rows are written.
 * @param kept the history that the target keeps as yet; of no matter where the load keeps one too
 */
export function changesOf(
  plan: LoadPlan,
  existing: Dataset | null,
  widened: readonly string[],
  kept: HistoryShape | null = null,
): TargetChange[] {
  const changes = targetChanges(plan, existing?.columns ?? null, widened);
  const { history } = plan.write;
  if (!history && kept && existing && keptColumns(kept, existing).includes(kept.to))
    return [...leaveHistory(plan, kept, existing), ...changes];
  if (history?.direct) return [...numbering(plan, history), ...changes];
  if (!history || !existing) return changes;
  const more = [...takeover(plan, history, existing), ...rekey(plan, history, existing)];
  if (changes.length + more.length === 0) return [];
  const widens = changes.some((change) => change.sql.includes("ALTER COLUMN"));
  return [...(widens ? [dropView(plan)] : []), ...changes, ...more, ...makeViews(plan)];
}

/** What numbers the versions of a new target that takes rows as they come. */
function numbering(plan: LoadPlan, { surrogate }: HistoryPlan): TargetChange[] {
  const kept = keepHistory(plan).map((sql) => ({ message: "its history is begun", sql }));
  if (!surrogate) return kept;
  const sequence = qualified(numbersSequence(plan.write.target));
  return [
    ...kept,
    {
      message: "versions are numbered",
      sql: `CREATE SEQUENCE ${sequence} MINVALUE 0 START ${surrogate.start} INCREMENT ${surrogate.step} CACHE 10000`,
    },
    {
      message: "numbers go on from the last one given",
      sql: `SELECT setval(${literal(sequence)}, ${nextNumber(plan, surrogate)}, false)`,
    },
  ];
}

/** Takes back what gave a new target's rows their values. */
function settled(plan: LoadPlan, history: HistoryPlan): TargetChange[] {
  const table = qualified(plan.write.target);
  const given = ownColumns(plan).filter(({ name }) => defaultOf(plan, history, name) !== null);
  const { surrogate } = history;
  return [
    {
      message: "columns of versions take no value by themselves any more",
      sql: `ALTER TABLE ${table} ${given.map(({ name }) => `ALTER COLUMN ${identifier(name)} DROP DEFAULT`).join(", ")}`,
    },
    ...(surrogate
      ? [
          { message: "the last number is kept", sql: keepNumber(plan, surrogate.column) },
          { message: "what numbered them goes", sql: `DROP SEQUENCE ${qualified(numbersSequence(plan.write.target))}` },
        ]
      : []),
  ];
}

/** True where a row of a new target has a time that is none, so that it must be looked at as any other. */
export function undated(plan: LoadPlan): string | null {
  const history = historyOf(plan);
  return history.since
    ? `SELECT EXISTS (SELECT 1 FROM ${qualified(plan.write.target)} t WHERE NOT isfinite(t.${identifier(history.from)})) AS undated`
    : null;
}
export const emptyTarget = ({ write: { target } }: LoadPlan) => `TRUNCATE ${qualified(target)}`;

/** What a new target gets once its rows are there. */
export function finishing(plan: LoadPlan): TargetChange[] {
  const { key, history } = plan.write;
  const keyed = key.length ? [{ message: `the key ${identifying(plan).join(", ")} is built`, sql: addKey(plan) }] : [];
  return history
    ? [
        ...keyed,
        ...numbersIndex(plan, history, null),
        ...(history.direct ? settled(plan, history) : []),
        ...makeViews(plan),
      ]
    : keyed;
}

/**
 * What always holds of the versions of some keys, or of all: each statement gives how many break it as `rows`.
 * @param only a table of the keys that are looked at
 */
export function invariants(plan: LoadPlan, only: TableName | null): string {
  const { target, key } = plan.write;
  const history = historyOf(plan);
  const [from, to] = [history.from, history.to].map((name) => `t.${identifier(name)}`);
  const matched = only
    ? ` WHERE (${identifiers(key, "t")}) IN (SELECT ${identifiers(key)} FROM ${qualified(only)})`
    : "";
  const columns = planColumns(plan, "version");
  const next = columns.map((column, at) => `lead(t.${identifier(column.name)}) OVER w AS "undercoat next ${at}"`);
  const gone = `EXISTS (SELECT 1 FROM ${qualified(momentsTable(target))} m WHERE m."undercoat gone" AND m."undercoat at" = v."undercoat ended" AND ${key.map((name) => `m.${identifier(name)} = v.${identifier(name)}`).join(" AND ")})`;
  const after = (name: string) => `v."undercoat next ${columns.findIndex((column) => column.name === name)}"`;
  const versions = `SELECT ${[
    ...key.map((name) => `t.${identifier(name)}`),
    ...columns.map((column) => `t.${identifier(column.name)}`),
    `${from} AS "undercoat begun"`,
    `${to} AS "undercoat ended"`,
    `${isOpen(history, "t")} AS "undercoat open"`,
    `t.${identifier(history.current.column)} IS NOT DISTINCT FROM ${flag(history, true)} AS "undercoat marked"`,
    `lead(${from}) OVER w AS "undercoat following"`,
    ...next,
  ].join(
    ", ",
  )} FROM ${qualified(target)} t${matched} WINDOW w AS (PARTITION BY ${identifiers(key, "t")} ORDER BY ${from})`;
  const count = (name: string, condition: string) => `count(*) FILTER (WHERE ${condition})::text AS ${name}`;
  return `SELECT count(*)::text AS versions, ${[
    count("open", 'v."undercoat open" AND v."undercoat following" IS NOT NULL'),
    count("overlap", 'NOT v."undercoat open" AND v."undercoat following" < v."undercoat ended"'),
    count("gap", `NOT v."undercoat open" AND v."undercoat following" > v."undercoat ended" AND NOT ${gone}`),
    count("backward", 'NOT v."undercoat open" AND v."undercoat ended" <= v."undercoat begun"'),
    count(
      "twin",
      `NOT v."undercoat open" AND v."undercoat following" = v."undercoat ended" AND NOT ${opens(plan, (name) => `v.${identifier(name)}`, after)}`,
    ),
    count("marked", 'v."undercoat open" IS DISTINCT FROM v."undercoat marked"'),
  ].join(", ")} FROM (${versions}) v`;
}

/** What the counts of `invariants` say. */
export const invariantWords: Record<string, string> = {
  open: "are open although a later version stands",
  overlap: "overlap the next version",
  gap: "leave a gap that no deletion made",
  backward: "end before they begin",
  twin: "are followed by one that says the same",
  marked: "are marked as current and have ended, or the other way round",
};
