import type { Pipeline } from "@undercoat/core/pipeline/pipeline";
import { ConnectionRow, ConsentRow } from "@undercoat/server/store/models";
import { type Gate, openGate } from "@undercoat/standins/gate";
import { afterAll, beforeAll, describe, expect, test } from "vitest";
import { environment, makeHouse, projectFile, type TestHouse, trips } from "./house.ts";

let house: TestHouse;
let gate: Gate;
beforeAll(async () => {
  house = await makeHouse("applications");
  gate = await openGate({ scans: 3000, secret: "the gate's own secret" });
});
afterAll(async () => {
  await Promise.all([house.close(), gate.close()]);
});

const editor: TestHouse["ask"] = (...asked) => house.as(house.tokens.editor)(...asked);
const administrator: TestHouse["ask"] = (...asked) => house.as(house.tokens.administrator)(...asked);
const oauth = (grant: "client_credentials" | "authorization_code") => ({
  grant,
  ...(grant === "authorization_code" ? { authorize: new URL("/oauth/authorize", gate.url).href } : {}),
  token: new URL("/oauth/token", gate.url).href,
  client: gate.client,
  scopes: ["scans.read", "incidents.read"],
});
const settings = (grant: "client_credentials" | "authorization_code" = "client_credentials") => ({
  kind: "http",
  url: gate.url,
  describe: "/openapi.json",
  auth: { oauth: oauth(grant) },
});

describe("what an application is signed in to with", () => {
  test.each([
    ["beside the settings", () => ({ ...settings(), password: gate.secret })],
    [
      "within them",
      () => ({ ...settings(), auth: { oauth: { ...oauth("client_credentials"), secret: gate.secret } } }),
    ],
  ])("may be given %s, is sealed, and is told nowhere", async (_, given) => {
    const made = await editor("POST", "/connections", { name: "gate", ...given() });
    expect([made.status, made.body.hasPassword, made.body.consent]).toEqual([201, true, null]);
    const row = await ConnectionRow.findByPk("gate", { rejectOnEmpty: true });
    for (const told of [
      made.body,
      row.settings,
      row.secret,
      (await editor("GET", "/connections/gate")).body,
      (await editor("GET", "/project")).body,
      (await editor("GET", "/connections/gate/datasets")).body,
    ])
      expect(JSON.stringify(told)).not.toContain(gate.secret);
    expect((await editor("GET", "/connections/gate/datasets")).body).toHaveLength(3);
    await editor("DELETE", "/connections/gate");
  });

  test.each([
    ["basic", { basic: { user: "u", password: { env: "S" } } }],
    ["key", { key: { header: "X-Key", value: { env: "S" } } }],
    ["bearer", { bearer: { env: "S" } }],
    ["oauth", { oauth: { grant: "client_credentials", token: "http://h/t", client: "c", secret: { env: "S" } } }],
  ])(
    "is written into a project file by %s, taken from the environment, and left out of the next export",
    async (name, auth) => {
      const text = JSON.stringify({
        undercoat: 1,
        connections: { [`by-${name}`]: { kind: "http", url: "http://h/api", auth } },
      });
      const applied = await editor("POST", "/project", { text, environment: { S: "from-outside" } });
      expect(applied.body.changes).toEqual([{ what: "connection", name: `by-${name}`, change: "created" }]);
      expect(await house.house.store.credentials(`by-${name}`)).toMatchObject({ password: "from-outside" });
      const again = await editor("POST", "/project", { text, environment: { S: "from-outside" }, check: true });
      expect(again.body.changes).toMatchObject([{ change: "unchanged" }]);
      const exported = await editor("GET", "/project");
      expect(JSON.stringify(exported.body)).toContain(`by-${name}`);
      expect(JSON.stringify(exported.body)).not.toContain("from-outside");
      const unset = await editor("POST", "/project", { text, environment: {} });
      expect([unset.status, JSON.stringify(unset.body)]).toEqual([422, expect.stringContaining("S is not set")]);
    },
  );

  test("must be typed again where the address, or where tokens are given, changes", async () => {
    await editor("POST", "/connections", { name: "moved", ...settings(), password: gate.secret });
    for (const changed of [
      { ...settings(), url: "http://elsewhere.example/api" },
      { ...settings(), auth: { oauth: { ...oauth("client_credentials"), token: "http://elsewhere.example/token" } } },
    ])
      expect((await editor("PUT", "/connections/moved", changed)).status).toBe(422);
    expect((await editor("PUT", "/connections/moved", { ...settings(), limits: { minute: 600 } })).status).toBe(200);
  });

  test.each([
    ["an address with a password in it", () => ({ ...settings(), url: "http://u:p@h/api" })],
    ["an address that is none", () => ({ ...settings(), url: "file:///etc/passwd" })],
    ["two ways", () => ({ ...settings(), auth: { bearer: "x", basic: { user: "u" } } })],
    ["a key in a header of HTTP's own", () => ({ ...settings(), auth: { key: { header: "Host" } } })],
    ["a variable on a screen", () => ({ ...settings(), auth: { bearer: { env: "PATH" } } })],
    [
      "consent without a place for it",
      () => ({ ...settings(), auth: { oauth: { ...oauth("client_credentials"), grant: "authorization_code" } } }),
    ],
  ])("is refused: %s", async (_, given) => {
    expect((await editor("POST", "/connections", { name: "odd", ...given() })).status).toBe(422);
  });
});

