import { readFileSync } from "node:fs";
import { join } from "node:path";
import { AxeBuilder } from "@axe-core/playwright";
import { type BrowserContext, expect, type Page, test } from "@playwright/test";

/** A table through time: how its history is kept, one key, the table as of a moment, what changed. */
test.describe.configure({ mode: "serial" });

let context: BrowserContext;
let page: Page;
const address = () => process.env.DEMO_ADDRESS ?? "";
const thrown: string[] = [];

test.beforeAll(async ({ browser }) => {
  const token = readFileSync(join(process.env.UNDERCOAT_DATA ?? "", "token"), "utf8").trim();
  context = await browser.newContext({ extraHTTPHeaders: { Authorization: `Bearer ${token}` } });
  page = await context.newPage();
  page.on("pageerror", (error) => thrown.push(error.message));
  page.on("console", (message) => {
    if (/Content Security Policy/.test(message.text())) thrown.push(message.text());
  });
});
test.afterAll(() => context.close());

const open = (path: string) => page.goto(address() + path);
const accessible = async () =>
  expect(
    (await new AxeBuilder({ page }).analyze()).violations.map(({ id, nodes }) => `${id} ${nodes[0]?.target}`),
  ).toEqual([]);

test("what a column's change does is chosen by column, with what is suggested and why", async () => {
  await open("/pipelines/fleet-register/vessel");
  await page.getByRole("button", { name: "Mode" }).click();
  await page.getByRole("radio", { name: "history" }).check();
  await page.getByRole("button", { name: "Set", exact: true }).click();
  await expect(page.getByRole("region", { name: "Into" })).toContainText("a change opens a version");
  await page.getByRole("button", { name: "History", exact: true }).click();
  const dialog = page.getByRole("dialog");
  await expect(dialog.getByRole("combobox", { name: "A change of built" })).toHaveValue("is kept as it first was");
  await dialog.getByRole("combobox", { name: "A change of name" }).click();
  await page.getByRole("option", { name: "keeps the value before" }).click();
  await expect(dialog.getByRole("textbox", { name: /value before of name/ })).toHaveValue("former_name");
  await dialog.getByRole("checkbox", { name: "cars" }).check();
  await dialog.getByRole("checkbox", { name: "passengers" }).check();
  await dialog.getByRole("combobox", { name: "Of the 2 ticked" }).click();
  await page.getByRole("option", { name: "is overwritten" }).click();
  await expect(dialog.getByRole("combobox", { name: "A change of cars" })).toHaveValue("is overwritten");
  await accessible();
  await dialog.getByRole("button", { name: "Set", exact: true }).click();
  await expect(page.getByRole("button", { name: "History", exact: true })).toContainText("cars, passengers");
  // The table stands there, made by upsert: a rehearsal says what taking it over would change.
  await page.getByRole("button", { name: "Rehearse", exact: true }).click();
  await expect(page.getByText(/Rehearsed: it/)).toBeVisible();
  await page.getByRole("link", { name: "See the rows and the SQL" }).click();
  await expect(page.getByText(/would run: each row becomes the first version of its key/)).toBeVisible();
  await page.goBack();
  await page.getByRole("button", { name: "Discard" }).click();
  await expect(page.getByRole("button", { name: "Mode" })).toHaveText("upsert");
});

test("a run says how many versions each column's change opened, and its proof what was looked at", async () => {
  await page.request.post(`${address()}/api/demo/hour`, { headers: { Origin: address() } });
  const { id } = await (
    await page.request.post(`${address()}/api/pipelines/histories/run`, { data: {}, headers: { Origin: address() } })
  ).json();
  await open(`/runs/${id}`);
  await expect(page.getByText("The tally balances")).toBeVisible({ timeout: 20_000 });
  await expect(page.getByText(/versions opened, .* ended, .* overwritten: by home_port/)).toBeVisible();
  await page
    .getByRole("link", { name: /every cell of .* rows the same/ })
    .first()
    .click();
  await expect(page.getByText(/versions of the keys that the run changed looked at: one current a key/)).toBeVisible();
});

test("one key through time: edges by keyboard, a pin, the next key", async () => {
  await open("/warehouse");
  await page.getByRole("textbox", { name: "Filter tables" }).fill("vessel_history");
  const table = page.getByRole("row", { name: /vessel_history/ });
  await table.getByRole("link", { name: "through time" }).click();
  await expect(page.getByRole("heading", { level: 1 })).toContainText("fleet.vessel_history now: 9 rows");
  await page.getByRole("row", { name: /KSF-07/ }).press("Enter");
  const title = page.getByRole("heading", { level: 1 });
  await expect(title).toContainText(/KSF-07 has had \d+ versions/);
  await expect(page.getByText("before: Ternfjord")).toBeVisible();
  await expect(page.getByText(/captain_phone is overwritten in all versions/)).toBeVisible();
  const edge = page.getByRole("region", { name: "The edge in hand" });
  const latest = await edge.getByRole("heading").textContent();
  await page.keyboard.press("ArrowLeft");
  await expect(edge.getByRole("heading")).not.toHaveText(latest ?? "");
  await expect(edge.getByRole("row", { name: /^before/ })).toBeVisible();
  await page.getByRole("button", { name: /Pin a moment/ }).press("Enter");
  await expect(page.getByText(/As of .*: version \d/)).toBeVisible();
  await accessible();
  await page.getByRole("button", { name: "Next key" }).click();
  await expect(title).toContainText("KSF-08");
  await page.keyboard.press("p");
  await expect(title).toContainText("KSF-07");
});

test("the table as of a moment, and what changed between two", async () => {
  await open("/warehouse/warehouse/agency.customer_history");
  const title = page.getByRole("heading", { level: 1 });
  await expect(title).toContainText("agency.customer_history now: 12,000 rows");
  await page.getByText("As of a moment").click();
  await expect(title).toContainText("as of");
  await page.getByLabel("As of", { exact: true }).first().fill("2020-01-01T00:00");
  await expect(title).toContainText("0 rows");
  await expect(page.getByText("No version was valid then")).toBeVisible();
  await page.getByText("What changed").click();
  await expect(page.getByRole("heading", { name: /keys? changed, 12,000 came|keys changed/ })).toBeVisible();
  await accessible();
  await open(
    `/warehouse/warehouse/agency.customer_history?since=${new Date(Date.now() - 90 * 86_400_000).toISOString()}`,
  );
  await expect(page.getByRole("row", { name: /^tier/ })).toContainText(/\d keys?/);
  await page
    .getByRole("row", { name: /changed$/ })
    .first()
    .press("Enter");
  await expect(title).toContainText(/has had \d+ versions?/);
});

test("no page threw, and none broke its content policy", () => {
  expect(thrown).toEqual([]);
});
