import { readdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { issueSetup } from "@undercoat/server/account/first";
import { afterAll, beforeAll, describe, expect, inject, test } from "vitest";
import { environment, makeHouse, projectFile, type TestHouse, trips } from "./house.ts";

let test_: TestHouse;
beforeAll(async () => {
  test_ = await makeHouse("api");
  await test_.sql(test_.names.source, trips);
});
afterAll(() => test_.close());

describe("an unsigned visitor", () => {
  test("is refused everything but signing in and the health check", async () => {
    const visitor = test_.as(null);
    for (const path of [
      "/connections",
      "/pipelines",
      "/runs",
      "/runs/1",
      "/proofs",
      "/standing/ledger",
      "/standing/dock",
      "/warehouse",
      "/search?q=a",
      "/project",
      "/events",
      "/users",
      "/tokens",
      "/nothing",
    ]) {
      const { status, body } = await visitor("GET", path);
      expect([path, status, body.title]).toEqual([path, 401, "Sign in first"]);
    }
    expect((await visitor("POST", "/connections", {})).status).toBe(401);
    expect((await visitor("GET", "/health")).body).toEqual({ healthy: true });
    expect((await visitor("GET", "/session")).body).toMatchObject({ user: null, needsSetup: false });
  });

  test("can't make an administrator without the printed link, nor a second one", async () => {
    const asked = (token: string) =>
      test_.as(null)("POST", "/session/setup", { token, login: "eve", name: "Eve", password: "a long password" });
    expect((await asked("guessed")).status).toBe(409);
    expect(await issueSetup()).toBeNull();
  });

  test("signs in with a cookie that scripts can't read, and after five wrong tries has to wait", async () => {
    const visitor = test_.as(null);
    const { status, headers, body } = await visitor("POST", "/session", {
      login: "viewer",
      password: "a long password",
    });
    expect(status).toBe(200);
    expect(body.user).toMatchObject({ login: "viewer", role: "viewer" });
    expect(headers.get("set-cookie")).toMatch(/undercoat_session=[^;]+;.*HttpOnly;.*SameSite=Lax/i);
    const cookie = { Cookie: (headers.get("set-cookie") ?? "").split(";")[0] ?? "" };
    expect((await visitor("GET", "/runs", undefined, cookie)).status).toBe(200);
    expect((await visitor("DELETE", "/session", undefined, cookie)).status).toBe(204);
    expect((await visitor("GET", "/runs", undefined, cookie)).status).toBe(401);
    for (let tries = 0; tries < 5; tries++)
      expect((await visitor("POST", "/session", { login: "editor", password: "wrong" })).status).toBe(401);
    expect((await visitor("POST", "/session", { login: "editor", password: "a long password" })).status).toBe(429);
  });
});

describe("every answer", () => {
  test("carries the headers that shut a browser's doors, and errors are problem details", async () => {
    const { headers, body } = await test_.ask("GET", "/runs/999999");
    expect(headers.get("content-type")).toBe("application/problem+json");
    expect(body).toEqual({ type: "about:blank", title: "There is no run 999999", status: 404 });
    expect(headers.get("content-security-policy")).toContain("default-src 'none'");
    expect(headers.get("x-content-type-options")).toBe("nosniff");
    expect(headers.get("cache-control")).toBe("no-store");
  });

  test("to another site's write is a refusal", async () => {
    const { headers } = await test_.as(null)("POST", "/session", {
      login: "administrator",
      password: "a long password",
    });
    const cookie = { Cookie: (headers.get("set-cookie") ?? "").split(";")[0] ?? "" };
    const write = (origin: Record<string, string>) =>
      test_.as(null)("POST", "/pipelines/times", { every: "PT5M" }, { ...cookie, ...origin });
    expect((await write({ Origin: "http://evil.example" })).status).toBe(403);
    expect((await write({ Origin: "" })).status).toBe(403);
    expect((await write({ "Sec-Fetch-Site": "cross-site" })).status).toBe(403);
    expect((await write({})).status).toBe(200);
  });

  test("to what is not JSON, or wrong JSON, says what is wrong", async () => {
    const { status, body } = await test_.ask("POST", "/connections", {
      name: "x y",
      kind: "postgres",
      host: "",
      port: 0,
    });
    expect(status).toBe(422);
    expect(body.problems.map((problem: { path: string[] }) => problem.path.join("."))).toEqual(
      expect.arrayContaining(["name", "host", "port", "database", "user"]),
    );
  });
});

describe("roles", () => {
  test("a viewer looks, an editor changes, an administrator keeps accounts", async () => {
    const [viewer, editor, administrator] = [
      test_.as(test_.tokens.viewer),
      test_.as(test_.tokens.editor),
      test_.as(test_.tokens.administrator),
    ];
    expect((await viewer("GET", "/pipelines")).status).toBe(200);
    for (const [method, path] of [
      ["POST", "/connections"],
      ["POST", "/connections/check"],
      ["POST", "/pipelines"],
      ["PUT", "/pipelines/trips"],
      ["POST", "/pipelines/trips/run"],
      ["POST", "/runs/1/cancel"],
      ["POST", "/project"],
      ["POST", "/demo/hour"],
      ["DELETE", "/connections/x"],
    ] as const)
      expect([path, (await viewer(method, path, {})).status]).toEqual([path, 403]);
    expect((await editor("GET", "/users")).status).toBe(403);
    expect((await administrator("GET", "/users")).body).toHaveLength(3);
  });

  test("the last administrator stays, and a closed account is out at once", async () => {
    const administrator = test_.as(test_.tokens.administrator);
    const list = (await administrator("GET", "/users")).body as { id: number; role: string; login: string }[];
    const id = (login: string) => list.find((user) => user.login === login)?.id;
    expect((await administrator("PATCH", `/users/${id("administrator")}`, { role: "viewer" })).body.title).toContain(
      "only administrator",
    );
    const made = await administrator("POST", "/users", {
      login: "guest",
      name: "Guest",
      role: "viewer",
      password: "ten letters",
    });
    expect(JSON.stringify(made.body)).not.toMatch(/password|scrypt/);
    const entered = await test_.as(null)("POST", "/session", { login: "guest", password: "ten letters" });
    const cookie = { Cookie: (entered.headers.get("set-cookie") ?? "").split(";")[0] ?? "" };
    await administrator("PATCH", `/users/${made.body.id}`, { active: false });
    expect((await test_.as(null)("GET", "/runs", undefined, cookie)).status).toBe(401);
  });
});

describe("a project file", () => {
  test("is applied whole or not at all", async () => {
    const wrong = await test_.ask("POST", "/project", {
      text: projectFile(test_, (text) => text.replace("key: [id]", "key: [nope]")),
      environment: environment(),
    });
    expect(wrong.status).toBe(422);
    expect(wrong.body.problems).toEqual([
      {
        line: 13,
        path: ["pipelines", "trips", "loads", "trip", "into", "key"],
        message: "The key names nope, which is not a column of the load",
      },
    ]);
    expect((await test_.ask("GET", "/connections")).body).toEqual([]);
    const unset = await test_.ask("POST", "/project", { text: projectFile(test_), environment: {} });
    expect(unset.body.problems[0]).toMatchObject({
      line: 3,
      message: "The environment variable TEST_PASSWORD is not set",
    });
    const applied = await test_.ask("POST", "/project", { text: projectFile(test_), environment: environment() });
    expect(applied.body.changes.map((change: { change: string }) => change.change)).toEqual([
      "created",
      "created",
      "created",
    ]);
    const again = await test_.ask("POST", "/project", { text: projectFile(test_), environment: environment() });
    expect(again.body.changes.map((change: { change: string }) => change.change)).toEqual([
      "unchanged",
      "unchanged",
      "unchanged",
    ]);
    const exported = (await test_.ask("GET", "/project")).body.text;
    expect(
      (await test_.ask("POST", "/project", { text: exported, environment: {} })).body.changes.map(
        (change: { change: string }) => change.change,
      ),
    ).toEqual(["unchanged", "unchanged", "unchanged"]);
  });
});

describe("a password", () => {
  const secret = "pa55-w0rd-never-told";
  test("is stored sealed and comes back nowhere", async () => {
    const { port } = inject("cluster");
    const settings = {
      kind: "postgres",
      host: "127.0.0.1",
      port,
      database: test_.names.source,
      user: "nobody",
      tls: "off",
    };
    await test_.ask("POST", "/connections", { ...settings, name: "secretive", password: secret });
    await test_.ask("POST", "/connections/secretive/duplicate", { name: "secretive-copy" });
    const answers = [
      await test_.ask("GET", "/connections"),
      await test_.ask("GET", "/connections/secretive"),
      await test_.ask("GET", "/connections/secretive/datasets"),
      await test_.ask("POST", "/connections/check", { ...settings, name: "secretive" }),
      await test_.ask("GET", "/project"),
      await test_.ask("PUT", "/connections/secretive", { ...settings, port: 1 }),
    ];
    expect(JSON.stringify(answers)).not.toContain(secret);
    expect(answers[2]?.status).toBe(502);
    expect(answers[5]?.body.problems[0].path).toEqual(["password"]);
    const stored = await test_.sql("api_own", "SELECT secret FROM connections WHERE name LIKE 'secretive%'");
    expect(stored.rows.map((row) => row.secret.slice(0, 2))).toEqual(["1:", "1:"]);
    expect(stored.rows[0].secret).not.toBe(stored.rows[1].secret);
    for (const file of readdirSync(test_.house.settings.data))
      expect(readFileSync(join(test_.house.settings.data, file), "utf8")).not.toContain(secret);
    for (const name of ["secretive", "secretive-copy"])
      expect((await test_.ask("DELETE", `/connections/${name}`)).status).toBe(204);
  });

  test("stays with a connection in use, which can't be deleted", async () => {
    expect((await test_.ask("DELETE", "/connections/trips")).body.title).toBe("trips is in use by Trips");
  });
});

describe("a pipeline", () => {
  test("is refused with every problem where it is", async () => {
    const { definition, updatedAt } = (await test_.ask("GET", "/pipelines/trips")).body;
    const load = { ...definition.loads.trip, from: { ...definition.loads.trip.from, where: "fare > (SELECT 1)" } };
    const refused = await test_.ask("PUT", "/pipelines/trips", {
      definition: { ...definition, loads: { trip: load, twin: definition.loads.trip } },
      updatedAt,
    });
    expect(refused.body.problems[0]).toMatchObject({ path: ["loads", "twin", "into", "table"] });
    const again = await test_.ask("PUT", "/pipelines/trips", {
      definition: { ...definition, loads: { trip: load } },
      updatedAt,
    });
    expect(again.body.problems).toEqual([
      { path: ["loads", "trip", "from", "where"], message: expect.stringContaining("subquery"), position: 7 },
    ]);
    const missing = await test_.ask("PUT", "/pipelines/trips", {
      definition: {
        ...definition,
        loads: { trip: { ...load, from: { connection: "trips", table: "public.trip", where: "fere > 1" } } },
      },
    });
    expect(missing.body.problems[0]).toMatchObject({
      path: ["loads", "trip", "from", "where"],
      message: expect.stringContaining("fere"),
    });
  });

  test("changed by somebody else meanwhile is not overwritten", async () => {
    const { definition, updatedAt } = (await test_.ask("GET", "/pipelines/trips")).body;
    expect(
      (await test_.ask("PUT", "/pipelines/trips", { definition: { ...definition, title: "Trips" }, updatedAt })).status,
    ).toBe(200);
    expect((await test_.ask("PUT", "/pipelines/trips", { definition, updatedAt })).status).toBe(409);
  });

  test("shows rows as they would be loaded, suggests loads, and tells its next five times", async () => {
    const { definition, schedules } = (await test_.ask("GET", "/pipelines/trips")).body;
    expect(schedules[0]).toMatchObject({
      words: "every 15 minutes",
      next: expect.arrayContaining([expect.any(String)]),
    });
    expect(schedules[0].next).toHaveLength(10);
    const preview = (
      await test_.ask("POST", "/pipelines/preview", { pipeline: "trips", definition, load: "trip", limit: 3 })
    ).body;
    expect(preview.rows.map((row: { values: { id: string } }) => row.values.id)).toEqual(["100", "99", "98"]);
    expect(preview).toMatchObject({
      held: null,
      watermark: null,
      columns: [{ name: "id", key: true }, { name: "fare" }, { name: "at" }],
    });
    const suggested = (
      await test_.ask("POST", "/pipelines/suggest", { connection: "trips", tables: ["public.trip"], schema: "landing" })
    ).body;
    expect(suggested[0].load.into).toEqual({ table: "landing.trip", mode: "upsert", key: ["id"] });
  });

  test("a look is ended by a newer one of the same part of a page, and by no other page's", async () => {
    const { definition } = (await test_.ask("GET", "/pipelines/trips")).body;
    const slow = structuredClone(definition);
    slow.loads.trip.from = {
      connection: "trips",
      query: "SELECT t.* FROM trip t, generate_series(1, 30000000) n WHERE n = 1",
    };
    const look = (part: string, wanted = slow) =>
      test_.ask("POST", "/pipelines/preview", {
        pipeline: "trips",
        definition: wanted,
        load: "trip",
        limit: 3,
        look: part,
      });
    const first = look("one pane");
    const other = await look("another pane", definition);
    const newer = await look("one pane", definition);
    expect([(await first).status, other.status, newer.status]).toEqual([409, 200, 200]);
  });
});
