import { beginTry, passTry } from "@undercoat/server/account/attempts";
import { issueSetup, makeFirst } from "@undercoat/server/account/first";
import { keepProof } from "@undercoat/server/jobs/proofs";
import { startDue } from "@undercoat/server/jobs/scheduler";
import { UserRow } from "@undercoat/server/store/models";
import { answersTo } from "@undercoat/server/visitor";
import { afterAll, beforeAll, describe, expect, inject, test } from "vitest";
import { environment, makeHouse, projectFile, type TestHouse, trips } from "./house.ts";

/** Who may come in, and what they may do at once. */
let house: TestHouse;
beforeAll(async () => {
  house = await makeHouse("door");
  await house.sql(house.names.source, trips);
  await house.ask("POST", "/project", { text: projectFile(house), environment: environment() });
});
afterAll(() => house.close());

const cookieOf = (headers: Headers) => ({ Cookie: (headers.get("set-cookie") ?? "").split(";")[0] ?? "" });
const enter = (login: string, password = "a long password") => house.as(null)("POST", "/session", { login, password });

describe("before sign-in", () => {
  test("no request is large, no field is long, and no name but the server's own is answered", async () => {
    const visitor = house.as(null);
    expect((await visitor("POST", "/session", { login: "x".repeat(7_900_000), password: "y" })).status).toBe(413);
    expect((await visitor("POST", "/session", { login: "x".repeat(100), password: "y" })).status).toBe(422);
    expect((await visitor("POST", "/session/link", { token: "x".repeat(1000) })).status).toBe(422);
    expect((await visitor("GET", "/session", undefined, { Host: "evil.example" })).status).toBe(421);
    expect((await visitor("GET", "/health", undefined, { Host: "evil.example" })).status).toBe(421);
    const settings = { ...house.house.settings, hosts: ["undercoat.kestrel.example"] };
    expect(
      [
        "localhost:4400",
        "127.0.0.1",
        "[::1]:80",
        "undercoat.kestrel.example:443",
        "evil.example",
        "undercoat.kestrel.example.evil.example",
      ].map((host) => answersTo(host, settings)),
    ).toEqual([true, true, true, true, false, false]);
  });

  test("of forty wrong passwords at once a few are tried, and a stranger's keep nobody else out", async () => {
    const at = Date.now();
    const tries = Array.from({ length: 40 }, () => beginTry("ada", "10.0.0.1", at));
    expect(tries.filter((wait) => wait === 0)).toHaveLength(5);
    expect(beginTry("ada", "10.0.0.2", at)).toBe(0);
    // The next wait is longer than the first.
    const first = beginTry("ada", "10.0.0.1", at);
    expect(beginTry("ada", "10.0.0.1", at + first * 1000)).toBe(0);
    expect(beginTry("ada", "10.0.0.1", at + first * 1000)).toBeGreaterThan(first);
    passTry("ada", "10.0.0.1");
    expect(beginTry("ada", "10.0.0.1", at)).toBe(0);
    // One address that tries many names waits too.
    const many = Array.from({ length: 60 }, (_, n) => beginTry(`name${n}`, "10.0.0.9", at));
    expect(many.filter((wait) => wait === 0).length).toBeLessThanOrEqual(20);
  });

  test("the first account is one, whoever comes at once", async () => {
    const empty = await makeHouse("door_empty");
    try {
      await UserRow.destroy({ where: {} });
      const token = (await issueSetup()) ?? "";
      const made = await Promise.allSettled(
        Array.from({ length: 5 }, (_, n) =>
          makeFirst(empty.house.store, token, { login: `first${n}`, name: "First", password: null }),
        ),
      );
      expect(made.filter((entry) => entry.status === "fulfilled")).toHaveLength(1);
      expect(await UserRow.count()).toBe(1);
    } finally {
      await empty.close();
      // Models are bound to the last store that was opened.
      await rebind();
    }
  });
});

/** Binds the models to this file's own store again. */
async function rebind(): Promise<void> {
  const { bindModels } = await import("@undercoat/server/store/models");
  bindModels(house.house.store.sequelize);
}

