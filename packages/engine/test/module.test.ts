import { mkdir, mkdtemp, rm, symlink, writeFile } from "node:fs/promises";
import { tmpdir } from "node:os";
import { join } from "node:path";
import type { Load, ModuleSettings } from "@undercoat/core/pipeline/pipeline";
import type { CredentialsOf } from "@undercoat/engine/connection/credentials";
import { Cancelled } from "@undercoat/engine/failure";
import { allowEgress } from "@undercoat/engine/http/egress";
import { modulesIn } from "@undercoat/engine/source/module/module";
import { sourceFor } from "@undercoat/engine/source/registry";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { sourceContract } from "./contract.ts";
import { makePair, type Pair, quiet } from "./pair.ts";
import { json, makeWeb, type Web } from "./web.ts";

let pair: Pair;
let web: Web;
let folder: string;
beforeAll(async () => {
  pair = await makePair("module");
  web = await makeWeb();
  folder = await mkdtemp(join(tmpdir(), "undercoat-modules-"));
  modulesIn(folder);
});
afterAll(async () => {
  await Promise.all([pair.close(), web.close()]);
  await rm(folder, { recursive: true });
});
beforeEach(async () => {
  allowEgress({ allowed: ["*"], own: [] });
  await pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
});

const tides = (settings: Partial<ModuleSettings> = {}): CredentialsOf<"module"> => ({
  name: "tides",
  settings: { kind: "module", file: "tides.mjs", ...settings },
  password: "",
});
const put = (text: string, name = "tides.mjs") => writeFile(join(folder, name), text);
const described =
  'export const describe = () => ({ datasets: [{ name: "readings", key: "id", changes: "at", fields: { id: "bigint", at: "timestamptz" } }] });\n';
const reading = (body: string) =>
  put(`${described}export async function* read({ dataset, since, settings, fetch, log, signal }) {\n${body}\n}`);
const load: Load = {
  from: { connection: "tides", table: "readings" },
  into: { table: "landing.reading", mode: "upsert", key: ["id"] },
};
const run = (settings?: Partial<ModuleSettings>, options = {}) => pair.between(tides(settings)).run(load, options);

sourceContract("A module", {
  pair: () => pair,
  credentials: () => tides({ file: "contract.mjs" }),
  from: { table: "samples" },
  item: { schema: ".", table: "samples" },
  absent: { table: "nowhere" },
  firstStep: "description",
  furnish: (rows) =>
    put(
      `const rows = ${JSON.stringify(rows.map(([id, name, fare, at]) => ({ id, name, fare, at })))};
       export const describe = () => ({ datasets: [{ name: "samples", key: "id", fields: { id: "integer", name: "text", fare: "numeric", at: "timestamptz" } }] });
       export async function* read() { yield rows.slice(0, 10); for (const row of rows.slice(10)) yield row; }`,
      "contract.mjs",
    ),
});

describe("a module", () => {
  test("in TypeScript gives records of every kind, exact where they are, and is handed its settings", async () => {
    await put(
      `interface Settings { station: string }
       export const describe = () => ({ datasets: [{ name: "readings" }] });
       export async function* read({ settings }: { settings: Settings }) {
         yield { id: 9007199254740993n, level: 1.25, at: new Date(0), station: settings.station, deep: { a: [1n, null] }, none: undefined, odd: NaN };
       }`,
      "tides.ts",
    );
    const { tally, proof } = await run({ file: "tides.ts", settings: { station: "KIL" } });
    expect([tally.new, proof.verdict]).toEqual(["1", "proved"]);
    expect(
      await pair.atWarehouse(
        "SELECT id::text, level::text, at::text LIKE '1970-01-01%' AS at, station, deep::text, odd FROM landing.reading",
      ),
    ).toEqual([
      { id: "9007199254740993", level: "1.25", at: "t", station: "KIL", deep: '{"a": [1, null]}', odd: "NaN" },
    ]);
  });

  test("is told since when what changed is wanted, and its log stands with the run", async () => {
    await reading('log("since", since); yield { id: 1, at: "2026-11-27T06:00:00Z" };');
    const watermark = { column: "at", lookBack: "PT1H" };
    const lines: string[] = [];
    const between = pair.between(tides());
    const report = { ...quiet, line: (text: string) => void lines.push(text) };
    await between.run({ ...load, watermark }, { report });
    await between.run({ ...load, watermark }, { report });
    expect(lines).toContain("it says: since null");
    expect(lines).toContain("it says: since 2026-11-27T05:00:00Z");
  });

  test("asks the hosts that its connection names, and no other", async () => {
    web.answer((request, response) =>
      json(response, JSON.stringify([{ id: 1, at: null, agent: request.headers["x-own"] ?? "none" }])),
    );
    const host = new URL(web.url).host;
    await reading(`yield await (await fetch("${web.url}/tides", { headers: { "x-own": "yes" } })).json();`);
    await expect(run()).rejects.toThrow(`${web.url}/tides is at no host that tides names`);
    await run({ hosts: [host] });
    expect(await pair.atWarehouse("SELECT agent FROM landing.reading")).toEqual([{ agent: "yes" }]);
    // A host that may be asked leads to one that may not.
    web.answer((_request, response) => response.writeHead(302, { location: "http://127.0.0.2:1/" }).end());
    await expect(run({ hosts: [host] })).rejects.toThrow("leads to 127.0.0.2:1, which may not be asked");
    await reading('yield await (await fetch("http://169.254.169.254/latest")).json();');
    await expect(run({ hosts: ["169.254.169.254"] })).rejects.toThrow("link-local");
  });

  test("reads a hundred thousand records without its batches piling up", async () => {
    await reading("for (let id = 0; id < 100000; id++) yield { id, at: null };");
    expect((await run({ megabytes: 64 })).tally.new).toBe("100000");
  });
});

