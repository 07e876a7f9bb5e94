import { readFileSync } from "node:fs";
import { join } from "node:path";
import { type APIRequestContext, type BrowserContext, expect, type Page, test } from "@playwright/test";

/** Several people, several tabs, and a server that goes away. */
test.describe.configure({ mode: "serial" });

let context: BrowserContext;
let page: Page;
let other: APIRequestContext;
const address = () => process.env.DEMO_ADDRESS ?? "";

test.beforeAll(async ({ browser, playwright }) => {
  const token = readFileSync(join(process.env.UNDERCOAT_DATA ?? "", "token"), "utf8").trim();
  const bearer = { Authorization: `Bearer ${token}` };
  context = await browser.newContext();
  const accounts = ["Una Draft", "Olav Other"].map((name) => ({
    login: name.split(" ")[0]?.toLowerCase(),
    name,
    role: "editor",
    password: "ten letters at least",
  }));
  for (const account of accounts)
    await context.request.post(`${address()}/api/users`, { data: account, headers: bearer });
  const signIn = (request: APIRequestContext, at: number) =>
    request.post(`${address()}/api/session`, {
      data: { login: accounts[at]?.login, password: accounts[at]?.password },
      headers: { Origin: address() },
    });
  await signIn(context.request, 0);
  other = await playwright.request.newContext({ extraHTTPHeaders: { Origin: address() } });
  await signIn(other, 1);
  page = await context.newPage();
});
test.afterAll(async () => {
  await context.close();
  await other.dispose();
});

const saved = async () => (await other.get(`${address()}/api/pipelines/payments`)).json();

test("what somebody else saves does not take a draft away", async () => {
  await page.goto(`${address()}/pipelines/payments/payment`);
  const before = await saved();
  // Una renames the pipeline, and has not saved it.
  await page.getByRole("button", { name: "Title" }).click();
  await page.getByRole("dialog").getByRole("textbox").fill("Payments of Una");
  await page.keyboard.press("Enter");
  await expect(page.getByText(/draft with 1 change/)).toBeVisible();
  const put = (definition: object, updatedAt: string) =>
    other.put(`${address()}/api/pipelines/payments`, { data: { definition, updatedAt } });
  const schedule = { ...before.definition.schedule, every: "PT45M" };
  expect((await put({ ...before.definition, schedule }, before.updatedAt)).status()).toBe(200);
  const note = page.getByRole("alert").filter({ hasText: "Olav Other saved a change" });
  await expect(note).toContainText("schedule");
  await expect(page.getByRole("button", { name: "Save", exact: true })).toBeDisabled();
  await page.reload();
  await expect(note).toBeVisible();
  await note.getByRole("button", { name: "Compare" }).click();
  await expect(page.getByRole("dialog")).toContainText("Payments of Una");
  await expect(page.getByRole("dialog")).toContainText("PT45M");
  await page.keyboard.press("Escape");
  await note.getByRole("button", { name: "Keep mine" }).click();
  await page.getByRole("button", { name: "Save", exact: true }).click();
  await expect(page.getByText(/draft with/)).toBeHidden();
  const after = await saved();
  expect(after).toMatchObject({
    savedBy: "Una Draft",
    definition: { title: "Payments of Una", schedule: { every: "PT45M" } },
  });
  expect((await put(before.definition, after.updatedAt)).status()).toBe(200);
});

test("ten tabs of one browser share one stream, and each hears", async () => {
  let streams = 0;
  context.on("request", (request) => {
    if (request.url().endsWith("/api/events")) streams++;
  });
  const tabs: Page[] = [];
  for (let number = 0; number < 10; number++) {
    const tab = await context.newPage();
    await tab.goto(`${address()}/runs`);
    await tab.getByRole("heading", { level: 1 }).waitFor();
    tabs.push(tab);
  }
  const runSeenBy = async (seeing: Page[]) => {
    const { id } = await (await other.post(`${address()}/api/pipelines/payments/run`, { data: {} })).json();
    for (const tab of seeing) await expect(tab.locator(`a[href="/runs/${id}"]`).first()).toBeVisible();
  };
  await runSeenBy(tabs);
  expect(streams).toBeLessThanOrEqual(1);
  // The one that listens goes: another takes over, and nobody misses what was told in between.
  await Promise.all([page.close(), tabs[0]?.close(), runSeenBy(tabs.slice(1))]);
  expect(streams).toBeLessThanOrEqual(3);
  await Promise.all(tabs.slice(1).map((tab) => tab.close()));
});

test("a server that does not answer is told at once, and no more when it is back", async () => {
  const tab = await context.newPage();
  await context.route("**/api/events", (route) => route.abort());
  await tab.goto(address());
  const told = tab.getByRole("alert").filter({ hasText: "The server does not answer" });
  await expect(told).toBeVisible();
  await context.unroute("**/api/events");
  await expect(told).toBeHidden();
  await expect(tab.getByRole("contentinfo")).toContainText("All runs");
  await tab.close();
});
