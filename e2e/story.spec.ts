import AxeBuilder from "@axe-core/playwright";
import { type BrowserContext, expect, type Page, test } from "@playwright/test";
import { undercoat } from "./demo.ts";

/** One engineer's way through the demo, in the order of the README's tour. */
test.describe.configure({ mode: "serial" });

let context: BrowserContext;
let page: Page;
const problems: string[] = [];
const address = () => process.env.DEMO_ADDRESS ?? "";

test.beforeAll(async ({ browser }) => {
  context = await browser.newContext();
  page = await context.newPage();
  page.on("pageerror", (error) => problems.push(error.message));
  page.on(
    "console",
    (message) =>
      message.type() === "error" && /Content Security Policy/.test(message.text()) && problems.push(message.text()),
  );
});
test.afterAll(() => context.close());

async function open(path: string): Promise<void> {
  await page.goto(address() + path);
  await page.locator("main h1, main h2").first().waitFor();
}

test("the link signs in once", async ({ browser }) => {
  await page.goto(process.env.DEMO_LINK ?? "");
  await expect(page.getByRole("heading", { level: 1 })).toContainText("stand proved");
  const second = await browser.newPage();
  await second.goto(process.env.DEMO_LINK ?? "");
  await expect(second.getByRole("alert")).toContainText("has been used");
  await second.close();
});

test("the ledger shows the planted day, and a mark opens both sides' figures", async () => {
  await open("/");
  await expect(page.getByRole("heading", { level: 1 })).toContainText(/of \d+ days/);
  await expect(page.locator("main")).toContainText("harbour.payment disagrees on 1 day");
  const mark = page.getByRole("button", { name: /harbour\.payment.*disagrees/ });
  await mark.press("Enter");
  const figures = page.getByRole("dialog");
  await expect(figures.getByRole("row", { name: /rows/ })).toBeVisible();
  await page.keyboard.press("Escape");
  await expect(figures).toBeHidden();
  await expect(mark).toBeFocused();
});

test("an hour passes, a run counts it, the tally balances and the proof holds", async () => {
  await open("/");
  await page.getByRole("button", { name: "Let an hour pass" }).click();
  await expect(page.getByRole("status").filter({ hasText: "An hour has passed" })).toBeVisible();
  await open("/pipelines/harbour-day/booking");
  await expect(page.getByRole("region", { name: "From" })).toContainText(
    "Rows of public.booking in bookings whose updated_at passed the watermark",
  );
  await expect(page.getByRole("region", { name: "Rows" }).locator(".now").first()).toBeVisible();
  await page.keyboard.press("Control+Enter");
  await expect(page).toHaveURL(/\/runs\/\d+$/);
  await expect(page.getByText("The tally balances")).toBeVisible({ timeout: 30_000 });
  await expect(page.locator(".badge").first()).toHaveText("finished · proved");
  const tally = await page.getByRole("region", { name: "Tally" }).getByRole("img").getAttribute("aria-label");
  const [read, fresh, changed, same, rejected] = (tally?.match(/\d+/g) ?? []).map(Number);
  expect(fresh).toBeGreaterThan(0);
  expect(changed).toBeGreaterThan(0);
  expect(read).toBe((fresh ?? 0) + (changed ?? 0) + (same ?? 0) + (rejected ?? 0));
  await page
    .getByRole("button", { name: /SQL of/ })
    .first()
    .click();
  await expect(page.getByRole("dialog")).toContainText("COPY (SELECT");
  await page.keyboard.press("Escape");
});

