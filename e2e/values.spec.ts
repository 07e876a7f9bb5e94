import { expect, test } from "@playwright/test";
import { type Desk, sitDown } from "./desk.ts";

/** One pipeline with many values: seen before it runs, run for all, told as one line that opens. */
test.describe.configure({ mode: "serial" });

let desk: Desk;
test.beforeAll(async ({ browser }) => {
  desk = await sitDown(browser);
});
test.afterAll(() => desk.close());

test("sentences, statement and live rows show the chosen set, or values by hand", async () => {
  const { page, open, accessible } = desk;
  await open("/pipelines/port-gates/scan");
  await expect(page.getByRole("heading", { level: 1 }).first()).toHaveText("Gates of KIL");
  await page.getByRole("combobox", { name: "Shown with" }).click();
  await page.getByRole("option", { name: "SKV" }).click();
  await expect(page.getByRole("heading", { level: 1 }).first()).toHaveText("Gates of SKV");
  await expect(page.getByRole("region", { name: "Into" })).toContainText("its rows where port = SKV");
  await expect(page.getByRole("region", { name: "Rows", exact: true })).toContainText("SKV");
  await expect(page).toHaveURL(/values=SKV/);
  await page.getByRole("button", { name: "By hand" }).click();
  await page.getByRole("textbox", { name: "since" }).fill("soon");
  await page.getByRole("button", { name: "Show with these" }).click();
  await expect(page.getByRole("region", { name: "Values" })).toContainText("soon is not a date");
  await page.getByRole("button", { name: "1 by hand" }).click();
  await page.getByRole("textbox", { name: "since" }).fill("today-P7D");
  await page.keyboard.press("Enter");
  await expect(page.getByText("soon is not a date")).toBeHidden();
  await expect(page.getByRole("button", { name: /Run SKV now/ })).toBeVisible();
  await accessible();
});

test("all sets run under one heading, whose tally adds up", async () => {
  const { page, open, accessible } = desk;
  await open("/pipelines/port-gates/scan");
  await page.getByRole("button", { name: "Run all 11 sets" }).click();
  await expect(page.getByRole("heading", { name: "11 sets of values: all finished" })).toBeVisible({ timeout: 60_000 });
  await expect(page.getByRole("img", { name: /the tally balances/ })).toBeVisible();
  await accessible();
  await page.getByRole("link", { name: "ORM" }).click();
  await expect(page.getByRole("heading", { name: /^Gates of ORM, / })).toBeVisible();
  await expect(page.getByText("With the values ORM:")).toContainText("port ORM");
});

test("the ledger tells them in one line that opens", async () => {
  const { page, open, accessible } = desk;
  await open("/");
  await expect(page.getByRole("row", { name: /^ORM/ })).toBeHidden();
  await page.getByRole("button", { name: "11 sets of scan" }).click();
  await expect(page.getByRole("row", { name: /^ORM/ })).toContainText(/1,0\d\d/);
  await accessible();
  await page.getByRole("link", { name: "ORM", exact: true }).click();
  await expect(page.getByRole("heading", { level: 1 }).first()).toHaveText("Gates of ORM");
});

test("a parameter is made from what stands in a sentence, in all places at once, and undone", async () => {
  const { page, open } = desk;
  await open("/pipelines/customers/customer");
  await page.getByRole("button", { name: "Source connection" }).click();
  await page.getByRole("button", { name: "Make it a parameter" }).click();
  await expect(page.getByText("in all 2 places that say so")).toBeVisible();
  await page.getByRole("textbox", { name: /in the place of bookings/ }).fill("site");
  await page.getByRole("button", { name: "Make it", exact: true }).click();
  await expect(page.getByRole("region", { name: "Values" })).toContainText("site");
  // With the default it says what it said before.
  await expect(page.getByRole("button", { name: "Source connection" })).toHaveText("bookings");
  await page.getByRole("link", { name: "passenger" }).first().click();
  await page.getByRole("button", { name: "Source connection" }).click();
  await expect(
    page
      .getByRole("textbox", { name: "Source connection" })
      .or(page.getByRole("combobox", { name: "Source connection" })),
  ).toHaveValue("{site}");
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "Parameters" }).click();
  const dialog = page.getByRole("dialog");
  await expect(dialog.getByText("2 places")).toBeVisible();
  await dialog.getByRole("button", { name: "Add a set" }).click();
  await desk.accessible();
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "Discard" }).click();
  await expect(page.getByRole("region", { name: "Values" })).toContainText("Parameters");
});

test("something undeclared is named otherwise for one look", async () => {
  const { page, open } = desk;
  await open("/pipelines/fleet-register/port");
  await page.getByRole("button", { name: "By hand" }).click();
  await page.getByRole("combobox", { name: "Name something else this time" }).click();
  await page.getByRole("option", { name: /port\.from\.table/ }).click();
  await page.getByRole("textbox", { name: "port.from.table" }).fill("public.nowhere");
  await page.getByRole("button", { name: "Show with these" }).click();
  await expect(page.getByRole("region", { name: "Rows", exact: true })).toContainText(/public\.nowhere/);
});

test("no page threw, and none broke its content policy", () => {
  expect(desk.thrown).toEqual([]);
});
