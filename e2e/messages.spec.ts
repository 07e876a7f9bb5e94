import { expect, test } from "@playwright/test";
import { undercoat } from "./demo.ts";
import { type Desk, sitDown } from "./desk.ts";

/** Who is told of what, what arrived there, and what is done about what did not. */
test.describe.configure({ mode: "serial" });

let desk: Desk;
test.beforeAll(async ({ browser }) => {
  desk = await sitDown(browser);
});
test.afterAll(() => desk.close());

test("a test shows what was asked and what answered", async () => {
  const { page, open, accessible } = desk;
  await open("/messages");
  // At the full hour the rejected rows are no news any more; what disagrees stays until it is repaired.
  await expect(page.getByRole("list", { name: "Open troubles" })).toContainText(/rejected|disagrees/);
  await accessible();
  await page
    .getByRole("row", { name: /^harbour-office/ })
    .getByRole("button", { name: "Test" })
    .click();
  const dialog = page.getByRole("dialog", { name: "A test of harbour-office" });
  await expect(dialog).toContainText("webhook-signature: v1,");
  await expect(dialog).toContainText("204");
  await accessible();
  await page.keyboard.press("Escape");
});

test("the demo's mailbox and receiver show what really arrived", async () => {
  const { page, open, accessible } = desk;
  undercoat("run", "port-gates", "--values", "SKV");
  await open("/arrived");
  await expect(page.getByRole("region", { name: "Night desk" })).toContainText("The run: http://127.0.0.1:");
  await expect(page.getByRole("region", { name: "Harbour office" })).toContainText(
    "run.finished of Gates of SKV: signature right, answered 204",
  );
  await accessible();
});

test("somebody is told where nothing answers, and the delivery is sent again once mended", async () => {
  const { page, open, accessible } = desk;
  await open("/messages");
  await page.getByRole("button", { name: "Tell somebody" }).click();
  const dialog = page.getByRole("dialog");
  await dialog.getByLabel("Name").fill("nowhere");
  await dialog.getByRole("button", { name: "Save" }).click();
  await expect(dialog).toContainText("Where it is posted to");
  await dialog.getByLabel("URL").fill("http://127.0.0.1:1023/in");
  await dialog.getByRole("checkbox", { name: "a run finished" }).check();
  await dialog.getByRole("checkbox", { name: "it is late" }).check();
  await dialog.getByLabel("by, each day").fill("07:00");
  await accessible();
  await dialog.getByRole("button", { name: "Save" }).click();
  const row = page.getByRole("row", { name: /^nowhere/ });
  await expect(row).toContainText("failed, disagrees, finished, not finished by 07:00");
  undercoat("run", "fleet-register");
  const told = page.getByRole("row", { name: /run \d+ finished nowhere/ });
  await expect(told).toContainText("refused");
  await expect(told).toContainText("tried again in");
  await told.getByRole("link").click();
  await expect(page.getByText("Not taken: Nothing answers there")).toBeVisible();
  await page.getByRole("button", { name: "Send it again" }).click();
  await expect(page.getByText("Not taken: Nothing answers there")).toHaveCount(2);
  await accessible();
  await open("/messages");
  await row.getByRole("button", { name: "Delete" }).click();
  await page.getByLabel("Type nowhere to confirm").fill("nowhere");
  await page.getByRole("button", { name: "Delete it" }).click();
  await expect(row).toBeHidden();
});

test("no page threw, and none broke its content policy", () => {
  expect(desk.thrown).toEqual([]);
});
