import type { Load } from "@undercoat/core/pipeline/pipeline";
import type { Tally } from "@undercoat/core/run/run";
import { Cancelled, InDoubt } from "@undercoat/engine/failure";
import { afterAll, beforeAll, describe, expect, test } from "vitest";
import { makePair, type Pair } from "./pair.ts";
import { random } from "./random.ts";

/** Random operations, runs and kills on every mode, against a plain model of what each mode promises. */
let pair: Pair;
beforeAll(async () => {
  pair = await makePair("model");
});
afterAll(() => pair.close());

interface Row {
  id: number;
  v: string | null;
  /** minutes since the epoch of the test */
  at: number;
}

interface Held extends Row {
  gone: boolean;
}

interface State {
  target: Held[];
  watermark: number | null;
}

const lookBack = 5;
/** The key of a row, or the whole of it. */
const name = (row: Row, keyed: boolean) => (keyed ? String(row.id) : `${row.id} ${row.v} ${row.at}`);
const text = (rows: Row[]) => rows.map((row) => `${row.id} ${row.v} ${row.at}`).sort();
const same = (a: Row, b: Row) => a.v === b.v && a.at === b.at;

/** What a run leaves by the words of the product alone: the state and the tally; null where the guard stops it. */
function modelRun(
  load: Load,
  source: Row[],
  { target, watermark }: State,
  whole: boolean,
): { state: State; tally: Tally; proved: boolean } | null {
  const { mode, key, deleted } = load.into;
  const keyed = key !== undefined;
  const all = whole || watermark === null || mode === "replace";
  const read = source.filter((row) => all || row.at >= (watermark ?? 0) - lookBack);
  const held = target.map((row) => ({ ...row }));
  const tally = { read: read.length, new: 0, changed: 0, same: 0, rejected: 0, deleted: 0 };
  let next = held;
  if (mode === "replace") {
    if (held.length - read.length > Math.max(10, Math.floor(held.length / 2))) return null;
    tally.new = read.length;
    tally.deleted = held.length;
    next = read.map((row) => ({ ...row, gone: false }));
  } else if (keyed) {
    for (const row of read) {
      const found = next.find((other) => other.id === row.id);
      if (!found) {
        next.push({ ...row, gone: false });
        tally.new++;
      } else if (mode === "append" || (same(found, row) && !found.gone)) tally.same++;
      else {
        Object.assign(found, row, { gone: false });
        tally.changed++;
      }
    }
  } else {
    const count = (rows: Row[], of: Row) => rows.filter((row) => name(row, false) === name(of, false)).length;
    for (const one of new Set(read.map((row) => name(row, false)))) {
      const row = read.find((candidate) => name(candidate, false) === one) as Row;
      const missing = Math.max(0, count(read, row) - count(held, row));
      for (let n = 0; n < missing; n++) next.push({ ...row, gone: false });
      tally.new += missing;
      tally.same += count(read, row) - missing;
    }
  }
  if (deleted === "remove" || deleted === "mark") {
    const there = new Set(source.map((row) => row.id));
    const lost = next.filter((row) => !row.gone && !there.has(row.id));
    const before = target.filter((row) => !row.gone).length;
    if (watermark !== null || target.length) {
      if (lost.length > Math.max(10, Math.floor(before / 2))) return null;
      tally.deleted = lost.length;
      if (deleted === "remove") next = next.filter((row) => !lost.includes(row));
      else for (const row of lost) row.gone = true;
    }
  }
  const highest = read.length ? Math.max(...read.map((row) => row.at)) : watermark;
  const proved = JSON.stringify(text(next.filter((row) => !row.gone))) === JSON.stringify(text(source));
  return {
    state: { target: next, watermark: highest ?? watermark },
    tally: Object.fromEntries(
      Object.entries(tally).map(([field, value]) => [field, String(value)]),
    ) as unknown as Tally,
    proved,
  };
}

const epoch = "timestamptz '2026-11-01 00:00+00'";
const sql = (value: string | null) => (value === null ? "NULL" : `'${value}'`);

const base: Omit<Load, "into"> = {
  from: { connection: "source", table: "public.thing" },
  watermark: { column: "at", lookBack: `PT${lookBack}M` },
  proof: { by: { column: "at", slice: "hour" }, figures: ["rows", "sum(id)", "max(v)"] },
};
const modes: [string, Load["into"]][] = [
  ["upsert", { table: "landing.thing", mode: "upsert", key: ["id"] }],
  ["upsert, gone rows removed", { table: "landing.thing", mode: "upsert", key: ["id"], deleted: "remove" }],
  ["upsert, gone rows marked", { table: "landing.thing", mode: "upsert", key: ["id"], deleted: "mark" }],
  ["append by key", { table: "landing.thing", mode: "append", key: ["id"] }],
  ["append without a key", { table: "landing.thing", mode: "append" }],
  ["replace", { table: "landing.thing", mode: "replace" }],
];

