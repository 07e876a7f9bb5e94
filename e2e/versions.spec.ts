import { mkdtempSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { expect, test } from "@playwright/test";
import { undercoat } from "./demo.ts";
import { type Desk, sitDown } from "./desk.ts";

/** What a pipeline was, what changed about it, and the way back; on the page and on the command line. */
test.describe.configure({ mode: "serial" });

let desk: Desk;
test.beforeAll(async ({ browser }) => {
  desk = await sitDown(browser);
});
test.afterAll(() => desk.close());

test("a folder of project files applies as one, and says first what it would change", () => {
  const folder = mkdtempSync(join(tmpdir(), "undercoat-folder-"));
  const fleet = undercoat("export", "fleet-register").output;
  expect(undercoat("export", "fleet-register").output).toBe(fleet);
  writeFileSync(join(folder, "fleet.yaml"), fleet.replace("title: Fleet register", "title: The fleet"));
  writeFileSync(join(folder, "more.yaml"), "undercoat: 1\n");
  const checked = undercoat("apply", folder, "--check");
  expect(checked.status).toBe(4);
  expect(checked.output).toContain("fleet-register");
  expect(undercoat("export", "fleet-register").output).toBe(fleet);
  expect(undercoat("apply", folder).status).toBe(0);
  expect(undercoat("apply", folder, "--check").status).toBe(0);
  writeFileSync(join(folder, "more.yaml"), fleet);
  expect(undercoat("apply", folder)).toEqual({
    status: 2,
    output: expect.stringContaining("Another file says what"),
  });
});

test("versions are listed, compared and restored", async () => {
  const { page, open, accessible } = desk;
  const listed = JSON.parse(undercoat("versions", "fleet-register", "--json").output);
  expect(listed.versions.length).toBe(2);
  await open("/versions/fleet-register");
  await expect(page.getByRole("heading", { level: 1 })).toHaveText("2 versions of fleet-register");
  await expect(page.getByText("title: The fleet").first()).toBeVisible();
  await expect(page.getByText("title: Fleet register").first()).toBeVisible();
  await accessible();
  expect(undercoat("restore", "fleet-register", "1").status).toBe(0);
  await open("/pipelines/fleet-register");
  await expect(page.getByRole("link", { name: "version 3" })).toBeVisible();
  await expect(page.getByRole("heading", { level: 1 }).first()).toHaveText("Fleet register");
  expect(undercoat("restore", "fleet-register", "9").status).toBe(1);
});

test("what runs when, and who takes runs", async () => {
  const { page, open, accessible } = desk;
  await open("/schedules");
  await expect(page.getByRole("img", { name: /runs in the next 24 hours/ }).first()).toBeVisible();
  await page.getByLabel("Why all schedules are paused").fill("the source moves");
  await page.getByRole("button", { name: "Pause all" }).click();
  await expect(page.getByRole("heading", { name: "All schedules are paused" })).toBeVisible();
  await accessible();
  await page.getByRole("button", { name: "Let them go on" }).click();
  await expect(page.getByRole("heading", { name: /in the next 24 hours/ })).toBeVisible();
  await open("/workers");
  await expect(page.getByRole("heading", { level: 1 })).toContainText("1 worker");
  await accessible();
  await page.getByRole("button", { name: "Take no more" }).click();
  await expect(page.getByRole("row", { name: /takes no more/ })).toBeVisible();
  await page.getByRole("button", { name: "Take runs again" }).click();
  await expect(page.getByRole("button", { name: "Take no more" })).toBeVisible();
});

test("no page threw, and none broke its content policy", () => {
  expect(desk.thrown).toEqual([]);
});