describe("what roles may do", () => {
  test("a viewer looks at what has been saved and runs no SQL of their own", async () => {
    const viewer = house.as(house.tokens.viewer);
    const { definition } = (await viewer("GET", "/pipelines/trips")).body;
    expect((await viewer("POST", "/pipelines/preview", { pipeline: "trips", definition, load: "trip" })).status).toBe(
      200,
    );
    const own = {
      ...definition,
      loads: {
        trip: {
          ...definition.loads.trip,
          from: { connection: "trips", query: "SELECT 1 AS id, 2 AS fare, now() AS at" },
        },
      },
    };
    expect(
      (await viewer("POST", "/pipelines/preview", { pipeline: "trips", definition: own, load: "trip" })).status,
    ).toBe(403);
    expect(
      (await viewer("POST", "/pipelines/preview", { pipeline: "elsewhere", definition, load: "trip" })).status,
    ).toBe(403);
    expect(
      (
        await viewer("POST", "/pipelines/columns", {
          from: own.loads.trip.from,
          warehouse: "store",
          table: "landing.trip",
        })
      ).status,
    ).toBe(403);
    expect(
      (
        await viewer("POST", "/pipelines/columns", {
          from: definition.loads.trip.from,
          warehouse: "store",
          table: "landing.trip",
        })
      ).status,
    ).toBe(200);
    expect(
      (
        await house.ask("POST", "/pipelines/preview", {
          pipeline: "trips",
          definition: {
            ...own,
            loads: { trip: { ...own.loads.trip, from: { connection: "trips", query: "SELECT pg_sleep(9) AS id" } } },
          },
          load: "trip",
        })
      ).body.title,
    ).toMatch(/calls pg_sleep/);
    expect(
      (await house.sql(house.names.warehouse, "SELECT 1 FROM pg_namespace WHERE nspname = 'undercoat'")).rowCount,
    ).toBe(0);
  });

  test("only an administrator lets loads write marks through a connection", async () => {
    const at = { kind: "postgres", host: "127.0.0.1", database: "desk", user: "desk", marks: true };
    const editor = house.as(house.tokens.editor);
    expect((await editor("POST", "/connections", { name: "desk", ...at })).status).toBe(403);
    expect((await house.as(house.tokens.administrator)("POST", "/connections", { name: "desk", ...at })).status).toBe(
      201,
    );
    const kept = await editor("PUT", "/connections/desk", at);
    expect([kept.status, kept.body.about.told]).toEqual([200, "statements"]);
    const { marks: _, ...without } = at;
    expect((await editor("PUT", "/connections/desk", without)).status).toBe(403);
  });

  test("only an administrator lists functions that queries may call", async () => {
    const {
      usedBy: _,
      hasPassword: __,
      name: ___,
      about: ____,
      consent: _____,
      ...settings
    } = (await house.ask("GET", "/connections/trips")).body;
    expect((await house.ask("PUT", "/connections/trips", { ...settings, functions: ["public.f"] })).status).toBe(403);
    expect(
      (
        await house.as(house.tokens.administrator)("PUT", "/connections/trips", {
          ...settings,
          functions: ["public.f"],
        })
      ).status,
    ).toBe(200);
    expect((await house.ask("PUT", "/connections/trips", settings)).body.functions).toEqual(["public.f"]);
    expect((await house.ask("POST", "/project", { text: projectFile(house), environment: environment() })).status).toBe(
      403,
    );
    await house.as(house.tokens.administrator)("PUT", "/connections/trips", { ...settings, functions: [] });
  });

  test("a stored password goes nowhere else: not to another user, database or without TLS; and a host is no path", async () => {
    const { port } = inject("cluster");
    const settings = {
      kind: "postgres",
      host: "127.0.0.1",
      port,
      database: house.names.source,
      user: "nobody",
      tls: "off",
    };
    await house.ask("POST", "/connections", { ...settings, name: "kept", password: "a secret" });
    for (const change of [
      { user: "other" },
      { database: "postgres" },
      { tls: "require" },
      { host: "localhost" },
      { port: port + 1 },
    ])
      expect(
        (await house.ask("PUT", "/connections/kept", { ...settings, ...change })).body.problems?.[0]?.path,
        JSON.stringify(change),
      ).toEqual(["password"]);
    expect((await house.ask("PUT", "/connections/kept", settings)).status).toBe(200);
    for (const host of ["/var/run/postgresql", "@socket", "a,b"])
      expect(
        (await house.ask("POST", "/connections", { ...settings, host, name: "socket", password: "x" })).body.problems[0]
          .path,
      ).toEqual(["host"]);
  });

  test("two administrators can't demote each other at once", async () => {
    const administrator = house.as(house.tokens.administrator);
    const second = (
      await administrator("POST", "/users", {
        login: "second",
        name: "Second",
        role: "administrator",
        password: "a long password",
      })
    ).body;
    const users = (await administrator("GET", "/users")).body as { id: number; login: string }[];
    const first = users.find((user) => user.login === "administrator");
    const other = cookieOf((await enter("second")).headers);
    const [a, b] = await Promise.all([
      administrator("PATCH", `/users/${second.id}`, { role: "viewer" }),
      house.as(null)("PATCH", `/users/${first?.id}`, { role: "viewer" }, other),
    ]);
    expect([a.status, b.status].sort()).not.toEqual([200, 200]);
    expect(await UserRow.count({ where: { role: "administrator", active: true } })).toBeGreaterThan(0);
    await UserRow.update({ role: "administrator" }, { where: { login: "administrator" } });
  });

  test("tokens end, are seen and ended by an administrator, and a password is changed by who knows it", async () => {
    const [viewer, administrator] = [house.as(house.tokens.viewer), house.as(house.tokens.administrator)];
    const { token } = (await viewer("POST", "/tokens", { name: "short", days: 1 })).body;
    expect((await house.as(token)("GET", "/runs")).status).toBe(200);
    const listed = (await administrator("GET", "/tokens")).body as {
      id: number;
      name: string;
      user: string;
      lastUsedAt: string;
      expiresAt: string;
    }[];
    const mine = listed.find((entry) => entry.name === "short");
    expect(mine).toMatchObject({ user: "The viewer", lastUsedAt: expect.any(String), expiresAt: expect.any(String) });
    expect((await viewer("GET", "/tokens")).body.every((entry: { user: string }) => entry.user === "The viewer")).toBe(
      true,
    );
    expect((await house.ask("DELETE", `/tokens/${mine?.id}`)).status).toBe(404);
    await house.sql("door_own", "UPDATE passes SET expires_at = now() - interval '1 second' WHERE name = 'short'");
    expect((await house.as(token)("GET", "/runs")).status).toBe(401);
    expect((await administrator("DELETE", `/tokens/${mine?.id}`)).status).toBe(204);

    const entered = await enter("viewer");
    const cookie = cookieOf(entered.headers);
    const change = (current: string, next: string) =>
      house.as(null)("POST", "/session/password", { current, next }, cookie);
    expect((await change("wrong password", "another long one")).body.problems[0].path).toEqual(["current"]);
    const elsewhere = cookieOf((await enter("viewer")).headers);
    expect((await change("a long password", "another long one")).status).toBe(204);
    expect((await house.as(null)("GET", "/runs", undefined, cookie)).status).toBe(200);
    expect((await house.as(null)("GET", "/runs", undefined, elsewhere)).status).toBe(401);
    expect((await enter("viewer", "another long one")).status).toBe(200);
    house.tokens.viewer = (await house.as(null)("POST", "/tokens", { name: "again" }, cookie)).body.token;
  });

  test("an event stream ends with the session that opened it", async () => {
    const cookie = cookieOf((await enter("editor")).headers);
    const { makeApp } = await import("@undercoat/server/app");
    const { default: pino } = await import("pino");
    const app = makeApp(house.house, pino({ level: "silent" }));
    const stream = await app.request("http://127.0.0.1:4400/api/events", {
      headers: { Host: "127.0.0.1:4400", ...cookie },
    });
    const reader = stream.body?.getReader();
    expect(new TextDecoder().decode((await reader?.read())?.value)).toContain("ready");
    await app.request("http://127.0.0.1:4400/api/session", {
      method: "DELETE",
      headers: { Host: "127.0.0.1:4400", Origin: "http://127.0.0.1:4400", ...cookie },
    });
    let ended = false;
    while (!ended) ended = (await reader?.read())?.done ?? true;
    expect(ended).toBe(true);
  });
});

