import type { Load } from "@undercoat/core/pipeline/pipeline";
import fc from "fast-check";
import { afterAll, beforeAll, expect, test } from "vitest";
import { makePair, type Pair } from "./pair.ts";
import { random } from "./random.ts";

/** The laws of a history that is dated by its source, each tried on many keys at once against a plain model. */
let pair: Pair;
beforeAll(async () => {
  pair = await makePair("timeline");
});
afterAll(() => pair.close());

/** What the source says of a key from a minute on. */
interface Word {
  at: number;
  port: string | null;
}
interface Version {
  from: number;
  to: number | null;
  port: string | null;
}

/** The versions that some words make, in plain terms: in the order of time, neighbours that say the same being one. */
function model(words: readonly Word[]): Version[] {
  const versions: Version[] = [];
  for (const { at, port } of [...words].sort((a, b) => a.at - b.at)) {
    const last = versions.at(-1);
    if (last && last.port === port) continue;
    if (last) last.to = at;
    versions.push({ from: at, to: null, port });
  }
  return versions;
}

const epoch = "timestamptz '2026-01-01 00:00+00'";
const moment = (minutes: number) => `${epoch} + interval '${minutes} minutes'`;
const quoted = (text: string | null) => (text === null ? "NULL" : `'${text}'`);

const load = (history: object, log = true): Load => ({
  from: { connection: "source", table: log ? "public.log" : "public.thing" },
  into: {
    table: "fleet.thing",
    mode: "history",
    key: ["id"],
    history: { since: "at", surrogate: { column: "sk" }, ...history },
  },
});

