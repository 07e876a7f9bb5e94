import { PipelineRow } from "@undercoat/server/store/models";
import { afterAll, beforeAll, describe, expect, test } from "vitest";
import { environment, makeHouse, type TestHouse } from "./house.ts";

let house: TestHouse;
const file = (loads: string) => {
  const database = (name: string) =>
    `{ kind: postgres, host: 127.0.0.1, port: ${new URL(house.url(name)).port}, database: ${name}, user: ${new URL(house.url(name)).username}, password: { env: TEST_PASSWORD }, tls: off, parallel: 2 }`;
  return `undercoat: 1
connections:
  app: ${database(house.names.source)}
  dwh: ${database(house.names.warehouse)}
pipelines:
  day:
    title: Day
    warehouse: dwh
${loads}`;
};
const apply = async (loads: string) => {
  const answer = await house.ask("POST", "/project", { text: file(loads), environment: environment() });
  expect(answer).toMatchObject({ status: 200 });
};
const run = async (body: object = {}) => {
  const started = (await house.ask("POST", "/pipelines/day/run", body)).body;
  await house.execute(started.id);
  return (await house.ask("GET", `/runs/${started.id}`)).body;
};

beforeAll(async () => {
  house = await makeHouse("whole");
  await house.sql(
    house.names.source,
    `CREATE TABLE booking (id int PRIMARY KEY, customer int, fare text, updated_at timestamptz NOT NULL); INSERT INTO booking SELECT n, n % 5, CASE WHEN n = 7 THEN 'n/a' ELSE n::text END, timestamptz '2026-11-20 06:00+00' + n * interval '1 second' FROM generate_series(1, 50) n;
     CREATE TABLE customer (id int PRIMARY KEY, name text); INSERT INTO customer SELECT n, 'customer ' || n FROM generate_series(0, 4) n`,
  );
});
afterAll(() => house.close());

const booking = `      booking:
        from: { connection: app, table: public.booking }
        watermark: { column: updated_at, lookBack: PT10M }
        columns: { id: id, customer: customer, fare: { as: fare, type: "numeric(8,2)" } }
        rules: { fare is not negative: fare >= 0 }
        into: { table: landing.booking, mode: upsert, key: [id] }
`;
const customer = `      customer:
        from: { connection: app, table: public.customer }
        into: { table: landing.customer, mode: upsert, key: [id] }
`;
const fares = `      fares:
        from: { connection: dwh, query: "SELECT c.id, c.name, sum(b.fare) AS fare FROM landing.booking b JOIN landing.customer c ON c.id = b.customer GROUP BY c.id" }
        into: { table: mart.fares, mode: replace }
        proof: { figures: [rows, sum(fare)] }
`;

