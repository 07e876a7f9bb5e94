import { expect, test } from "@playwright/test";
import { undercoat } from "./demo.ts";
import { type Desk, sitDown } from "./desk.ts";

/** Earlier days, loaded again slice by slice: from the ledger, from the pipeline, from the command line. */
test.describe.configure({ mode: "serial" });

let desk: Desk;
test.beforeAll(async ({ browser }) => {
  desk = await sitDown(browser);
});
test.afterAll(() => desk.close());

const loaded = (words: string) => desk.page.getByRole("heading", { name: words, exact: true });

test("days that are dragged over in the ledger are loaded again, one mark after another", async () => {
  const { page, open, accessible } = desk;
  await open("/");
  const days = page
    .getByRole("row", { name: /^harbour\.booking/ })
    .first()
    .locator("td[data-day]");
  const [from, to] = [await days.nth(4).getAttribute("data-day"), await days.nth(8).getAttribute("data-day")];
  await days.nth(7).hover();
  await page.mouse.down();
  await days.nth(4).hover();
  await page.mouse.up();
  const dialog = page.getByRole("dialog", { name: "Load earlier days of harbour.booking" });
  await expect(dialog.getByLabel("First day")).toHaveValue(from ?? "");
  await expect(dialog.getByLabel("Day after the last")).toHaveValue(to ?? "");
  await accessible();
  await dialog.getByRole("button", { name: "Begin" }).click();
  await expect(loaded("All 4 days loaded")).toBeVisible({ timeout: 60_000 });
  await expect(page.getByRole("link", { name: /: loaded and proved$/ })).toHaveCount(4);
  await expect(page.getByRole("img", { name: /the tally balances/ })).toBeVisible();
  await accessible();
});

test("arrows with Shift choose days too, and nothing begins unasked", async () => {
  const { page, open } = desk;
  await open("/");
  const row = page.getByRole("row", { name: /^harbour\.booking/ }).first();
  await row.getByRole("button").last().focus();
  await page.keyboard.down("Shift");
  await page.keyboard.press("ArrowLeft");
  await page.keyboard.press("ArrowLeft");
  await expect(row.locator("td.chosen")).toHaveCount(3);
  await page.keyboard.up("Shift");
  const dialog = page.getByRole("dialog");
  await expect(dialog.getByRole("status")).toHaveText(/^3 days, /);
  await dialog.getByRole("button", { name: "Cancel" }).click();
  await expect(row.locator("td.chosen")).toHaveCount(0);
  await expect(dialog).toBeHidden();
});

test("one that takes long is paused, goes on and is cancelled where it is", async () => {
  const { page, open } = desk;
  await open("/pipelines/harbour-day");
  await page.getByRole("button", { name: "Load earlier days" }).click();
  const dialog = page.getByRole("dialog", { name: "Load earlier days of Harbour day" });
  await dialog.getByLabel("First day").fill("2026-02-01");
  await dialog.getByLabel("Day after the last").fill("2026-01-01");
  await expect(dialog.getByRole("status")).toContainText("Nothing lies between");
  await expect(dialog.getByRole("button", { name: "Begin" })).toBeDisabled();
  await dialog.getByLabel("First day").fill("2020-01-01");
  await expect(dialog.getByRole("status")).toContainText("2,192 days");
  await dialog.getByRole("button", { name: "Begin" }).click();
  await page.getByRole("button", { name: "Pause" }).click();
  await expect(page.getByRole("heading", { level: 1 })).toContainText("paused");
  await page.getByRole("button", { name: "Go on" }).click();
  await expect(page.getByRole("button", { name: "Pause" })).toBeVisible();
  await page.getByRole("button", { name: "Cancel" }).click();
  await expect(page.getByRole("heading", { level: 1 })).toContainText("cancelled");
});

test("the command line loads an interval, and says what came of it", () => {
  const october = ["--from", "2026-10-01", "--to", "2026-11-01", "--by", "week", "--json"];
  const done = undercoat("backfill", "harbour-day", ...october);
  expect(done.status).toBe(0);
  expect(JSON.parse(done.output)).toMatchObject({
    pipeline: "harbour-day",
    status: "finished",
    loads: ["booking", "sailing", "gate_scan"],
    new: "0",
    slices: Array(5).fill({ status: "finished", verdict: "proved" }),
  });
  const wrong = undercoat("backfill", "harbour-day", "--from", "2026-10-01", "--to", "2026-10-01");
  expect(wrong).toEqual({ status: 1, output: expect.stringContaining("Nothing lies between") });
  expect(undercoat("backfill", "harbour-day", "--from", "2026-10-01").status).toBe(2);
});

test("no page threw, and none broke its content policy", () => {
  expect(desk.thrown).toEqual([]);
});