describe("of several at once", () => {
  test("six saves of what was read once, one wins; of two creations of one name too", async () => {
    const { definition, updatedAt } = (await house.ask("GET", "/pipelines/trips")).body;
    const saves = await Promise.all(
      Array.from({ length: 6 }, (_, n) =>
        house.ask("PUT", "/pipelines/trips", { definition: { ...definition, title: `Trips ${n}` }, updatedAt }),
      ),
    );
    expect(saves.map((save) => save.status).sort()).toEqual([200, 409, 409, 409, 409, 409]);
    const twin = {
      ...definition,
      loads: { trip: { ...definition.loads.trip, into: { ...definition.loads.trip.into, table: "landing.twin" } } },
    };
    const made = await Promise.all(
      [1, 2].map(() => house.ask("POST", "/pipelines", { name: "twin", definition: twin })),
    );
    expect(made.map((answer) => answer.status).sort()).toEqual([201, 409]);
    const connections = await Promise.all(
      [1, 2].map(() =>
        house.ask("POST", "/connections", {
          name: "twins",
          kind: "postgres",
          host: "127.0.0.1",
          port: 1,
          database: "d",
          user: "u",
        }),
      ),
    );
    expect(connections.map((answer) => answer.status).sort()).toEqual([201, 409]);
  });

  test("two pipelines can't write one table of one warehouse", async () => {
    const { definition } = (await house.ask("GET", "/pipelines/trips")).body;
    const refused = await house.ask("POST", "/pipelines", {
      name: "second",
      definition: {
        ...definition,
        loads: { trip: { ...definition.loads.trip, into: { ...definition.loads.trip.into, table: '"landing".trip' } } },
      },
    });
    expect(refused.body.problems[0]).toMatchObject({
      path: ["loads", "trip", "into", "table"],
      message: expect.stringMatching(/written by the pipeline trips too/),
    });
  });
});