describe("a whole pipeline", () => {
  test("runs side by side, and each load after those whose tables it reads", async () => {
    // Named last in the file's order and first in the run's: the order follows from what is read.
    await apply(`    loads:\n${fares}${customer}${booking}`);
    const done = await run();
    expect(
      done.loads.map((load: { load: string; status: string; verdict: string }) => [
        load.load,
        load.status,
        load.verdict,
      ]),
    ).toEqual([
      ["fares", "finished", "proved"],
      ["customer", "finished", "proved"],
      ["booking", "finished", "proved"],
    ]);
    const started = Object.fromEntries(
      done.loads.map((load: { load: string; startedAt: string; finishedAt: string }) => [load.load, load]),
    );
    expect(
      started.fares.startedAt >= started.booking.finishedAt && started.fares.startedAt >= started.customer.finishedAt,
    ).toBe(true);
    expect(started.booking).toMatchObject({
      tally: { read: "50", new: "49", rejected: "1" },
      without: "1",
      findings: { reasons: [{ reason: "fare is not a number", rows: "1" }] },
    });
    expect((await house.sql(house.names.warehouse, "SELECT sum(fare)::text AS fare FROM mart.fares")).rows).toEqual([
      { fare: "1268.00" },
    ]);
  });

  test("one failing load stops only those that wait for it, and what is left undone can be run alone", async () => {
    await house.sql(house.names.source, "ALTER TABLE booking RENAME TO away");
    const failed = await run();
    const status = (name: string) => failed.loads.find((load: { load: string }) => load.load === name);
    expect(status("customer").status).toBe("finished");
    expect(status("booking").status).toBe("failed");
    expect(status("fares").failure.message).toBe("Not run: booking, whose table it reads, failed");
    await house.sql(house.names.source, "ALTER TABLE away RENAME TO booking");
    const again = (await house.ask("POST", `/runs/${failed.id}/again`, { unfinished: true })).body;
    expect(again.loads.map((load: { load: string }) => load.load)).toEqual(["fares", "booking"]);
    await house.execute(again.id);
    expect((await house.ask("GET", `/runs/${again.id}`)).body.status).toBe("finished");
    expect((await house.ask("POST", `/runs/${again.id}/again`, { unfinished: true })).status).toBe(409);
  });

  test("a rule that looks values up waits for the table, which another load is yet to make", async () => {
    await house.sql(house.names.warehouse, "DROP SCHEMA IF EXISTS fresh CASCADE");
    const looking = booking
      .replace("landing.booking", "fresh.booking")
      .replace("fare is not negative: fare >= 0", "customer is known: customer IN (SELECT id FROM fresh.customer)");
    await apply(`    loads:\n${looking}${customer.replace("landing.customer", "fresh.customer")}`);
    const done = await run();
    expect(
      done.loads.map((load: { load: string; status: string; tally: { new: string } }) => [
        load.load,
        load.status,
        load.tally.new,
      ]),
    ).toEqual([
      ["booking", "finished", "49"],
      ["customer", "finished", "5"],
    ]);
    const unknown = await house.ask("POST", "/project", {
      text: file(`    loads:\n${looking.replace("fresh.customer)", "fresh.nowhere)")}`),
      environment: environment(),
    });
    expect(JSON.stringify(unknown.body)).toMatch(/fresh.nowhere.* does not exist/);
  });

  test("loads that read each other are refused", async () => {
    const ring = (name: string, other: string) =>
      `      ${name}:\n        from: { connection: dwh, table: mart.${other} }\n        into: { table: mart.${name}, mode: replace }\n`;
    const answer = await house.ask("POST", "/project", {
      text: file(`    loads:\n${ring("a", "b")}${ring("b", "a")}`),
      environment: environment(),
    });
    expect(answer.status).toBe(422);
    expect(JSON.stringify(answer.body)).toMatch(/none of them could be the first/);
  });

  test("loads that have come to wait for each other end with what they lack", async () => {
    const load = (name: string, other: string) => ({
      from: { connection: "dwh", table: `ring.${other}` },
      into: { table: `ring.${name}`, mode: "replace" as const },
    });
    await PipelineRow.create({
      name: "ring",
      title: "Ring",
      definition: { title: "Ring", warehouse: "dwh", loads: { a: load("a", "b"), b: load("b", "a") } },
      nextAt: null,
    });
    const started = (await house.ask("POST", "/pipelines/ring/run", {})).body;
    await house.execute(started.id);
    const done = (await house.ask("GET", `/runs/${started.id}`)).body;
    expect(done.status).toBe("failed");
    expect(done.loads.map((one: { failure: { message: string } }) => one.failure.message)).toEqual([
      expect.stringMatching(/no table ring.b/),
      expect.stringMatching(/no table ring.a|whose table it reads, failed/),
    ]);
  });

  test("rehearses: the figures of the run, and nothing written", async () => {
    await apply(`    loads:\n${fares}${customer}${booking}`);
    await house.sql(
      house.names.source,
      "INSERT INTO booking VALUES (51, 1, '-5', '2026-11-20 07:00+00'), (52, 1, '5', '2026-11-20 07:00+00')",
    );
    const rehearsed = await run({ kind: "rehearse", loads: ["booking"] });
    const [load] = rehearsed.loads;
    expect(load).toMatchObject({
      status: "finished",
      proof: null,
      tally: { new: "1", rejected: "2" },
      rehearsal: { added: [{ new: ["52", "1", "5.00"] }] },
    });
    expect(load.findings.reasons.map((reason: { reason: string }) => reason.reason).sort()).toEqual([
      "breaks the rule “fare is not negative”",
      "fare is not a number",
    ]);
    expect((await run({ loads: ["booking"] })).tally).toEqual(load.tally);
  });

  test("new tables of the chosen schema join by themselves", async () => {
    await apply(
      `    joins: { connection: app, schema: public, tables: "trip_*", into: landing }\n    loads:\n${customer}`,
    );
    await house.sql(
      house.names.source,
      "CREATE TABLE trip_log (id int PRIMARY KEY, note text); INSERT INTO trip_log VALUES (1, 'first'); CREATE TABLE other (id int)",
    );
    const done = await run();
    expect(done.loads.map((load: { load: string; tally: { read: string } }) => [load.load, load.tally.read])).toEqual(
      [
        ["customer", "5"],
        ["trip_log", "1"],
      ].map(([name, read]) => [name?.replace("_", "-"), read]),
    );
    const lines = (await house.ask("GET", `/runs/${done.id}/lines`)).body as { message: string }[];
    expect(lines.map((line) => line.message)).toContain(
      "public.trip_log is new at the source and has joined the pipeline",
    );
    expect(Object.keys((await house.ask("GET", "/pipelines/day")).body.definition.loads)).toEqual([
      "customer",
      "trip-log",
    ]);
    expect((await run()).loads).toHaveLength(2);
  });
});

