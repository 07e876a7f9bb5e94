import { readFileSync } from "node:fs";
import { join } from "node:path";
import { expect, test } from "@playwright/test";
import { undercoat } from "./demo.ts";
import { type Desk, sitDown } from "./desk.ts";

/** Applications over HTTP: consent, paths that are looked at, what was asked; a service of OData; a module. */
test.describe.configure({ mode: "serial" });

let desk: Desk;
test.beforeAll(async ({ browser }) => {
  desk = await sitDown(browser);
});
test.afterAll(() => desk.close());

const secrets = () => JSON.parse(readFileSync(join(process.env.UNDERCOAT_DATA ?? "", "demo.json"), "utf8"));
const run = (...command: string[]) => JSON.parse(undercoat(...command, "--json").output).loads;

test("somebody consents that an application is read in their name, and it is", async () => {
  const { page, open, accessible } = desk;
  await open("/connections/gate");
  const url = (await page.locator(".mono").filter({ hasText: "http://" }).first().textContent()) ?? "";
  const { origin } = new URL(url);
  await open("/connections?new=1");
  await page.getByRole("combobox", { name: "Kind" }).click();
  await page.getByRole("option", { name: "An application over HTTP" }).click();
  await page.getByRole("textbox", { name: "Name" }).fill("gate-ada");
  await page.getByRole("textbox", { name: "Address" }).fill(url);
  await page.getByRole("textbox", { name: "Description (OpenAPI 3)" }).fill("/openapi.json");
  await page.getByRole("button", { name: "Fill in how it is signed in to" }).click();
  await expect(page.getByText("Gate service says how it is signed in to; the fields below hold it.")).toBeVisible();
  await expect(page.getByRole("textbox", { name: "Where tokens are given" })).toHaveValue(`${origin}/oauth/token`);
  await expect(page.getByRole("textbox", { name: "Scopes" })).toHaveValue(/scans.read/);
  await page.getByRole("combobox", { name: "It signs in with" }).click();
  await page.getByRole("option", { name: "OAuth 2, with somebody's consent" }).click();
  await page.getByRole("textbox", { name: "Where somebody consents" }).fill(`${origin}/oauth/authorize`);
  await page.getByRole("textbox", { name: "Where tokens are given" }).fill(`${origin}/oauth/token`);
  await page.getByRole("textbox", { name: "Scopes" }).fill("scans.read incidents.read");
  await page.getByRole("textbox", { name: "Client", exact: true }).fill("undercoat");
  await page.getByRole("textbox", { name: "Client's secret" }).fill(secrets().gate);
  await accessible();
  await page.getByRole("button", { name: "Save" }).click();
  await expect(page.getByText("Nobody has consented yet")).toBeVisible();
  await expect(page.getByText("It asks for scans.read, incidents.read.")).toBeVisible();
  await page.getByRole("button", { name: "Sign in and consent" }).click();
  await page.getByRole("link", { name: "Don't" }).click();
  await expect(page.getByText("The application was not consented to")).toBeVisible();
  await open("/connections/gate-ada");
  await page.getByRole("button", { name: "Sign in and consent" }).click();
  await expect(page.getByRole("heading", { name: "Gate service" })).toBeVisible();
  await page.getByRole("link", { name: "Allow it" }).click();
  await expect(page.getByText("Somebody has consented that it is read in their name.")).toBeVisible();
  await expect(page.getByText("3 paths can be read")).toBeVisible();
  await accessible();
});

test("a consent that was not asked for here is refused", async () => {
  const { page, open } = desk;
  await open("/api/consent?state=made-up&code=stolen");
  await expect(page.getByText("This consent was not asked for here, or too long ago")).toBeVisible();
});

test("a path is looked at, loaded, and what was asked is one click away", async () => {
  const { page, open, accessible } = desk;
  await open("/connections/gate-ada");
  await page.getByRole("textbox", { name: "Look at a path" }).fill("/incidents?limit=20");
  await page.getByRole("button", { name: "Look" }).click();
  await expect(page.getByText("data holds 20 records")).toBeVisible();
  await expect(page.getByText("next holds a cursor that after sends back: a second page was read")).toBeVisible();
  await expect(page.getByText("incident_id seems to identify a record")).toBeVisible();
  await accessible();
  await page.getByRole("link", { name: "Load it" }).click();
  await expect(page.getByRole("cell", { name: "incident_id" })).toBeVisible();
  await page.getByRole("textbox", { name: "Pipeline's title" }).fill("Gate incidents");
  await page.getByRole("button", { name: "Make the pipeline" }).click();
  await expect(page.getByText(/Records stand at data/)).toBeVisible();
  const [load] = run("run", "gate-incidents");
  expect(load).toMatchObject({ read: "200", new: "200", proof: { verdict: "proved" } });
  await open("/runs?pipeline=gate-incidents");
  await page.getByRole("row").nth(1).click();
  await page.getByRole("button", { name: /\d+ requests?/ }).click();
  await expect(page.getByRole("dialog").getByText("/api/incidents").first()).toBeVisible();
  await expect(page.getByRole("dialog")).not.toContainText(secrets().gate);
  await accessible();
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "The first page as it came" }).click();
  await expect(page.getByRole("dialog").getByText('"incident_id":1,')).toBeVisible();
});

