import { handOverDue } from "@undercoat/server/messages/postman";
import { tellLate } from "@undercoat/server/messages/tell";
import { DeliveryRow, FactRow, MessageRow, PipelineRow, TroubleRow } from "@undercoat/server/store/models";
import { type Inbox, openInbox } from "@undercoat/standins/inbox";
import { openReceiver, type Receiver } from "@undercoat/standins/receiver";
import { Webhook } from "standardwebhooks";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { environment, makeHouse, projectFile, type TestHouse, trips } from "./house.ts";

/** Who is told: by requests and by mail that really go out, to stand-ins that really take them. */
const secret = "a secret of the harbour office";
let house: TestHouse;
let inbox: Inbox;
let receiver: Receiver;
beforeAll(async () => {
  house = await makeHouse("messages");
  inbox = await openInbox();
  receiver = await openReceiver(secret);
  await house.sql(house.names.source, trips);
  await house.ask("POST", "/project", { text: projectFile(house), environment: environment() });
});
afterAll(async () => {
  await house.close();
  await inbox.close();
  await receiver.close();
});

const office = (more: object = {}) => ({ to: "webhook", url: receiver.url, on: ["failed", "disagrees"], ...more });
const put = (name: string, definition: object) => house.ask("PUT", `/messages/${name}`, { definition });
const deliver = () => handOverDue(house.house.store, house.house.settings.key);
async function run(more: object = {}): Promise<number> {
  const { body } = await house.ask("POST", "/pipelines/trips/run", more);
  await house.execute(body.id);
  return body.id;
}
const away = () => house.sql(house.names.source, "ALTER TABLE trip RENAME COLUMN fare TO away");
const back = () => house.sql(house.names.source, "ALTER TABLE trip RENAME COLUMN away TO fare");

beforeEach(async () => {
  await DeliveryRow.destroy({ where: {} });
  await TroubleRow.destroy({ where: {} });
  await MessageRow.destroy({ where: {} });
});

describe("a webhook", () => {
  test("tells of a failure once, signed, and once that it is over", async () => {
    await put("office", office({ secret, headers: { "X-Site": "north" } }));
    await run();
    await away();
    await run();
    await run();
    await back();
    const mended = await run();
    while (await deliver());
    const [over, began, ...more] = receiver.requests();
    expect(more).toEqual([]);
    expect([began?.signed, over?.signed, began?.headers["x-site"]]).toEqual([true, true, "north"]);
    expect(JSON.parse(began?.body ?? "")).toMatchObject({
      type: "trouble.began",
      data: { pipeline: "trips", troubles: [{ load: "trip", kind: "failed", says: expect.stringContaining("fare") }] },
    });
    expect(JSON.parse(over?.body ?? "")).toMatchObject({ type: "trouble.ended", data: { run: { id: mended } } });
  });

  test("is tried again later under the same id, and given up after the last time", async () => {
    await put("office", office({ secret, on: ["finished"] }));
    await run();
    receiver.answer(500, 100);
    const before = receiver.requests().length;
    expect([await deliver(), await deliver()]).toEqual([1, 0]);
    const waits: number[] = [];
    for (;;) {
      const row = await DeliveryRow.findOne({ rejectOnEmpty: true });
      if (row.status !== "waiting") break;
      waits.push(Math.round(((row.nextAt?.getTime() ?? 0) - Date.now()) / 10_000) * 10);
      await row.update({ nextAt: new Date(0) });
      await deliver();
    }
    expect(waits).toEqual([30, 120, 600, 1800, 3600, 7200, 14_400, 28_800, 28_800]);
    const tried = receiver.requests().slice(0, receiver.requests().length - before);
    expect(tried).toHaveLength(10);
    expect(new Set(tried.map(({ headers }) => headers["webhook-id"])).size).toBe(1);
    // Each is signed anew, for its own time.
    expect(tried.every(({ signed }) => signed)).toBe(true);
    const { body } = await house.ask("GET", "/deliveries");
    expect(body).toMatchObject([{ status: "given up", tries: 10, error: "It answered 500" }]);
    receiver.answer(204, 0);
    const again = await house.ask("POST", `/deliveries/${body[0].id}/again`, {});
    expect(again.body).toMatchObject({ status: "sent", tries: 1 });
    expect(again.body.attempts.at(-1).request.headers["webhook-id"]).toBe(body[0] && again.body.uid);
  });

  test("follows no redirection, and tells what keeps it", async () => {
    await put("office", office());
    receiver.answer(307, 1);
    const moved = await house.ask("POST", "/messages/office/test", {});
    expect(moved.body).toMatchObject({
      status: "given up",
      attempts: [{ error: "It answered 307", answer: { status: 307 } }],
    });
    const closed = await openReceiver(secret);
    await closed.close();
    await put("office", office({ url: closed.url }));
    const refused = await house.ask("POST", "/messages/office/test", {});
    expect(refused.body.attempts[0]).toMatchObject({ answer: null, error: expect.stringContaining("refused") });
    expect(await DeliveryRow.count({ where: { status: "waiting" } })).toBe(0);
  });

  test("signs as any reader of the specification expects, with a secret of either form", async () => {
    const key = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw";
    await put("office", office({ secret: key }));
    const { body } = await house.ask("POST", "/messages/office/test", {});
    const [{ body: text = "", headers = {} } = {}] = receiver.requests();
    expect(() => new Webhook(key).verify(text, headers)).not.toThrow();
    expect(() => new Webhook(key).verify(text.replace("test", "tset"), headers)).toThrow();
    expect(body.attempts[0].request.headers["webhook-id"]).toBe(body.uid);
    // The receiver was given another secret.
    expect(body.attempts[0].answer.status).toBe(401);
  });
});