test("cells of rejected rows that begin a formula are marked in CSV", async () => {
  await house.sql(
    house.names.source,
    "CREATE TABLE sheet (id int PRIMARY KEY, v text); INSERT INTO sheet VALUES (1, '=1+1'), (2, '@SUM(A1)'), (3, '-5x'), (4, '+cmd'), (5, E'\\ttab')",
  );
  const { definition } = (await house.ask("GET", "/pipelines/trips")).body;
  const load = {
    from: { connection: "trips", table: "public.sheet" },
    columns: { id: "id", v: { as: "v", type: "integer" } },
    into: { table: "landing.sheet", mode: "upsert", key: ["id"] },
  };
  expect(
    (
      await house.ask("POST", "/pipelines", {
        name: "sheet",
        definition: { title: "Sheet", warehouse: definition.warehouse, loads: { sheet: load } },
      })
    ).status,
  ).toBe(201);
  const run = (await house.ask("POST", "/pipelines/sheet/run", {})).body;
  await house.execute(run.id);
  const csv = (await house.ask("GET", "/rejected/csv?pipeline=sheet&load=sheet")).body as string;
  expect(
    csv
      .split("\n")
      .slice(1, 6)
      .map((line) => line.split(",").at(-1)),
  ).toEqual(["'=1+1", "'@SUM(A1)", "-5x", "'+cmd", "'\ttab"]);
});