test("the trouble is found row by row and repaired", async () => {
  // What the hour brought is loaded first, so that only the planted rows differ.
  expect(undercoat("run", "payments").status).toBe(3);
  await open("/proofs");
  await page.getByRole("link", { name: "harbour.payment" }).click();
  await expect(page.getByRole("heading", { level: 1 })).toContainText(/of \d+ days agree/);
  await page.getByRole("button", { name: "Show the rows that differ" }).click();
  // The search shows its progress, and leads on to the rows by itself.
  await expect(page).toHaveURL(/\/proofs\/\d+#rows$/, { timeout: 30_000 });
  await expect(page.getByRole("heading", { name: /^3 of [\d,]+ rows explain −/ })).toBeVisible();
  await expect(page.getByText("before the watermark")).toBeVisible();
  await expect(page.locator("td.differs").first()).toBeVisible();
  await page.getByRole("button", { name: "Load these 3 rows" }).click();
  await expect(page.locator(".badge").first()).toHaveText("finished · proved", { timeout: 30_000 });
  await open("/");
  await expect(page.getByRole("heading", { level: 1 })).toContainText("All");
  await expect(page.locator("main")).toContainText(/cell by cell.*every table says what its source says\./i);
});

test("the command line says the same", async () => {
  const json = undercoat("prove", "payments", "--rows", "--json");
  expect(json.status).toBe(0);
  expect(JSON.parse(json.output).loads[0]).toMatchObject({
    proof: { verdict: "proved" },
    rows: { missing: [], extra: [], different: [] },
  });
  const file = undercoat("export", "harbour-day").output;
  expect(file).toContain("table: harbour.booking");
  expect(file).not.toMatch(/password/);
  expect(undercoat("rehearse", "harbour-day", "--first", "50").output).toContain("Nothing was written.");
});

test("a pipeline is made by ticking tables, changed in place, refused where it is wrong, undone and saved", async () => {
  await open("/pipelines/new?from=bookings");
  await page.getByRole("checkbox", { name: "public.vessel", exact: true }).check();
  await page.getByRole("checkbox", { name: "public.port" }).check();
  await expect(page.getByText("vessel_id identifies a row; updated_at tells what changed")).toBeVisible();
  await page.getByLabel("Pipeline's title").fill("Spare fleet");
  await page.getByLabel("Schema there").fill("spare");
  await expect(page.getByRole("button", { name: "Target of vessel" })).toHaveText("spare.vessel");
  await page.getByRole("button", { name: "Target of port" }).click();
  await page.getByRole("textbox", { name: "Warehouse table" }).fill("spare.harbour_port");
  await page.keyboard.press("Enter");
  await page.getByRole("button", { name: "Make the pipeline" }).click();
  await expect(page).toHaveURL(/\/pipelines\/spare-fleet/);
  await expect(page.getByText("spare.harbour_port")).toBeHidden();
  await page.getByRole("link", { name: /^port/ }).click();
  await expect(page.getByRole("button", { name: "Warehouse table" })).toHaveText("spare.harbour_port");
  await page.getByRole("link", { name: /^vessel/ }).click();
  await page.getByRole("button", { name: "Condition" }).click();
  const condition = page.getByRole("textbox", { name: "Only rows where" });
  await condition.fill("built > (SELECT 1)");
  await expect(page.getByRole("dialog")).toContainText("subquery");
  await expect(page.getByRole("button", { name: "Set", exact: true })).toBeDisabled();
  await condition.fill("built > 1990");
  await page.getByRole("button", { name: "Set", exact: true }).click();
  await page.reload();
  await expect(page.getByRole("button", { name: "Condition" })).toContainText("built > 1990");
  await page.getByRole("button", { name: "Undo" }).click();
  await page.getByRole("button", { name: "Condition" }).click();
  await condition.fill("built > 2000");
  await page.keyboard.press("Control+Enter");
  await page.getByRole("button", { name: "Save" }).click();
  await expect(page.getByRole("button", { name: "Run now", exact: true })).toBeVisible();
  await page.getByRole("button", { name: "Schedule" }).click();
  await page.getByRole("combobox", { name: "It runs" }).click();
  await page.getByRole("option", { name: "every day", exact: true }).click();
  await expect(page.getByText(/^Next times/)).toBeVisible();
  await page.getByRole("button", { name: "Set", exact: true }).click();
  await expect(page.getByRole("button", { name: "Schedule", exact: true })).toContainText("nightly at 02:00");
});

test("a connection's check tells each step, and the password never comes back", async () => {
  await open("/connections?new=1");
  const dialog = page.getByRole("dialog");
  await dialog.getByLabel("Name").fill("elsewhere");
  await dialog.getByLabel("Port").fill("1");
  await dialog.getByLabel("Database").fill("trips");
  await dialog.getByLabel("User").fill("me");
  await dialog.getByRole("textbox", { name: "Password" }).fill("not-to-be-seen");
  await dialog.getByRole("button", { name: "Check it" }).click();
  await expect(dialog.getByRole("listitem").first()).toContainText("127.0.0.1");
  await expect(dialog.getByRole("listitem").nth(1)).toContainText("Nothing answers at 127.0.0.1:1");
  await dialog.getByRole("button", { name: "Save" }).click();
  await expect(page).toHaveURL(/\/connections\/elsewhere/);
  await expect(page.getByRole("alert")).toContainText("Nothing answers");
  await page.getByRole("button", { name: "Change or check" }).click();
  await expect(page.getByRole("dialog").getByRole("textbox", { name: "Password" })).toHaveValue("");
  expect(await page.content()).not.toContain("not-to-be-seen");
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "Delete" }).click();
  const confirm = page.getByRole("dialog");
  await expect(confirm.getByRole("button", { name: "Delete it" })).toBeDisabled();
  await confirm.getByLabel(/Type elsewhere/).fill("elsewhere");
  await confirm.getByRole("button", { name: "Delete it" }).click();
  await expect(page).toHaveURL(/\/connections$/);
});

test("/ finds anything by keyboard alone", async () => {
  await open("/warehouse");
  await page.keyboard.press("/");
  await expect(page.getByRole("combobox", { name: "Find anything" })).toBeFocused();
  await page.keyboard.type("sailing");
  await expect(page.getByRole("option").first()).toContainText("harbour.sailingloaded by Harbour day");
  await page.keyboard.press("Enter");
  await expect(page).toHaveURL(/\/pipelines\/harbour-day\/sailing/);
});