test("how a path is read is found out in the editor, and all of it read for its types", async () => {
  const { page, open, accessible } = desk;
  await open("/pipelines/gate-incidents/incidents");
  await page.getByRole("button", { name: "Path" }).click();
  await page.getByRole("button", { name: "Find out the rest" }).click();
  await expect(page.getByText(/next holds a cursor that after sends back/)).toBeVisible();
  await expect(page.getByRole("textbox", { name: "Records stand at" })).toHaveValue("data");
  await page.getByRole("button", { name: "Read all of it" }).click();
  await expect(page.getByText("Types that all 200 rows fit.")).toBeVisible();
  await page.getByText("It can export all of it in the background").click();
  await page.getByLabel("Begun by POST to").fill("/exports");
  await expect(page.getByText("All of it is exported in the background")).toBeVisible();
  await page.getByLabel("Sent with it, as JSON").fill("[");
  await expect(page.getByText("This is no JSON object")).toBeVisible();
  await accessible();
  await page.getByLabel("Sent with it, as JSON").fill("");
  await page.getByLabel("Begun by POST to").fill("");
  await expect(page.getByText("It can export all of it in the background")).toBeVisible();
  await page.getByRole("button", { name: "Set", exact: true }).click();
  await expect(page.getByRole("button", { name: /Save/ }).first()).toBeVisible();
});

test("a report by date is found out, its columns are ticked, and each day is proved by itself", async () => {
  const { page, open, accessible } = desk;
  await open("/connections/till-south");
  await page.getByRole("textbox", { name: "Look at a path" }).fill("/takings");
  await page.getByRole("button", { name: "Look" }).click();
  await expect(page.getByText(/to is the last day that counts: from .* there are \d+ records/)).toBeVisible();
  await page.getByRole("link", { name: "Load it" }).click();
  await page.getByRole("textbox", { name: "Pipeline's title" }).fill("South tills");
  await page.getByRole("button", { name: "Make the pipeline" }).click();
  await expect(page.getByText(/It is asked for day by day, from today-P30D to today/)).toBeVisible();
  await page.getByRole("button", { name: "Path" }).click();
  await expect(page.getByRole("checkbox", { name: "average" })).toBeChecked();
  await page.getByRole("checkbox", { name: "average" }).uncheck();
  await expect(page.getByRole("textbox", { name: "Parameters", exact: true })).toHaveValue("measures=sales,amount");
  await page.getByRole("combobox", { name: "Loaded days again" }).click();
  await page.getByRole("option", { name: "three days back" }).click();
  await accessible();
  await page.getByRole("button", { name: "Set", exact: true }).click();
  await expect(page.getByText(/asked for again three days back/)).toBeVisible();
  await page.getByRole("button", { name: /^Save/ }).first().click();
  await expect(page.getByText("version 2")).toBeVisible();
  const [first] = run("run", "south-tills");
  expect(first).toMatchObject({ rejected: "0", proof: { verdict: "proved", how: "received" } });
  const [again] = run("run", "south-tills");
  expect(Number(again.read)).toBeLessThan(Number(first.read) / 4);
  expect(run("prove", "south-tills", "--rows")[0].slices).toHaveLength(30);
});

test("what a source is told of a rejected row is chosen, rehearsed, sent once, and stands with the row", async () => {
  const { page, open, accessible } = desk;
  await open("/pipelines/gate-service/incident");
  await page.getByRole("button", { name: "Marks sent back" }).click();
  await expect(page.getByRole("textbox", { name: "Path" })).toHaveValue("/incidents/{incident_id}/comments");
  await page.getByRole("textbox", { name: "Sent with it, as JSON" }).fill("no JSON");
  await expect(page.getByText("This is no JSON object")).toBeVisible();
  await expect(page.getByRole("button", { name: "Set", exact: true })).toBeDisabled();
  await accessible();
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "Rehearse", exact: true }).click();
  await page.getByRole("link", { name: "See the rows and the SQL" }).click();
  await expect(page.getByRole("list", { name: "Marks that would be sent" })).toContainText(
    'POST /incidents/26/comments {"text":"Not loaded: breaks the rule “an incident takes a while”"}',
  );
  await accessible();
  await open("/rejected?load=gate-service%2Fincident");
  await page.getByRole("row", { name: /harbour.incident 26/ }).click();
  await expect(page.getByText(/Its source was told/)).toBeVisible();
  await page.keyboard.press("Escape");
});

test("sets of a service and of a module are listed, and an hour moves them", async () => {
  const { page, open, accessible } = desk;
  await open("/connections/crew");
  await expect(page.getByText("3 sets of records can be read")).toBeVisible();
  await page.getByText("Shifts", { exact: true }).click();
  await expect(page.getByText("numeric(6,3) as its values fit")).toBeVisible();
  await accessible();
  await open("/connections/tides");
  await page.getByText("readings", { exact: true }).click();
  await expect(page.getByText("timestamptz as its values fit")).toBeVisible();
  await page.getByRole("button", { name: "Change or check" }).click();
  await page.getByRole("button", { name: "Check it" }).click();
  await expect(page.getByText("readings gives records")).toBeVisible();
  // Hours that passed before this one are loaded first, so that what is counted is what one brings.
  run("run", "gate-service", "--load", "scan");
  undercoat("demo", "--hour");
  const [person, shift] = run("run", "crew");
  expect(person.proof.verdict).toBe("proved");
  expect(Number(shift.new)).toBeGreaterThan(0);
  expect(Number(shift.deleted)).toBeGreaterThan(0);
  await open("/pipelines/crew/shift");
  await expect(page.getByText("those that changed, as it is told")).toBeVisible();
  await expect(page.getByText("It would read what changed since the last run, as crew tells it.")).toBeVisible();
  await open("/proofs?pipeline=crew");
  await page.getByRole("link", { name: "fleet.shift" }).click();
  await expect(page.getByText(/The source itself counts 2,4\d\d rows/)).toBeVisible();
  await accessible();
  const scans = run("run", "gate-service", "--load", "scan")[0];
  expect(scans).toMatchObject({ new: "60", deleted: "2", proof: { verdict: "proved" } });
});

test("no page threw, and none broke its content policy", () => {
  expect(desk.thrown).toEqual([]);
});