describe("a mail", () => {
  const desk = { to: "mail", address: "night@kestrel.example", on: ["failed", "finished", "rejected"] };
  const server = () => ({ host: "127.0.0.1", port: inbox.port, from: "undercoat@kestrel.example" });

  test("is plain and well-formed, with the tally and links", async () => {
    await put("night-desk", desk);
    expect((await house.ask("POST", "/messages/night-desk/test", {})).body.attempts[0].error).toBe(
      "No mail server is named",
    );
    await house.ask("PUT", "/mail", { settings: server() });
    await FactRow.upsert({ name: "address", value: "http://undercoat.example" });
    await house.sql(house.names.source, "INSERT INTO trip VALUES (1000, 1, now())");
    const id = await run();
    while (await deliver());
    const [mail] = inbox.mails();
    expect(mail).toMatchObject({
      to: ["night@kestrel.example"],
      from: "undercoat@kestrel.example",
      subject: `Trips: run ${id} finished`,
    });
    expect(mail?.text).toMatch(/\d+ read = 1 new \+ \d+ changed \+ \d+ same \+ 0 rejected; proved/);
    expect(mail?.text).toContain(`http://undercoat.example/runs/${id}`);
  });

  test("that is refused for now is tried again, as the same mail", async () => {
    await put("night-desk", { ...desk, on: ["finished"] });
    await house.ask("PUT", "/mail", { settings: server() });
    await run();
    inbox.refuse(1);
    await deliver();
    const row = await DeliveryRow.findOne({ rejectOnEmpty: true });
    expect(row).toMatchObject({ status: "waiting", attempts: [{ answer: { status: 451 } }] });
    await row.update({ nextAt: new Date(0) });
    await deliver();
    expect(inbox.mails()[0]?.id.startsWith(row.uid)).toBe(true);
  });
});

test("late is told where nothing ran by the hour, and over with the run", async () => {
  await put("desk", {
    to: "webhook",
    url: receiver.url,
    on: ["late"],
    pipelines: ["trips"],
    late: { by: "07:00", zone: "Europe/Oslo", needs: "proved" },
  });
  // On the day that a summer begins, 07:00 in Oslo is 05:00 in UTC.
  const look = (time: string) => tellLate(house.house.store, Date.parse(time));
  const types = async () => (await DeliveryRow.findAll({ order: ["id"] })).map(({ body }) => body.type);
  await look("2031-03-30T04:59:59Z");
  expect(await types()).toEqual([]);
  await look("2031-03-30T05:00:01Z");
  await look("2031-03-30T09:00:00Z");
  expect(await types()).toEqual(["trouble.began"]);
  const today = new Date().toISOString().slice(0, 10);
  await run();
  await look(`${today}T23:59:59Z`);
  expect(await types()).toEqual(["trouble.began", "trouble.ended"]);
  await PipelineRow.update({ nextAt: new Date(0) }, { where: { name: "trips" } });
  await put("desk", { to: "webhook", url: receiver.url, on: ["late"] });
  await house.ask("PUT", "/schedules/paused", { reason: "the source moves" });
  await look(new Date().toISOString());
  expect(await TroubleRow.findOne()).toBeNull();
  await house.ask("PUT", "/schedules/paused", { reason: null });
  await look(new Date().toISOString());
  expect((await TroubleRow.findOne())?.says).toBe("Trips was due and has not begun");
});