test("lists keep their filter in the address", async () => {
  await open("/proofs?find=booking");
  await expect(page.getByRole("link", { name: "harbour.booking" })).toBeVisible();
  await expect(page.getByRole("link", { name: "harbour.sailing" })).toHaveCount(0);
});

test("a viewer sees everything and can change nothing", async ({ browser }) => {
  await open("/users");
  await page.getByRole("button", { name: "New account" }).click();
  const dialog = page.getByRole("dialog");
  await dialog.getByLabel("Sign-in name").fill("visitor");
  await dialog.getByLabel("Name", { exact: true }).fill("A Visitor");
  await dialog.getByRole("textbox", { name: "First password" }).fill("ten letters at least");
  await dialog.getByRole("button", { name: "Make the account" }).click();
  await expect(page.getByRole("cell", { name: "A Visitor", exact: true })).toBeVisible();
  const visitor = await browser.newPage();
  await visitor.goto(`${address()}/pipelines/harbour-day`);
  await visitor.getByLabel("Sign-in name").fill("visitor");
  await visitor.getByRole("textbox", { name: "Password" }).fill("ten letters at least");
  await visitor.getByRole("button", { name: "Sign in" }).click();
  await expect(visitor.getByRole("region", { name: "Into" })).toContainText("harbour.booking");
  await expect(visitor.getByRole("button", { name: /Run now|Prove now|Condition/ })).toHaveCount(0);
  await visitor.close();
});

for (const scheme of ["light", "dark"] as const)
  test(`no page breaks a rule of accessibility, in ${scheme} colours`, async ({ browser }) => {
    test.setTimeout(180_000);
    const other = await browser.newContext({ colorScheme: scheme, storageState: await context.storageState() });
    const looked = await other.newPage();
    // What a page has asked the API for and not got yet; the event stream never ends.
    const asked = new Set<unknown>();
    looked.on(
      "request",
      (request) => request.url().includes("/api/") && !request.url().endsWith("/events") && asked.add(request),
    );
    looked.on("requestfinished", (request) => asked.delete(request));
    looked.on("requestfailed", (request) => asked.delete(request));
    const proof = await (await looked.request.get(`${address()}/api/proofs?pipeline=payments&load=payment`)).json();
    const runs = await (await looked.request.get(`${address()}/api/runs`)).json();
    const table = encodeURIComponent(JSON.stringify(["public", "booking"]));
    const paths = [
      "/",
      "/pipelines",
      "/pipelines/new?from=bookings",
      "/pipelines/harbour-day/booking",
      "/pipelines/agents/agency_sale",
      "/rejected",
      "/runs",
      `/runs/${runs[0].id}`,
      "/proofs",
      `/proofs/${proof[0].id}`,
      "/warehouse?table=warehouse%2Fharbour.booking",
      "/connections",
      "/connections?new=1",
      `/connections/bookings?table=${table}`,
      `/connections/bookings?table=${table}&show=time`,
      "/users",
      "/tokens",
      "/docs",
      "/nowhere",
    ];
    const found: string[] = [];
    // Dark colours change no structure; the pages with the most colours stand for all.
    const chosen =
      scheme === "light"
        ? paths
        : paths.filter((path) => /^\/($|pipelines\/h|runs\/|proofs\/|connections\?new|users)/.test(path));
    for (const path of chosen) {
      await looked.goto(address() + path);
      await looked.locator("main h1, main h2").first().waitFor();
      await expect.poll(() => asked.size).toBe(0);
      const { violations } = await new AxeBuilder({ page: looked }).analyze();
      for (const violation of violations)
        found.push(
          `${path} ${violation.id}: ${violation.nodes
            .map((node) => node.target.join(" "))
            .slice(0, 3)
            .join(", ")}`,
        );
    }
    await other.close();
    expect(found).toEqual([]);
  });

test("the first page loads less than 350 KB of compressed script", async ({ browser }) => {
  const fresh = await browser.newContext({ storageState: await context.storageState() });
  const first = await fresh.newPage();
  const sizes: Promise<number>[] = [];
  const scripts: string[] = [];
  first.on("response", (response) => {
    const { pathname } = new URL(response.url());
    if (!pathname.endsWith(".js")) return;
    scripts.push(pathname);
    sizes.push(
      response
        .finished()
        .then(() => response.request().sizes())
        .then((told) => told.responseBodySize),
    );
  });
  await first.goto(`${address()}/`);
  await first.locator("main h1").waitFor();
  await first.waitForLoadState("load");
  const size = (await Promise.all(sizes)).reduce((sum, one) => sum + one, 0);
  // Looking at a pipeline fetches no editor.
  await first.goto(`${address()}/pipelines/agents/agency_sale`);
  await first.getByRole("region", { name: "Shape" }).waitFor();
  expect(scripts.filter((path) => path.includes("SqlEditor"))).toEqual([]);
  await fresh.close();
  expect(size).toBeGreaterThan(50_000);
  expect(size).toBeLessThan(350 * 1024);
});

test("no page threw, and none broke its content policy", () => expect(problems).toEqual([]));