describe.each(modes)("%s", (_, into) => {
  test.each([1, 2])(
    "does what the model does, in random order and cut short at random (seed %i)",
    { timeout: 120_000 },
    async (seed) => {
      const pick = random(seed * 7919 + into.table.length + JSON.stringify(into).length);
      const load: Load = { ...base, into };
      const keyed = into.key !== undefined;
      await pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
      await pair.atSource(
        `DROP TABLE IF EXISTS thing; CREATE TABLE thing (id int NOT NULL${keyed ? " PRIMARY KEY" : ""}, v text, at timestamptz NOT NULL)`,
      );
      let source: Row[] = [];
      let state: State = { target: [], watermark: null };
      let clock = 0;
      const log: string[] = [];
      const values = ["a", "b", "", null];

      const held = async (): Promise<Held[]> => {
        if (!(await pair.atWarehouse("SELECT 1 FROM pg_class WHERE oid = to_regclass('landing.thing')")).length)
          return [];
        const marked = into.deleted === "mark" ? "deleted_at IS NOT NULL" : "false";
        const rows = await pair.atWarehouse(
          `SELECT id::text, v, (extract(epoch FROM at - ${epoch}) / 60)::int::text AS at, (${marked})::text AS gone FROM landing.thing`,
        );
        return rows.map((row) => ({
          id: Number(row.id),
          v: row.v ?? null,
          at: Number(row.at),
          gone: row.gone === "true",
        }));
      };
      const told = (rows: Held[]) => rows.map((row) => `${row.id} ${row.v} ${row.at}${row.gone ? " gone" : ""}`).sort();

      for (let step = 0; step < 55; step++) {
        const choice = pick(10);
        clock += pick(3);
        const some = source[pick(source.length || 1)];
        if (choice < 2) {
          // A new row; now and then one that is late, within the look-back or beyond it.
          const row: Row = {
            id: keyed ? 1 + pick(40) : 1 + pick(4),
            v: values[pick(4)] ?? null,
            at: Math.max(0, clock - (pick(4) === 0 ? pick(12) : 0)),
          };
          if (keyed && source.some((other) => other.id === row.id)) continue;
          source.push(row);
          await pair.atSource(
            `INSERT INTO thing VALUES (${row.id}, ${sql(row.v)}, ${epoch} + interval '${row.at} minutes')`,
          );
          log.push(`insert ${text([row])}`);
        } else if (choice < 4 && some && keyed) {
          // A changed row; now and then without a word of it.
          some.v = values[pick(4)] ?? null;
          if (pick(4)) some.at = clock;
          await pair.atSource(
            `UPDATE thing SET v = ${sql(some.v)}, at = ${epoch} + interval '${some.at} minutes' WHERE id = ${some.id}`,
          );
          log.push(`update ${text([some])}`);
        } else if (choice === 4 && some && keyed) {
          source = source.filter((row) => row !== some);
          await pair.atSource(`DELETE FROM thing WHERE id = ${some.id}`);
          log.push(`delete ${some.id}`);
        } else {
          const whole = pick(6) === 0;
          const cut = pick(4) === 0 ? pick(90) : null;
          const expected = modelRun(load, source, state, whole);
          log.push(`run${whole ? " whole" : ""}${cut === null ? "" : ` cut after ${cut} ms`}`);
          const history = `${log.join("; ")} of ${text(source).join(", ")}`;
          const abort = new AbortController();
          const timer = cut === null ? undefined : setTimeout(() => abort.abort(), cut);
          const outcome = await pair
            .run(load, { scope: { kind: whole ? "whole" : "due" }, signal: abort.signal })
            .catch((error: Error) => error);
          clearTimeout(timer);
          // A commit that was cut off may still be under way.
          while (
            outcome instanceof InDoubt &&
            (
              await pair.atWarehouse(
                "SELECT 1 FROM pg_stat_activity WHERE datname = current_database() AND application_name LIKE 'undercoat run%' AND state <> 'idle'",
              )
            ).length
          );
          const now = told(await held());
          if (outcome instanceof Error) {
            if (outcome instanceof Cancelled || outcome instanceof InDoubt) {
              // Before or after, and nothing between.
              if (
                expected &&
                JSON.stringify(now) === JSON.stringify(told(expected.state.target)) &&
                JSON.stringify(now) !== JSON.stringify(told(state.target))
              )
                state = expected.state;
              expect(now, history).toEqual(told(state.target));
              const [kept] = await pair.atWarehouse(
                "SELECT CASE WHEN to_regclass('undercoat.watermark') IS NULL THEN NULL ELSE 1 END AS there",
              );
              const [mark] = kept?.there
                ? await pair.atWarehouse(
                    `SELECT (extract(epoch FROM value::timestamptz - ${epoch}) / 60)::int::text AS at FROM undercoat.watermark`,
                  )
                : [];
              state = { ...state, watermark: mark?.at == null ? null : Number(mark.at) };
              continue;
            }
            expect(expected, `${outcome.message}: ${history}`).toBeNull();
            expect(now, history).toEqual(told(state.target));
            continue;
          }
          expect(expected, history).not.toBeNull();
          if (!expected) continue;
          expect(now, history).toEqual(told(expected.state.target));
          expect(outcome.tally, history).toEqual(expected.tally);
          expect(outcome.proof.verdict, history).toBe(expected.proved ? "proved" : "disagrees");
          state = expected.state;
          const { rows, proof } = await pair.prove(load);
          expect(
            [proof.verdict, (rows?.missing ?? 0) + (rows?.extra ?? 0) + (rows?.different ?? 0) === 0],
            history,
          ).toEqual([expected.proved ? "proved" : "disagrees", expected.proved]);
        }
      }
      expect(log.filter((entry) => entry.startsWith("run")).length).toBeGreaterThan(15);
    },
  );
});