describe("the ledger's marks", () => {
  const marks = async () =>
    (
      await house.sql(
        "door_own",
        "SELECT slice, verdict, depth, cells_at IS NOT NULL AS cells FROM slices WHERE pipeline = 'trips' ORDER BY slice LIMIT 2",
      )
    ).rows;
  const keep = async (kind: "load" | "prove", proof: object) => {
    const { RunRow, RunLoadRow } = await import("@undercoat/server/store/models");
    const run = (await house.ask("POST", "/pipelines/trips/run", { kind })).body;
    const row = await RunRow.findByPk(run.id, { rejectOnEmpty: true });
    const load = await RunLoadRow.findOne({ where: { runId: run.id }, rejectOnEmpty: true });
    await row.update({ status: "cancelled" });
    const given = { how: "source", figures: [], cells: null, sourceSql: "", warehouseSql: "", whole: false, ...proof };
    await house.house.store.sequelize.transaction((transaction) =>
      keepProof(house.house.store, row, load, { proof: given as never, rows: null }, transaction),
    );
  };
  const slice = (name: string, verdict: string, depth: string) => ({ slice: name, verdict, depth, figures: [] });

  test("say cells until a run changes the slice, and don't forget a disagreement that only cells show", async () => {
    await keep("prove", {
      verdict: "proved",
      depth: "cells",
      whole: true,
      slices: [slice("2026-11-01", "proved", "cells"), slice("2026-11-02", "proved", "cells")],
    });
    expect(await marks()).toEqual([
      { slice: "2026-11-01", verdict: "proved", depth: "cells", cells: true },
      { slice: "2026-11-02", verdict: "proved", depth: "cells", cells: true },
    ]);
    await keep("load", {
      verdict: "proved",
      depth: "cells",
      touched: ["2026-11-02"],
      slices: [slice("2026-11-01", "proved", "figures"), slice("2026-11-02", "proved", "figures")],
    });
    expect((await marks()).map((row) => row.depth)).toEqual(["cells", "figures"]);
    await keep("prove", { verdict: "disagrees", depth: "cells", slices: [slice("2026-11-01", "disagrees", "cells")] });
    await keep("prove", { verdict: "proved", depth: "figures", slices: [slice("2026-11-01", "proved", "figures")] });
    expect((await marks())[0]).toMatchObject({ verdict: "disagrees", depth: "cells" });
    // A whole proof leaves no mark of a slice that neither side has any more.
    await keep("prove", {
      verdict: "proved",
      depth: "figures",
      whole: true,
      slices: [slice("2026-11-02", "proved", "figures")],
    });
    expect((await marks()).map((row) => row.slice)).toEqual(["2026-11-02"]);
  });

  test("are proved cell by cell by themselves when that is due, a part at a time, and never before a load", async () => {
    const at = Date.parse("2026-11-24T02:30:00Z");
    await house.sql(
      "door_own",
      "DELETE FROM slices WHERE pipeline = 'sheet'; UPDATE slices SET cells_at = NULL; UPDATE pipelines SET next_at = NULL; UPDATE runs SET status = 'cancelled' WHERE status IN ('queued', 'running')",
    );
    const { startCellProofs } = await import("@undercoat/server/jobs/scheduler");
    expect(await startCellProofs(house.house.store, house.house.queue, at)).toMatchObject({
      pipeline: "trips",
      load: "trip",
      slices: ["2026-11-02"],
    });
    // Not while anything runs.
    expect(await startCellProofs(house.house.store, house.house.queue, at)).toBeNull();
    await house.sql(
      "door_own",
      "UPDATE runs SET status = 'finished' WHERE status = 'queued'; UPDATE slices SET cells_at = '2026-11-24 02:00:00+00', depth = 'cells'",
    );
    expect(await startCellProofs(house.house.store, house.house.queue, at)).toBeNull();
    // A day later it is due again; by day only when it is overdue.
    expect(await startCellProofs(house.house.store, house.house.queue, at + 20 * 3_600_000)).toBeNull();
    expect(await startCellProofs(house.house.store, house.house.queue, at + 24 * 3_600_000)).not.toBeNull();
    expect(await startDue(house.house.store, house.house.queue, at)).toEqual([]);
  });
});