describe("what goes wrong in a module ends as a failed load with its message", () => {
  test.each([
    ["throws", 'yield { id: 1 }; throw new Error("the tide is out");', "the tide is out"],
    [
      "rejects a promise that nobody waits for",
      'Promise.reject(new Error("left behind")); await new Promise(() => {});',
      "left behind",
    ],
    ["gives no record", "yield 7;", "what is no record"],
    ["gives a function", "yield { id: 1, of: () => 1 };", "holds a function"],
    ["imports", 'await import("node:fs");', "tides"],
    ["makes code of a text", 'yield { id: new Function("return 1")() };', "Code generation from strings disallowed"],
    ["holds itself", "const own = { id: 1 }; own.own = own; yield own;", "nested more than 100 deep"],
  ])("%s", async (_, body, words) => {
    await reading(body);
    await expect(run({ seconds: 20 })).rejects.toThrow(words);
    expect(await pair.atWarehouse("SELECT to_regclass('landing.reading') AS t")).toEqual([{ t: null }]);
  });

  test.each([
    ["never ends", "for (;;) {}", { seconds: 2 }, "longer than the 2 s"],
    ["waits for ever", "await new Promise(() => {});", { seconds: 2 }, "longer than the 2 s"],
    [
      "takes ever more memory",
      "const all = []; for (;;) all.push(new Array(1e5).fill(all.length));",
      { megabytes: 64 },
      "more than the 64 MB",
    ],
    [
      "takes it beside the heap",
      "const all = []; for (;;) { all.push(new Uint8Array(1e7).fill(1)); await null; }",
      { megabytes: 64 },
      "more than the 64 MB",
    ],
  ])("%s", async (_, body, settings, words) => {
    await reading(body);
    await expect(run({ seconds: 30, ...settings })).rejects.toThrow(words);
  });

  test.each([
    [
      "static imports",
      `import fs from "node:fs";\n${described}export async function* read() { yield { id: 1, at: null, x: fs.readFileSync("/etc/passwd", "utf8") }; }`,
      "it imports node:fs",
    ],
    ["what is no JavaScript", "export const describe = (", "can't be read"],
    ["no describe", "export const nothing = 1;", "exports no function describe"],
    ["a description that is none", "export const describe = () => 7;", "no list of datasets"],
    [
      "a type that is none",
      'export const describe = () => ({ datasets: [{ name: "readings", fields: { id: "number" } }] });',
      "number is not a type",
    ],
  ])("%s", async (_, text, words) => {
    await put(text);
    await expect(run()).rejects.toThrow(words);
  });

  test("somebody cancels", async () => {
    await reading("for (let id = 0; ; id++) { yield { id, at: null }; }");
    const cancelling = new AbortController();
    const cut = run({}, { signal: cancelling.signal, report: { ...quiet, progress: () => cancelling.abort() } });
    await expect(cut).rejects.toThrow(Cancelled);
  });
});

describe("a module reaches nothing beyond itself", () => {
  // Whatever it is given may be a way out: objects of another realm lead to that realm's Function, and so to its process.
  test.each([
    ["the process", "globalThis.process"],
    ["a require", "globalThis.require"],
    ["the realm of its fetch", 'fetch.constructor.constructor("return this.process")()'],
    ["the realm of its log", 'log.constructor("return this.process")()'],
    ["the realm of its settings", 'settings.constructor.constructor("return this.process")()'],
    ["the realm of its global", 'globalThis.constructor.constructor("return this.process")()'],
    [
      "the realm of an error that was made outside",
      'await fetch("http://nowhere.invalid/").catch((error) => error.constructor.constructor("return this.process")())',
    ],
    [
      "the realm of a refused import",
      'await import("node:fs").catch((error) => error.constructor.constructor("return process")())',
    ],
    ["a buffer's memory", "globalThis.Buffer"],
    [
      "another process's memory",
      "globalThis.WebAssembly && new WebAssembly.Module(new Uint8Array([0, 97, 115, 109, 1, 0, 0, 0]))",
    ],
  ])("not by %s", async (_, way) => {
    await reading(
      `let found = "nothing"; try { found = typeof (${way}); } catch (error) { found = "nothing"; } yield { id: 1, at: null, found };`,
    );
    await run({ seconds: 20 });
    expect(await pair.atWarehouse("SELECT found IN ('nothing', 'undefined') AS none FROM landing.reading")).toEqual([
      { none: "t" },
    ]);
  });

  test("and no file that lies elsewhere serves as one", async () => {
    await mkdir(join(folder, "..", "undercoat-elsewhere"), { recursive: true });
    const other = join(folder, "..", "undercoat-elsewhere", "other.mjs");
    await writeFile(other, described);
    await symlink(other, join(folder, "linked.mjs"));
    await expect(sourceFor(tides({ file: "linked.mjs" })).datasets()).rejects.toThrow("There is no module linked.mjs");
    await expect(sourceFor(tides({ file: "none.mjs" })).datasets()).rejects.toThrow("There is no module none.mjs");
  });
});
