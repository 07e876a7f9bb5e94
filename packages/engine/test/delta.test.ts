import type { Load } from "@undercoat/core/pipeline/pipeline";
import type { CredentialsOf } from "@undercoat/engine/connection/credentials";
import { sourceFor } from "@undercoat/engine/source/registry";
import { type Crew, openCrew } from "@undercoat/standins/crew";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { officeOf } from "./office.ts";
import { makePair, type Pair, quiet } from "./pair.ts";
import { json, makeWeb, type Web } from "./web.ts";

let pair: Pair;
let web: Web;
beforeAll(async () => {
  pair = await makePair("delta");
  web = await makeWeb();
});
afterAll(async () => {
  await Promise.all([pair.close(), web.close()]);
});
beforeEach(() => pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE"));

/** Runs a load and keeps what it told. */
async function telling(from: CredentialsOf<"odata">, load: Load) {
  const lines: string[] = [];
  const outcome = await pair.between(from).run(load, { report: { ...quiet, line: (words) => lines.push(words) } });
  return {
    ...outcome,
    lines: lines.join("\n"),
    asked: (outcome.findings.asked?.requests ?? []).map((one) => one.address),
  };
}

describe("the shifts of the Crew office", () => {
  let crew: Crew;
  beforeEach(async () => {
    crew = await openCrew();
    return crew.close;
  });
  const office = () => officeOf(crew);
  const shifts: Load = {
    from: { connection: "crew", table: "Shifts" },
    into: { table: "landing.shift", mode: "upsert", key: ["PersonId", "Number"], deleted: "remove" },
    proof: { figures: ["rows", "sum(Hours)"] },
  };
  const proved = async (load = shifts) => (await pair.between(office()).prove(load, true)).proof.verdict;

  test("are read whole once, and then what changed and what is gone, as the service tells it", async () => {
    expect((await sourceFor(office()).dataset({ schema: ".", table: "Shifts" })).proposal).toMatchObject({
      tracked: true,
    });
    expect((await telling(office(), shifts)).tally).toMatchObject({ read: "2400", new: "2400" });
    const { added, changed, deleted } = crew.passHour();
    const next = await telling(office(), shifts);
    expect(next.tally).toEqual({
      read: String(added + changed),
      new: String(added),
      changed: String(changed),
      same: "0",
      deleted: String(deleted),
      rejected: "0",
    });
    expect(next.lines).toContain("reading what changed since the last run, as crew tells it");
    expect(next.asked.some((asked) => asked.includes("deltatoken"))).toBe(true);
    expect([next.proof.verdict, await proved()]).toEqual(["proved", "proved"]);
    const none = await telling(office(), shifts);
    expect([none.tally.read, none.tally.deleted, none.proof.verdict]).toEqual(["0", "0", "proved"]);
    // Several hours at once, more than a page holds.
    for (let hour = 0; hour < 150; hour++) crew.passHour();
    const many = await telling(office(), shifts);
    expect([many.tally.new, many.tally.changed, many.tally.deleted]).toEqual(["750", "3", "150"]);
    expect([many.proof.verdict, await proved()]).toEqual(["proved", "proved"]);
  });

  test("are rehearsed so too, and what is asked for next is told", async () => {
    await telling(office(), shifts);
    crew.passHour();
    const { tally } = await pair.between(office()).rehearse(shifts);
    expect([tally.read, tally.new, tally.changed, tally.deleted]).toEqual(["8", "5", "3", "1"]);
    expect((await telling(office(), shifts)).tally).toMatchObject({ new: "5", changed: "3", deleted: "1" });
  });

  test("are read whole again once the service has forgotten, and nothing is missed", async () => {
    await telling(office(), shifts);
    crew.passHour();
    crew.forget();
    const again = await telling(office(), shifts);
    expect(again.lines).toContain("crew no longer knows what changed since then (410), so all of it is read");
    expect(again.tally).toMatchObject({ read: "2404", new: "5", changed: "3", deleted: "1" });
    expect(await proved()).toBe("proved");
    crew.passHour();
    expect((await telling(office(), shifts)).tally).toMatchObject({ read: "8", deleted: "1" });
  });

  test("what was deleted while that was not wanted goes with the first run that wants it", async () => {
    const keeping: Load = { ...shifts, into: { ...shifts.into, deleted: "keep" } };
    await telling(office(), keeping);
    crew.passHour();
    expect((await telling(office(), keeping)).tally).toMatchObject({ read: "8", deleted: "0" });
    expect(await proved(keeping)).toBe("disagrees");
    expect((await telling(office(), shifts)).tally).toMatchObject({ read: "2404", deleted: "1" });
    expect(await proved()).toBe("proved");
  });

  test("a load that asks for other columns begins anew, and one that was called off is not passed", async () => {
    await telling(office(), shifts);
    crew.passHour();
    const stopped = { ...shifts, rules: { "no shift is long": '"Hours" < 5' }, rejects: { breach: "stop" as const } };
    await expect(telling(office(), stopped)).rejects.toThrow();
    expect((await telling(office(), shifts)).tally).toMatchObject({ new: "5", deleted: "1" });
    await pair.atWarehouse('ALTER TABLE landing.shift DROP COLUMN "Vessel"');
    const fewer: Load = { ...shifts, columns: { PersonId: "PersonId", Number: "Number", Hours: "Hours" } };
    expect((await telling(office(), fewer)).tally.read).toBe("2404");
  });

  test("versions are kept of them as of any other", async () => {
    const history: Load = { ...shifts, into: { ...shifts.into, mode: "history", deleted: "close" } };
    await telling(office(), history);
    crew.passHour();
    const next = await telling(office(), history);
    expect(next.tally).toMatchObject({ read: "8", new: "5", closed: "4" });
    expect([next.proof.verdict, await proved(history)]).toEqual(["proved", "proved"]);
  });
});

describe("a service's word", () => {
  const service = (): CredentialsOf<"odata"> => ({
    name: "service",
    settings: { kind: "odata", url: web.url },
    password: "",
  });
  const load: Load = {
    from: { connection: "service", table: "Things" },
    into: { table: "landing.thing", mode: "upsert", key: ["id"], deleted: "remove" },
  };
  const metadata =
    '<edmx:Edmx xmlns:edmx="e"><edmx:DataServices><Schema Namespace="N"><EntityType Name="T"><Key><PropertyRef Name="id"/></Key><Property Name="id" Type="Edm.Guid" Nullable="false"/><Property Name="name" Type="Edm.String"/></EntityType><EntityContainer Name="C"><EntitySet Name="Things" EntityType="N.T"/></EntityContainer></Schema></edmx:DataServices></edmx:Edmx>';
  const id = (at: number) => `0000000a-0000-0000-0000-${String(at).padStart(12, "0")}`;
  const thing = (at: number, name: string | null = `thing ${at}`) => JSON.stringify({ id: id(at), name });
  const all = (link = "?delta=1") =>
    `{"value":[${Array.from({ length: 9 }, (_, at) => thing(at)).join(",")}],"@odata.deltaLink":"Things${link}"}`;
  const rows = async () =>
    Object.fromEntries(
      (await pair.atWarehouse("SELECT id::text, name FROM landing.thing")).map((row) => [
        Number(row.id?.slice(-4)),
        row.name,
      ]),
    );
  /** Answers with all, and then with entries of what changed. */
  const tells = (entries: string[], more = "") =>
    web.answer((_, response, url) => {
      if (url.pathname === "/$metadata") return response.writeHead(200).end(metadata);
      if (url.searchParams.has("page"))
        return json(response, `{"value":[${more}],"@odata.deltaLink":"Things?delta=2"}`);
      if (url.searchParams.has("delta"))
        return json(
          response,
          `{"value":[${entries.join(",")}]${more ? ',"@odata.nextLink":"Things?page=2"' : ',"@odata.deltaLink":"Things?delta=2"'}}`,
        );
      return json(response, all());
    });

  test("of two about one key the later counts, however it writes the key, on whatever page", async () => {
    tells([]);
    await telling(service(), load);
    const gone = (at: number) => `{"@removed":{"reason":"deleted"},"@id":"Things(${id(at).toUpperCase()})"}`;
    tells(
      [
        thing(1, "changed"),
        gone(1),
        gone(2),
        thing(2, "came again"),
        thing(3, "once"),
        `{"@odata.context":"#Things/$deletedEntity","id":"${web.url}/Things(${id(4)})","reason":"changed"}`,
        `{"@odata.context":"#Things/$link","source":"a","relationship":"b","target":"c"}`,
        `{"@odata.removed":{"reason":"deleted"},"id":"${id(5)}"}`,
      ],
      `${thing(3, "twice")},${thing(20, null)}`,
    );
    const { tally } = await telling(service(), load);
    expect(tally).toMatchObject({ read: "3", new: "1", changed: "2", rejected: "0", deleted: "3" });
    const found = await rows();
    expect(found).toMatchObject({ 2: "came again", 3: "twice", 20: null });
    expect([1, 4, 5].some((one) => one in found)).toBe(false);
  });

  test.each([
    ["a record without a member that was asked for", `{"id":"${id(1)}"}`],
    ["an entry that says no key", '{"@removed":{"reason":"deleted"}}'],
    ["one whose address names another key", '{"@removed":{},"@id":"Things(a=1,b=2)"}'],
    ["one that is no record", "7"],
  ])("%s is no change that could be taken, so all is read", async (_, entry) => {
    tells([]);
    await telling(service(), load);
    tells([entry]);
    const { tally, lines } = await telling(service(), load);
    expect(lines).toContain("service tells what changed in part only, so all of it is read");
    expect(tally).toMatchObject({ read: "9", same: "9", deleted: "0" });
  });

  test("a link to another host is not followed, and all is read each time", async () => {
    web.answer((_, response, url) =>
      url.pathname === "/$metadata"
        ? response.writeHead(200).end(metadata)
        : json(response, all("?delta=1").replace('"Things?', '"http://169.254.169.254/Things?')),
    );
    expect((await telling(service(), load)).lines).toContain(
      "would tell what changes at another host, 169.254.169.254",
    );
    expect((await telling(service(), load)).tally).toMatchObject({ read: "9", same: "9" });
  });

  test("more that is gone than a load allows stops it, and nothing is written", async () => {
    tells([]);
    await telling(service(), load);
    tells([1, 2, 3, 4, 5].map((at) => `{"@removed":{"reason":"deleted"},"id":"${id(at)}"}`));
    const strict: Load = { ...load, into: { ...load.into, deletions: { most: 10 } } };
    await expect(telling(service(), strict)).rejects.toThrow("as deleted");
    expect(Object.keys(await rows())).toHaveLength(9);
  });

  test("refused for want of a right it ends the load, and is not taken for forgetfulness", async () => {
    tells([]);
    await telling(service(), load);
    web.answer((_, response, url) =>
      url.pathname === "/$metadata"
        ? response.writeHead(200).end(metadata)
        : url.searchParams.has("delta")
          ? response.writeHead(403).end()
          : json(response, all()),
    );
    await expect(telling(service(), load)).rejects.toThrow("answered 403");
  });
});