describe("consent", () => {
  /** Sends somebody to consent, and follows them as a browser would; the address that they are sent back to. */
  async function agreed(): Promise<URL> {
    const { body } = await editor("POST", "/connections/ada/consent");
    const page = new URL(body.address);
    page.searchParams.set("agreed", "yes");
    const answer = await fetch(page, { redirect: "manual" });
    return new URL(answer.headers.get("location") ?? "");
  }
  const back = (ask: TestHouse["ask"], to: URL) => ask("GET", `/consent${to.search}`);
  const where = async (answer: Promise<{ headers: Headers }>) => (await answer).headers.get("location");

  test("is asked for with PKCE, taken once, from who was sent alone, and kept sealed", async () => {
    await editor("POST", "/connections", { name: "ada", ...settings("authorization_code"), password: gate.secret });
    expect((await editor("GET", "/connections/ada")).body.consent).toBe("missing");
    expect(JSON.stringify((await editor("GET", "/connections/ada/datasets")).body)).not.toContain(gate.secret);
    const first = await agreed();
    expect(first.searchParams.get("state")).toHaveLength(43);
    const [kept] = await ConsentRow.findAll();
    expect(JSON.stringify(kept)).not.toContain(first.searchParams.get("state"));
    // Another user's browser brings it: it was not sent.
    expect(await where(back(administrator, first))).toBe("/connections?consent=unasked");
    expect(await where(back(editor, first))).toBe("/connections?consent=unasked");
    const second = await agreed();
    const forged = new URL(second);
    forged.searchParams.set("state", "x".repeat(43));
    expect(await where(back(editor, forged))).toBe("/connections?consent=unasked");
    const wrongCode = await agreed();
    wrongCode.searchParams.set("code", "another's");
    expect(await where(back(editor, wrongCode))).toBe("/connections?consent=failed");
    expect(await where(back(editor, second))).toBe("/connections/ada");
    expect(await where(back(editor, second))).toBe("/connections?consent=unasked");
    const row = await ConnectionRow.findByPk("ada", { rejectOnEmpty: true });
    expect(row.consent).toEqual(expect.any(String));
    expect((await editor("GET", "/connections/ada")).body.consent).toBe("given");
    expect((await editor("GET", "/connections/ada/datasets")).body).toHaveLength(3);
  });

  test("that is denied, too old, or asked by a viewer leads nowhere", async () => {
    const denied = await agreed();
    denied.searchParams.delete("code");
    denied.searchParams.set("error", "access_denied");
    expect(await where(back(editor, denied))).toBe("/connections?consent=denied");
    const late = await agreed();
    await ConsentRow.update({ expiresAt: new Date(Date.now() - 1000) }, { where: {} });
    expect(await where(back(editor, late))).toBe("/connections?consent=unasked");
    const viewer = house.as(house.tokens.viewer);
    expect((await viewer("POST", "/connections/ada/consent")).status).toBe(403);
    expect((await back(viewer, late)).status).toBe(403);
  });

  test("gives tokens for once: many readers at one time take turns, and the last refresh token is kept", async () => {
    const { store } = house.house;
    const before = (await ConnectionRow.findByPk("ada", { rejectOnEmpty: true })).consent;
    const credentials = (await store.credentials("ada")) as Awaited<ReturnType<typeof store.credentials>>;
    const used: string[] = [];
    const waiting = async () =>
      (await store.query<{ n: string }>("SELECT count(*) AS n FROM pg_locks WHERE NOT granted"))[0]?.n ?? "0";
    await Promise.all(
      Array.from({ length: 4 }, () =>
        credentials.consent?.renew(async (refresh) => {
          // The first does not end before another one waits for it.
          if (used.push(refresh) === 1) await expect.poll(waiting, { timeout: 10_000 }).not.toBe("0");
          return { refresh: `${refresh}+`, got: null };
        }),
      ),
    );
    expect(new Set(used).size).toBe(4);
    expect(used.toSorted((a, b) => b.length - a.length)[0]).toMatch(/\+{3}$/);
    expect((await ConnectionRow.findByPk("ada", { rejectOnEmpty: true })).consent).not.toBe(before);
  });

  test("ends with a change of where it was given", async () => {
    const moved = { ...settings("authorization_code"), url: "http://elsewhere.example/api", password: "new" };
    expect((await editor("PUT", "/connections/ada", moved)).body.consent).toBe("missing");
  });
});

