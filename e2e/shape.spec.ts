import { readFileSync } from "node:fs";
import { join } from "node:path";
import AxeBuilder from "@axe-core/playwright";
import { type BrowserContext, expect, type Page, test } from "@playwright/test";
import { undercoat } from "./demo.ts";

/** What agents send in is brought into shape, rehearsed, loaded, and what does not fit is mended. */
test.describe.configure({ mode: "serial" });

let context: BrowserContext;
let page: Page;
const problems: string[] = [];
const address = () => process.env.DEMO_ADDRESS ?? "";
const load = "/pipelines/agents/agency_sale";

test.beforeAll(async ({ browser }) => {
  const token = readFileSync(join(process.env.UNDERCOAT_DATA ?? "", "token"), "utf8").trim();
  context = await browser.newContext();
  const account = { login: "shaper", name: "Ida Shaper", role: "editor", password: "ten letters at least" };
  await context.request.post(`${address()}/api/users`, {
    data: account,
    headers: { Authorization: `Bearer ${token}` },
  });
  await context.request.post(`${address()}/api/session`, {
    data: { login: account.login, password: account.password },
    headers: { Origin: address() },
  });
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

const shape = () => page.getByRole("region", { name: "Shape" });
const dialog = () => page.getByRole("dialog");
const expression = () => dialog().getByRole("textbox", { name: "Expression" });

async function write(text: string): Promise<void> {
  await expression().click();
  await page.keyboard.press("Control+a");
  await page.keyboard.insertText(text);
}

async function violations(): Promise<string[]> {
  const { violations: found } = await new AxeBuilder({ page }).analyze();
  return found.map(
    (violation) =>
      `${violation.id}: ${violation.nodes
        .map((node) => node.target.join(" "))
        .slice(0, 3)
        .join(", ")}`,
  );
}

test("a rehearsal says in one line what a run would do, and shows the rows", async () => {
  await open(load);
  await expect(shape()).toContainText(
    "compute 5, check 3 rules; a row that does not fit is rejected, at most 5 % of them",
  );
  await page.getByRole("button", { name: "Rehearse", exact: true }).click();
  await expect(page.getByText(/Rehearsed: it adds \d+, changes \d+, leaves \d+, rejects \d+/)).toBeVisible({
    timeout: 20_000,
  });
  await page.getByRole("link", { name: "See the rows and the SQL" }).click();
  await expect(page.getByText("Nothing was written", { exact: true })).toBeVisible();
  expect(undercoat("rehearse", "agents", "--json").status).toBe(0);
});

test("an expression shows its type, its mistakes where they are, and its result on real rows", async () => {
  await open(load);
  await page.getByRole("button", { name: "Column fare", exact: true }).click();
  await expect(dialog().getByText("gives text, held as numeric(10,2)")).toBeVisible();
  await write("fare + * 2");
  await expect(dialog().getByRole("status")).toContainText("syntax error");
  await expect(dialog().locator(".cm-lintRange-error")).toHaveCount(1);
  await write("pg_sleep(3)");
  await expect(dialog().getByRole("status")).toContainText("pg_sleep is not one an expression can call");
  await expect(dialog().getByRole("button", { name: "Set", exact: true })).toBeDisabled();
  await write("upp");
  await page.keyboard.press("Control+Space");
  await expect(page.getByRole("option", { name: /upper/ })).toBeVisible();
  await page.keyboard.press("Escape");
  await dialog().getByRole("button", { name: "number in a format" }).click();
  await dialog().getByRole("combobox", { name: "Column" }).click();
  await page.getByRole("option", { name: "fare" }).click();
  await dialog().getByRole("button", { name: "Write it" }).click();
  await expect(expression()).toContainText("replace(replace(btrim(fare), '.', ''), ',', '.')");
  await expect(dialog().getByText("gives text, held as numeric")).toBeVisible();
  expect(await violations()).toEqual([]);
  await dialog().getByRole("button", { name: "Cancel" }).click();
});

test("columns are paired by keyboard and by dragging, and suggestions can be refused", async () => {
  await open(load);
  await page.getByRole("button", { name: "Columns", exact: true }).click();
  await dialog().getByRole("button", { name: "Take the pair of buyer apart" }).click();
  await dialog().getByRole("button", { name: "Take the pair of port apart" }).click();
  await dialog()
    .getByRole("button", { name: /^port_code/ })
    .focus();
  await page.keyboard.press("Enter");
  await dialog()
    .getByRole("row", { name: /^port / })
    .getByRole("button", { name: "Put port_code here" })
    .press("Enter");
  await expect(dialog().getByRole("row", { name: /^port / })).toContainText("port_code");
  const from = await dialog()
    .getByRole("button", { name: /^buyer_email/ })
    .boundingBox();
  const to = await dialog()
    .getByRole("row", { name: /^buyer / })
    .boundingBox();
  if (!from || !to) throw new Error("not on the page");
  await page.mouse.move(from.x + 40, from.y + 10);
  await page.mouse.down();
  await page.mouse.move(to.x + 40, to.y + 5, { steps: 8 });
  await page.mouse.move(to.x + 60, to.y + 12, { steps: 4 });
  await page.mouse.up();
  await expect(dialog().getByRole("row", { name: /^buyer / })).toContainText("buyer_email");
  expect(await violations()).toEqual([]);
  await dialog()
    .getByRole("button", { name: /^Set 7 columns/ })
    .click();
  await expect(shape()).toContainText("compute 3");
  await page.getByRole("button", { name: "Discard" }).click();
  await expect(shape()).toContainText("compute 5");
});

test("rejected rows are grouped, looked at, exported, and loaded again once the shape is mended", async () => {
  await open("/pipelines");
  await open("/rejected?load=agents%2Fagency_sale");
  const heading = page.getByRole("heading", { level: 1 });
  await expect(heading).toContainText(/^\d+ rows are rejected in 1 load$/);
  const before = Number.parseInt((await heading.textContent()) ?? "", 10);
  await page.getByRole("button", { name: "fare is not a number" }).click();
  await expect(page).toHaveURL(/reason=fare/);
  await page
    .getByRole("row", { name: /fare is not a number/ })
    .first()
    .press("Enter");
  await expect(dialog()).toContainText("fare is not a number");
  await expect(dialog().getByRole("row", { name: /^fare/ })).toContainText(/n\/a|see note|–/);
  expect(await violations()).toEqual([]);
  await page.keyboard.press("Escape");
  const [download] = await Promise.all([
    page.waitForEvent("download"),
    page.getByRole("link", { name: "Export these as CSV" }).click(),
  ]);
  expect(download.suggestedFilename()).toBe("rejected-agents-agency_sale.csv");

  await open(load);
  await page.getByRole("button", { name: "Column fare", exact: true }).click();
  await write("nullif(nullif(nullif(replace(replace(btrim(fare), '.', ''), ',', '.'), 'n/a'), 'see note'), '–')");
  await expect(dialog().getByText("gives text, held as")).toBeVisible();
  await dialog().getByRole("button", { name: "Set", exact: true }).click();
  await page.getByRole("button", { name: "Rules", exact: true }).click();
  await dialog().getByRole("combobox", { name: "A null answer" }).first().click();
  await page.getByRole("option", { name: "passes" }).click();
  await dialog().getByRole("button", { name: "Set 3 rules" }).click();
  await page.getByRole("button", { name: "Save" }).click();
  await expect(page.getByRole("button", { name: "Run now", exact: true })).toBeVisible();

  await open("/rejected?load=agents%2Fagency_sale&reason=fare+is+not+a+number");
  await page.getByRole("button", { name: "Load these again" }).click();
  await expect(page).toHaveURL(/\/runs\/\d+$/);
  await expect(page.getByText("The tally balances")).toBeVisible({ timeout: 20_000 });
  await expect(page.locator(".badge").first()).toHaveText("finished · proved");
  await expect(page.getByRole("link", { name: /less the \d+ rejected/ })).toBeVisible();
  await open("/rejected?load=agents%2Fagency_sale");
  await expect(heading).toContainText(/rows are rejected/);
  expect(Number.parseInt((await heading.textContent()) ?? "", 10)).toBeLessThan(before);
});

test("many loads are changed at once, with what changes shown before", async () => {
  await open("/pipelines/fleet-register/vessel");
  await page.getByRole("button", { name: "Many at once" }).click();
  await dialog().getByLabel("Warehouse schema").fill("register");
  await dialog().getByLabel("Table's name").fill("raw_*");
  await expect(dialog().getByRole("row", { name: /vessel/ })).toContainText("register.raw_vessel");
  await dialog().getByLabel("Tick route").uncheck();
  expect(await violations()).toEqual([]);
  await dialog().getByRole("button", { name: "Change 2 loads" }).click();
  await expect(page.getByRole("button", { name: "Warehouse table" })).toContainText("register.raw_vessel");
  await page.getByRole("button", { name: "Undo" }).click();
  await expect(page.getByRole("button", { name: "Warehouse table" })).toContainText("fleet.vessel");
});

test("what becomes of rows gone from the source is said and changed in the sentence", async () => {
  await open("/pipelines/customers/passenger");
  const deletions = page.getByRole("button", { name: "Deletions" });
  await expect(deletions).toContainText("marked in deleted_at");
  await deletions.click();
  await page.getByRole("combobox", { name: "Rows gone from the source are" }).click();
  await page.getByRole("option", { name: "removed" }).click();
  await page.getByLabel("Looked for").fill("P1D");
  await page.getByRole("button", { name: "Set", exact: true }).click();
  await expect(deletions).toContainText("removed, looked for every 1 day");
  await page.getByRole("button", { name: "Discard" }).click();
});

test("no page threw, and none broke its content policy", () => expect(problems).toEqual([]));
