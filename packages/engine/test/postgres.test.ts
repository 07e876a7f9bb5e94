import { once } from "node:events";
import { type AddressInfo, connect, createServer } from "node:net";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import type { LoadPlan } from "@undercoat/core/plan/plan";
import { planFor } from "@undercoat/engine/load/planning";
import { Session } from "@undercoat/engine/postgres/session";
import { sourceFor } from "@undercoat/engine/source/registry";
import type { Answers, Snapshot } from "@undercoat/engine/source/source";
import { afterAll, beforeAll, describe, expect, test } from "vitest";
import { sourceContract } from "./contract.ts";
import { makePair, type Pair } from "./pair.ts";

let pair: Pair;
beforeAll(async () => {
  pair = await makePair("contract");
});
afterAll(() => pair.close());

sourceContract("PostgreSQL", {
  pair: () => pair,
  credentials: () => pair.source,
  from: { table: "public.sample" },
  item: { schema: "public", table: "sample" },
  absent: { table: "public.nowhere" },
  firstStep: "address",
  furnish: async (rows) => {
    const values = rows.map((row) =>
      row.map((value) => (value === null ? "NULL" : `'${String(value).replaceAll("'", "''")}'`)).join(", "),
    );
    await pair.atSource(
      `DROP TABLE IF EXISTS sample; CREATE TABLE sample (id int PRIMARY KEY, name text, fare numeric, at timestamptz NOT NULL); INSERT INTO sample VALUES (${values.join("), (")})`,
    );
  },
});

test("rows, watermark and figures belong to one moment", async () => {
  await pair.atSource(
    "DROP TABLE IF EXISTS sample; CREATE TABLE sample (id int PRIMARY KEY, at timestamptz NOT NULL); INSERT INTO sample VALUES (1, '2026-11-01'), (2, '2026-11-02'), (3, '2026-11-03')",
  );
  const load: Load = {
    from: { connection: "source", table: "public.sample" },
    watermark: { column: "at" },
    into: { table: "landing.moment", mode: "upsert", key: ["id"] },
  };
  const pipeline = { title: "Test", warehouse: "w", loads: { load } };
  const within = async <T>(work: (snapshot: Snapshot, answers: Answers, plan: LoadPlan) => Promise<T>): Promise<T> => {
    const snapshot = await sourceFor(pair.source).snapshot("undercoat test");
    try {
      const { plan } = await planFor(
        { pipelineName: "test", pipeline, load: "load" },
        { source: snapshot, warehouse: null },
      );
      const answers = snapshot.answers(plan);
      if (!answers) throw new Error("It answers nothing");
      return await work(snapshot, answers, plan);
    } finally {
      await snapshot.close();
    }
  };
  await within(async (snapshot, answers, plan) => {
    await pair.atSource("INSERT INTO sample VALUES (4, '2026-11-04')");
    const rows = await snapshot.rows(plan, { kind: "all" }, null, false);
    let head = Buffer.alloc(0);
    for await (const chunk of rows) if (head.length < 11) head = Buffer.concat([head, chunk]);
    expect(head.subarray(0, 11).toString("latin1")).toBe("PGCOPY\n\xff\r\n\0");
    expect(await rows.counted).toBe(3);
    expect((await answers.highWater(plan, { kind: "all" }))?.slice(0, 10)).toBe("2026-11-03");
    expect((await answers.side(plan, null).figures("all", false)).total.values).toEqual(["3"]);
  });
  await within(async (_, answers, plan) =>
    expect((await answers.side(plan, null).figures("all", false)).total.values).toEqual(["4"]),
  );
});

describe("the number of rows that comes after the last of them", () => {
  const copyDone = Buffer.from("c\0\0\0\x04", "latin1");

  /** Reads three rows over a wire that holds back what follows the last of them until they are read, or is cut then. */
  const lateCount = async (then: "comes" | "cut") => {
    let end: () => void = () => undefined;
    const server = createServer((near) => {
      const far = connect(pair.source.settings.port, "127.0.0.1");
      near.on("error", () => far.destroy()).on("close", () => far.destroy());
      near.pipe(far);
      far.on("data", (bytes: Buffer) => {
        const at = bytes.indexOf(copyDone);
        if (at < 0) {
          near.write(bytes);
          return;
        }
        far.pause();
        near.write(bytes.subarray(0, at + copyDone.length));
        end = () => {
          if (then === "cut") near.destroy();
          else near.write(bytes.subarray(at + copyDone.length));
          far.resume();
        };
      });
    }).listen(0, "127.0.0.1");
    await once(server, "listening");
    const { port } = server.address() as AddressInfo;
    const session = await Session.open(
      { ...pair.source, settings: { ...pair.source.settings, port } },
      { application: "late count", fresh: true },
    );
    try {
      const rows = await session.copyOut("COPY (SELECT generate_series(1, 3)) TO STDOUT");
      for await (const _ of rows);
      end();
      return await rows.counted;
    } finally {
      await session.close();
      server.close();
    }
  };

  test("is waited for", async () => {
    expect(await lateCount("comes")).toBe(3);
  });

  test("is a failure where it never comes", async () => {
    await expect(lateCount("cut")).rejects.toThrow("Connection terminated");
  });
});

describe("a check that fails says the fact and what to do", () => {
  const failing = async (change: object, password?: string) => {
    const steps: { step: string; outcome: string; fact: string; hint: string | undefined }[] = [];
    const { source } = pair;
    const passed = await sourceFor({
      ...source,
      settings: { ...source.settings, ...change },
      password: password ?? source.password,
    }).check(true, ({ step, outcome, fact, failure }) => steps.push({ step, outcome, fact, hint: failure?.hint }));
    expect(passed).toBe(false);
    return steps.at(-1);
  };

  test("at each step", async () => {
    expect(await failing({ host: "nowhere.invalid" })).toMatchObject({
      step: "address",
      outcome: "failed",
      fact: "The host name nowhere.invalid is not known",
      hint: expect.stringContaining("spelling"),
    });
    expect(await failing({ port: 1 })).toMatchObject({
      step: "port",
      outcome: "failed",
      fact: "Nothing answers at 127.0.0.1:1",
    });
    expect(await failing({ tls: "require" })).toMatchObject({
      step: "tls",
      outcome: "failed",
      fact: "The server does not speak TLS",
    });
    expect(await failing({ database: "nope" })).toMatchObject({
      step: "sign in",
      fact: "contract_source has no database nope",
    });
    const wrong = await failing({}, "s3cret-typed");
    expect(wrong).toMatchObject({ step: "sign in", outcome: "failed" });
    expect(JSON.stringify(wrong)).not.toContain("s3cret-typed");
  });

  test("a user who may read nothing and write nowhere", async () => {
    await pair.atSource(
      "DROP ROLE IF EXISTS poor; CREATE ROLE poor LOGIN PASSWORD 'poor'; CREATE TABLE IF NOT EXISTS sample (id int)",
    );
    expect(await failing({ user: "poor" }, "poor")).toMatchObject({
      step: "read",
      outcome: "failed",
      hint: expect.stringContaining("GRANT SELECT"),
    });
    await pair.atSource("GRANT SELECT ON ALL TABLES IN SCHEMA public TO poor");
    expect(await failing({ user: "poor" }, "poor")).toMatchObject({
      step: "write",
      outcome: "failed",
      hint: expect.stringContaining("GRANT CREATE"),
    });
  });
});