describe("a load from an application", () => {
  const pipeline: Pipeline = {
    title: "Scans",
    warehouse: "store",
    loads: {
      scan: {
        from: {
          connection: "scans",
          path: "/scans",
          records: "data",
          page: { cursor: "next", as: "after", size: 1000, sizeAs: "limit" },
          since: { parameter: "updated_after", excludes: true },
        },
        watermark: { column: "updated_at" },
        into: { table: "landing.scan", mode: "upsert", key: ["scan_id"] },
      },
    },
  };

  test("is suggested whole: records, pages, key and watermark", async () => {
    await editor("POST", "/connections", { name: "scans", ...settings(), password: gate.secret });
    const { body } = await editor("POST", "/pipelines/suggest", {
      connection: "scans",
      tables: ['"."./scans'],
      schema: "landing",
    });
    expect(body[0]).toMatchObject({
      name: "scans",
      load: {
        from: {
          path: "/scans",
          records: "data",
          page: { cursor: "next", as: "after" },
          since: { parameter: "updated_after" },
        },
        watermark: { column: "updated_at" },
        into: { table: "landing.scans", mode: "upsert", key: ["scan_id"] },
      },
    });
  });

  test("tells what it asked, with nothing secret in it", async () => {
    await house.sql(house.names.source, trips);
    await editor("POST", "/project", { text: projectFile(house), environment: environment() });
    const made = await editor("POST", "/pipelines", { name: "scans", definition: pipeline });
    expect(made).toMatchObject({ status: 201 });
    const { body: begun } = await editor("POST", "/pipelines/scans/run", {});
    const { id } = begun[0] ?? begun;
    await house.execute(id);
    const { body } = await editor("GET", `/runs/${id}`);
    expect(body.loads[0]).toMatchObject({ status: "finished", verdict: "proved", tally: { new: "3000" } });
    const { asked } = body.loads[0].findings;
    expect(asked.requests.map((one: { address: string }) => new URL(one.address).pathname)).toContain("/api/scans");
    expect(asked.first).toContain('"scan_id":1,');
    expect(JSON.stringify(body)).not.toContain(gate.secret);
  });
});

test("hosts that a module may ask are an administrator's to list", async () => {
  const tides = { name: "tides", kind: "module", file: "tides.mjs", hosts: ["tides.example:443"] };
  expect((await editor("POST", "/connections", tides)).status).toBe(403);
  expect((await administrator("POST", "/connections", tides)).status).toBe(201);
  expect(
    (await editor("PUT", "/connections/tides", { kind: "module", file: "tides.mjs", hosts: ["other.example"] })).status,
  ).toBe(403);
  expect((await administrator("POST", "/connections", { ...tides, name: "up", file: "../up.mjs" })).status).toBe(422);
});