describe("rejected rows", () => {
  test("are listed by reason, found, exported and loaded again", async () => {
    await apply(`    loads:\n${customer}${booking}`);
    const { body } = await house.ask("GET", "/rejected?pipeline=day&load=booking&target=landing.booking");
    expect(body.counts.map((count: { reason: string; rows: string }) => [count.reason, count.rows])).toEqual(
      expect.arrayContaining([
        ["fare is not a number", "1"],
        ["breaks the rule “fare is not negative”", "1"],
      ]),
    );
    expect(body.rows.find((row: { key: string[] }) => row.key[0] === "7")).toMatchObject({
      column: "fare",
      message: 'fare is not a number: "n/a"',
      original: { id: "7", fare: "n/a", customer: "2" },
      gone: false,
    });
    expect((await house.ask("GET", "/rejected?target=landing.booking&text=N%2FA")).body.rows).toHaveLength(1);
    expect(
      (await house.ask("GET", `/rejected?target=landing.booking&reason=${encodeURIComponent("fare is not a number")}`))
        .body.rows,
    ).toHaveLength(1);
    const csv = await house.ask("GET", "/rejected/csv?pipeline=day&load=booking&target=landing.booking");
    expect(csv.headers.get("content-type")).toMatch(/text\/csv/);
    expect((csv.body as string).split("\n")[0]).toBe(
      "undercoat run,undercoat pipeline,undercoat load,undercoat code,undercoat column,undercoat message,id,customer,fare,updated_at",
    );
    expect(csv.body).toContain('"fare is not a number: ""n/a""",7,2,n/a,');
    await house.sql(house.names.source, "UPDATE booking SET fare = '7' WHERE id = 7");
    const [row] = body.rows.filter((one: { key: string[] }) => one.key[0] === "7");
    const again = await run({ kind: "repair", loads: ["booking"], scope: { kind: "rejected", ids: [row.id] } });
    expect(again.tally).toMatchObject({ read: "1", new: "1", rejected: "0" });
    expect((await house.ask("GET", "/rejected?target=landing.booking")).body.rows).toHaveLength(1);
    expect((await house.ask("GET", "/rejected?load=booking&all=true")).body.rows.length).toBeGreaterThan(1);
  });

  test("need no more than reading to look at, and an editor to load again", async () => {
    expect((await house.as(house.tokens.viewer)("GET", "/rejected")).status).toBe(200);
    expect(
      (
        await house.as(house.tokens.viewer)("POST", "/pipelines/day/run", {
          kind: "repair",
          scope: { kind: "rejected", ids: null },
        })
      ).status,
    ).toBe(403);
    expect((await house.as(null)("GET", "/rejected")).status).toBe(401);
  });
});

describe("the preview of a shape", () => {
  const preview = (load: object) =>
    house.ask("POST", "/pipelines/preview", {
      pipeline: "day",
      load: "booking",
      definition: { title: "Day", warehouse: "dwh", loads: { booking: load } },
    });
  const base = {
    from: { connection: "app", table: "public.booking" },
    watermark: { column: "updated_at" },
    into: { table: "landing.booking", mode: "upsert", key: ["id"] },
  };

  test("shows real rows as they would be, beside the warehouse's, and those that would be turned away", async () => {
    const { status, body } = await preview({
      ...base,
      columns: { id: "id", customer: "customer", fare: { as: "fare", type: "numeric(8,2)" } },
      rules: { positive: { check: "fare > 0", breach: "stop" } },
      rejects: { limit: 0 },
    });
    expect(status).toBe(200);
    expect(body.reads).toMatch(/^updated_at ≥ 2026-11-20/);
    expect(body.rows[0]).toMatchObject({ rejected: "breaks the rule “positive”", values: { id: "51", fare: "-5" } });
    expect(body.rows.find((row: { values: { id: string } }) => row.values.id === "52")).toMatchObject({
      rejected: null,
      held: { fare: "5.00" },
    });
  });

  test("says what is wrong with an expression and where", async () => {
    const { status, body } = await preview({ ...base, columns: { id: "id", fare: "fare + + " } });
    expect(status).toBe(422);
    expect(body.problems).toEqual([
      {
        path: ["loads", "booking", "columns", "fare"],
        message: expect.stringMatching(/syntax error/),
        position: expect.any(Number),
      },
    ]);
    expect((await preview({ ...base, columns: { id: "id", fare: "pg_sleep(10)" } })).body.problems[0].message).toMatch(
      /pg_sleep/,
    );
  });
});

test("forty tables get forty loads, saved and rehearsed in one go", async () => {
  await house.sql(
    house.names.source,
    Array.from(
      { length: 40 },
      (_, n) =>
        `CREATE TABLE many_${n} (id int PRIMARY KEY, updated_at timestamptz NOT NULL DEFAULT now()); INSERT INTO many_${n} VALUES (1), (2)`,
    ).join(";"),
  );
  const tables = Array.from({ length: 40 }, (_, n) => `public.many_${n}`);
  const suggested = (await house.ask("POST", "/pipelines/suggest", { connection: "app", tables, schema: "many" }))
    .body as { name: string; load: object }[];
  expect(suggested).toHaveLength(40);
  const created = await house.ask("POST", "/pipelines", {
    name: "many",
    definition: {
      title: "Many",
      warehouse: "dwh",
      loads: Object.fromEntries(suggested.map(({ name, load }) => [name, load])),
    },
  });
  expect(created.status).toBe(201);
  const started = (await house.ask("POST", "/pipelines/many/run", {})).body;
  await house.execute(started.id);
  const done = (await house.ask("GET", `/runs/${started.id}`)).body;
  expect(done).toMatchObject({ status: "finished", verdict: "proved", tally: { read: "80", new: "80" } });
});
