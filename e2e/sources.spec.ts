import { expect, test } from "@playwright/test";
import { undercoat } from "./demo.ts";
import { type Desk, sitDown } from "./desk.ts";

/** Sources beside PostgreSQL: a workbook, a drop over SFTP, MariaDB; files dropped onto a page. */
test.describe.configure({ mode: "serial" });

let desk: Desk;
test.beforeAll(async ({ browser }) => {
  desk = await sitDown(browser);
});
test.afterAll(() => desk.close());

const run = (...command: string[]) => JSON.parse(undercoat(...command, "--json").output).loads;

test("a kind is chosen with a form that fits it; what both have stays typed", async () => {
  const { page, open, accessible } = desk;
  await open("/connections?new=1");
  const kind = async (name: string) => {
    await page.getByRole("combobox", { name: "Kind" }).click();
    await page.getByRole("option", { name, exact: true }).click();
  };
  await page.getByLabel("Host").fill("10.0.0.7");
  await kind("MariaDB");
  await expect(page.getByLabel("Host")).toHaveValue("10.0.0.7");
  await expect(page.getByRole("textbox", { name: "Port" })).toHaveValue("3306");
  await expect(page.getByText("A day that no calendar has")).toBeVisible();
  await accessible();
  await kind("A drop over SFTP");
  await expect(page.getByRole("textbox", { name: "Port" })).toHaveValue("22");
  await expect(page.getByLabel("Database")).toHaveCount(0);
  await accessible();
});

test("a drop's host key is shown at first contact, and accepted before anybody is signed in", async () => {
  const { page, open } = desk;
  await open("/connections/drop");
  await expect(page.getByText("out/control.csv")).toHaveCount(0);
  await page.getByRole("button", { name: "Change or check" }).click();
  const key = page.getByRole("textbox", { name: "The host's key" });
  const accepted = await key.inputValue();
  expect(accepted).toMatch(/^SHA256:/);
  await page.getByRole("button", { name: "Check it" }).click();
  await expect(page.getByText(/signed in as tills/)).toBeVisible();
  await key.fill(accepted.replace(/.$/, accepted.endsWith("A") ? "B" : "A"));
  await page.getByRole("textbox", { name: /Password/ }).fill("typed again");
  await page.getByRole("button", { name: "Check it" }).click();
  await expect(page.getByText(/shows another host key than the one that was accepted/)).toBeVisible();
  await expect(page.getByRole("button", { name: "Accept this key" })).toHaveCount(0);
  await key.fill("");
  await page.getByRole("button", { name: "Check it" }).click();
  await page.getByRole("button", { name: "Accept this key" }).click();
  await expect(key).toHaveValue(accepted);
  await page.getByRole("button", { name: "Check it" }).click();
  await expect(page.getByText("drop did not sign in tills")).toBeVisible();
});

test("what a load has taken is listed, with what it was compared with", async () => {
  const { page, open, accessible } = desk;
  await open("/pipelines/takings/till");
  await expect(page.getByText("Once they are loaded they are moved to taken.")).toBeVisible();
  await expect(page.getByText("when a file arrives, looked for every minute").first()).toBeVisible();
  await page.getByRole("link", { name: "What it has taken" }).click();
  await expect(page.getByRole("heading", { name: "Files that till has taken" })).toBeVisible();
  const table = page.getByRole("table", { name: "Files" });
  await expect(table.getByText("control.csv: 10 rows, sum of takings").first()).toBeVisible();
  await accessible();
  await table
    .getByRole("link", { name: /^run \d+/ })
    .first()
    .click();
  await expect(page.getByRole("region", { name: "Files of till" })).toBeVisible();
});

test("a workbook's beginning stands beside what becomes of it, and changes with what is said", async () => {
  const { page, open, accessible } = desk;
  await open("/pipelines/fares/tariff");
  await page.getByRole("button", { name: "Files", exact: true }).click();
  const raw = page.getByRole("list", { name: "Lines as they stand" });
  const rows = page.getByRole("table", { name: "Rows that become of it" });
  await expect(raw.getByText(/A Kestrel Sound Ferries/)).toBeVisible();
  await expect(rows.getByRole("columnheader", { name: /price/ }).first()).toContainText("numeric");
  await accessible();
  await page.getByLabel("Sheet or pattern").fill("Tariff car");
  await expect(page.getByText("Sheet Tariff car of")).toBeVisible();
  await page.getByLabel("Block of cells").fill("A5:C6");
  await expect(rows.getByRole("row")).toHaveCount(3);
  await page.getByLabel("Sheet or pattern").fill("No such");
  await expect(page.getByText("tariff-2026.xlsx has no sheet No such")).toBeVisible();
  await page.keyboard.press("Escape");
});

test("live rows of each are those that would stand in the warehouse", async () => {
  const { page, open } = desk;
  await open("/pipelines/workshop/repair");
  await expect(page.getByText(/Of the rows above, 0 would be new, 0 changed, \d+ the same/)).toBeVisible();
  await open("/pipelines/fares/tariff");
  await expect(
    page.getByText(/Of the rows above, 0 would be new, 0 changed, 20 the same and 1 rejected/),
  ).toBeVisible();
  await open("/pipelines/takings/till");
  await expect(page.getByText("drop has no file out/*.csv now")).toBeVisible();
});

test("files are dropped onto the folder's page, and one that is there is replaced only when asked", async () => {
  const { page, open, accessible } = desk;
  await open("/connections/fares");
  const drop = async (text: string, name = "brought.csv") =>
    page.locator('input[type="file"]').setInputFiles({ name, mimeType: "text/csv", buffer: Buffer.from(text) });
  const list = page.getByRole("list", { name: "Files on their way" });
  await drop("id;name\n1;Kjær\n");
  await expect(list.getByLabel("there")).toBeVisible();
  await expect(page.getByRole("table", { name: "Tables and views" }).getByText("brought.csv")).toBeVisible();
  await accessible();
  await drop("id;name\n2;Øy\n");
  await expect(list.getByText("There is a file brought.csv already")).toBeVisible();
  await list.getByRole("button", { name: "Replace it" }).click();
  await expect(list.getByLabel("there")).toBeVisible();
  await drop("x", "run.sh");
  await expect(list.getByText(/run.sh is in no format that is read/)).toBeVisible();
});

test("an hour passes: a sheet edited, a file brought, repairs changed; each load proves itself", async () => {
  const { page, open } = desk;
  expect(undercoat("demo", "--hour").status).toBe(0);
  const [, tariff] = run("run", "fares");
  expect(tariff).toMatchObject({ rejected: "1", proof: { verdict: "proved", how: "received" } });
  expect(Number(tariff.new)).toBeGreaterThan(1);
  const [repair, part] = run("run", "workshop");
  expect(repair).toMatchObject({ new: "3", deleted: "1", proof: { verdict: "proved", how: "source" } });
  expect(part).toMatchObject({ rejected: "2", proof: { verdict: "proved" } });
  const [till] = run("run", "takings");
  expect(till).toMatchObject({ rejected: "0", proof: { verdict: "proved", how: "received" } });
  for (const load of run("prove", "workshop", "--rows"))
    expect(load.proof).toMatchObject({ verdict: "proved", how: "source", depth: "cells" });
  await open("/rejected?load=workshop%2Fpart");
  await expect(page.getByText(/received_on holds 0000-00-00, which is no day/).first()).toBeVisible();
});

test("no page threw, and none broke its content policy", () => {
  expect(desk.thrown).toEqual([]);
});