async function clear(): Promise<void> {
  await pair.atWarehouse("DROP SCHEMA IF EXISTS fleet CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
  await pair.atSource(
    "DROP TABLE IF EXISTS log, thing; CREATE TABLE log (id int NOT NULL, at timestamptz NOT NULL, port text); CREATE TABLE thing (id int PRIMARY KEY, at timestamptz NOT NULL, port text)",
  );
}

async function held(): Promise<Map<number, Version[]>> {
  const minutes = (column: string) =>
    `CASE WHEN isfinite(${column}) THEN (extract(epoch FROM ${column} - ${epoch}) / 60)::int::text END`;
  const rows = await pair.atWarehouse(
    `SELECT id::text, ${minutes("valid_from")} AS from, ${minutes("valid_to")} AS to, port, is_current::text AS current FROM fleet.thing ORDER BY id, valid_from`,
  );
  const found = new Map<number, Version[]>();
  for (const row of rows) {
    expect(row.current).toBe(row.to === null ? "true" : "false");
    const id = Number(row.id);
    found.set(id, [
      ...(found.get(id) ?? []),
      {
        from: row.from == null ? Number.NEGATIVE_INFINITY : Number(row.from),
        to: row.to === null ? null : Number(row.to),
        port: row.port ?? null,
      },
    ]);
  }
  return found;
}

const word = fc.record({ at: fc.integer({ min: 0, max: 12 }), port: fc.constantFrom("KIL", "SKV", null) });
const words = fc.uniqueArray(word, { selector: (one) => one.at, minLength: 1, maxLength: 7 });
/** Some keys, each with its words and the run in which each comes. */
const keys = fc.array(
  words.chain((list) =>
    fc.record({
      words: fc.constant(list),
      runs: fc.array(fc.integer({ min: 0, max: 3 }), { minLength: list.length, maxLength: list.length }),
    }),
  ),
  { minLength: 20, maxLength: 60 },
);

const numbers = async () =>
  new Map(
    (await pair.atWarehouse("SELECT sk::text, id::text FROM fleet.thing")).map((row) => [row.sk ?? "", row.id ?? ""]),
  );

test.each<[string, object]>([
  ["dated by its source", {}],
  ["with first versions dated back", { first: "-infinity" }],
])("changes of a log make one history in whatever order they come (%s)", { timeout: 240_000 }, async (_, history) => {
  await fc.assert(
    fc.asyncProperty(keys, async (all) => {
      await clear();
      const given = new Map<string, string>();
      for (let run = 0; run < 4; run++) {
        const coming = all.flatMap((key, id) =>
          key.words
            .filter((_w, at) => key.runs[at] === run)
            .map(({ at, port }) => `(${id}, ${moment(at)}, ${quoted(port)})`),
        );
        if (coming.length) await pair.atSource(`INSERT INTO log VALUES ${coming.join(", ")}`);
        const { tally, proof } = await pair.run(load(history));
        expect(proof).toMatchObject({ verdict: "proved" });
        expect(proof.history?.broken ?? []).toEqual([]);
        // A number names one key for ever.
        for (const [sk, id] of await numbers()) {
          expect(given.get(sk) ?? id).toBe(id);
          given.set(sk, id);
        }
        const so = all.map((key) => key.words.filter((_w, at) => (key.runs[at] ?? 0) <= run));
        const expected = new Map(so.map((list, id) => [id, model(list)] as const).filter(([, list]) => list.length));
        if ("first" in history) for (const list of expected.values()) if (list[0]) list[0].from = -Infinity;
        expect(await held()).toEqual(expected);
        expect(BigInt(tally.read)).toBe(BigInt(tally.new) + BigInt(tally.changed) + BigInt(tally.same));
        // The same read twice changes nothing.
        const again = await pair.run(load(history));
        expect(again.tally).toMatchObject({ new: "0", changed: "0", versions: "0", closed: "0", overwritten: "0" });
      }
      const { proof, rows } = await pair.prove(load(history));
      expect([proof.verdict, proof.history?.broken, rows?.different, rows?.missing]).toEqual(["proved", [], 0, 0]);
    }),
    { numRuns: 8, seed: 20261127 },
  );
});

/** What a table of one row a key says at each run: from when each row is so, and what it says; null where it is gone. */
const states = fc.array(
  fc.array(
    fc.option(fc.record({ at: fc.integer({ min: 0, max: 12 }), port: fc.constantFrom("KIL", "SKV", null) }), {
      freq: 4,
    }),
    {
      minLength: 5,
      maxLength: 5,
    },
  ),
  { minLength: 20, maxLength: 50 },
);

test.each<[string, object]>([
  ["by the read's moment", { since: "run" }],
  ["by the source's time, which may go back", { since: "at" }],
])(
  "as of every read the table says what the source said then, through returns and deletions (%s)",
  {
    timeout: 240_000,
  },
  async (_, history) => {
    const closing = { ...load(history, false) };
    closing.into = { ...closing.into, deleted: "close", deletions: { most: 100 } };
    await fc.assert(
      fc.asyncProperty(states, async (all) => {
        await clear();
        const reads: { moment: string; said: string[] }[] = [];
        for (let run = 0; run < 5; run++) {
          await pair.atSource("DELETE FROM thing");
          const rows = all.flatMap((key, id) => {
            const state = key[run];
            return state ? [`(${id}, ${moment(state.at)}, ${quoted(state.port)})`] : [];
          });
          if (rows.length) await pair.atSource(`INSERT INTO thing VALUES ${rows.join(", ")}`);
          const { tally, proof } = await pair.run(closing);
          expect(proof).toMatchObject({ verdict: "proved" });
          expect(proof.history?.broken ?? []).toEqual([]);
          expect(BigInt(tally.read)).toBe(BigInt(tally.new) + BigInt(tally.changed) + BigInt(tally.same));
          const again = await pair.run(closing);
          expect(again.tally).toMatchObject({ new: "0", changed: "0", deleted: "0", versions: "0", closed: "0" });
          const { rows: differing, proof: proved } = await pair.prove(closing);
          expect([proved.verdict, proved.history?.broken, differing?.different]).toEqual(["proved", [], 0]);
          const [used] = await pair.atWarehouse("SELECT moment::text FROM undercoat.tally ORDER BY at DESC LIMIT 1");
          reads.push({
            moment: used?.moment ?? "",
            said: all.flatMap((key, id) => (key[run] ? [`${id} ${key[run]?.port ?? null}`] : [])).sort(),
          });
          // Each read so far, as of its own moment, by the function that stands beside the table. A source that dates its
          // rows itself may also date them back behind an earlier read.
          for (const read of "since" in history && history.since === "run" ? reads : reads.slice(-1)) {
            const then = await pair.atWarehouse(
              `SELECT id || ' ' || coalesce(port, 'null') AS line FROM fleet.thing_as_of('${read.moment}') ORDER BY 1`,
            );
            expect(then.map((row) => row.line).sort()).toEqual(read.said);
          }
        }
      }),
      { numRuns: 6, seed: 20261127 },
    );
  },
);

test.each([1, 2, 3])(
  "cut short at any moment it is as before or as after, and ends the same (seed %i)",
  { timeout: 120_000 },
  async (seed) => {
    await clear();
    const pick = random(seed * 7919);
    const said = new Map<number, Word[]>();
    const expected = () => new Map([...said].sort(([a], [b]) => a - b).map(([id, list]) => [id, model(list)] as const));
    let before = expected();
    let cut = 0;
    for (let round = 0; round < 8; round++) {
      const coming: string[] = [];
      for (let n = 0; n < 150; n++) {
        const id = pick(120);
        const at = pick(400);
        const list = said.get(id) ?? [];
        if (list.some((word) => word.at === at)) continue;
        const port = ["KIL", "SKV", "MAR", null][pick(4)] ?? null;
        said.set(id, [...list, { at, port }]);
        coming.push(`(${id}, ${moment(at)}, ${quoted(port)})`);
      }
      await pair.atSource(`INSERT INTO log VALUES ${coming.join(", ")}`);
      const after = expected();
      for (let tries = 0; tries < 4; tries++) {
        const abort = new AbortController();
        const timer = setTimeout(() => abort.abort(), pick(140));
        const outcome = await pair.run(load({}), { signal: abort.signal }).catch((error: Error) => error);
        clearTimeout(timer);
        // A session that was cut off may still be ending.
        while (
          (
            await pair.atWarehouse(
              "SELECT 1 FROM pg_stat_activity WHERE datname = current_database() AND application_name LIKE 'undercoat run%' AND state <> 'idle'",
            )
          ).length
        );
        const exists =
          (await pair.atWarehouse("SELECT 1 FROM pg_class WHERE oid = to_regclass('fleet.thing')")).length > 0;
        const now = exists ? await held() : new Map();
        if (outcome instanceof Error) cut++;
        else expect(now).toEqual(after);
        expect([before, after]).toContainEqual(now);
      }
      const { proof } = await pair.run(load({}));
      expect(proof.verdict).toBe("proved");
      expect(await held()).toEqual(after);
      before = after;
    }
    expect(cut).toBeGreaterThan(3);
    expect((await pair.prove(load({}))).proof).toMatchObject({ verdict: "proved", history: { broken: [] } });
  },
);