test("what a run tells commits with the run, or not at all; several processes hand each over once", async () => {
  await put("office", office({ on: ["finished"] }));
  const before = receiver.requests().length;
  await Promise.all([1, 2, 3].map(() => run()));
  expect(await DeliveryRow.count()).toBe(3);
  await Promise.all([1, 2, 3, 4].map(() => deliver()));
  expect(receiver.requests().length - before).toBe(3);
});

describe("secrets", () => {
  test("are sealed, never told, and typed again where they would go elsewhere", async () => {
    const { body } = await put("office", office({ secret }));
    expect(body).toMatchObject({ hasSecret: true });
    expect(JSON.stringify(body)).not.toContain(secret);
    expect((await MessageRow.findByPk("office"))?.secret).not.toContain("harbour");
    expect((await put("office", office({ url: "http://127.0.0.1:1/in" }))).body.title).toContain(
      "Type the secret again",
    );
    expect((await put("office", office({ url: `${receiver.url}?site=1` }))).status).toBe(200);
    expect((await put("office", office({ secret: { env: "HOME" } }))).status).toBe(422);
    await house.ask("PUT", "/mail", {
      settings: { host: "127.0.0.1", port: inbox.port, from: "a@b.example", user: "u", password: "hidden-word" },
    });
    expect(JSON.stringify((await house.ask("GET", "/mail")).body)).not.toContain("hidden-word");
    expect(
      (
        await house.ask("PUT", "/mail", {
          settings: { host: "elsewhere.example", port: 25, from: "a@b.example", user: "u" },
        })
      ).status,
    ).toBe(422);
    const { body: file } = await house.ask("GET", "/project");
    expect(file.text).toContain("office");
    expect(file.text).not.toContain(secret);
    expect(file.text).not.toContain("hidden-word");
  });

  test("come from the environment of whoever applies a file, which changes nothing the second time", async () => {
    const text = `undercoat: 1
messages:
  office: { to: webhook, url: "${receiver.url}", secret: { env: OFFICE_SECRET }, on: [failed] }
mail: { host: 127.0.0.1, port: ${inbox.port}, from: undercoat@kestrel.example }
`;
    await house.ask("PUT", "/mail", { settings: null });
    const unset = await house.ask("POST", "/project", { text, environment: {} });
    expect(unset.body.problems[0]).toMatchObject({
      message: expect.stringContaining("OFFICE_SECRET is not set"),
      line: 3,
    });
    const apply = async () =>
      (await house.ask("POST", "/project", { text, environment: { OFFICE_SECRET: secret } })).body.changes;
    expect((await apply())[0]).toEqual({ what: "message", name: "office", change: "created" });
    expect((await apply()).map((one: { change: string }) => one.change)).toEqual(["unchanged", "unchanged"]);
    expect((await house.ask("POST", "/messages/office/test", {})).body.attempts[0].answer.status).toBe(204);
    expect(receiver.requests()[0]?.signed).toBe(true);
  });

  test("a viewer reads and changes nothing", async () => {
    const viewer = house.as(house.tokens.viewer);
    await put("office", office());
    expect((await viewer("GET", "/messages")).status).toBe(200);
    for (const [method, path] of [
      ["PUT", "/messages/office"],
      ["DELETE", "/messages/office"],
      ["POST", "/messages/office/test"],
      ["PUT", "/mail"],
      ["POST", "/deliveries/1/again"],
    ] as const)
      expect((await viewer(method, path, {})).status).toBe(403);
  });
});
