import { readFileSync } from "node:fs";
import { join } from "node:path";
import { chromium } from "@playwright/test";

/**
 * Takes the pictures of docs/screenshots from a running demo:
 * `npx tsx e2e/pictures.ts [folder] [view…]`, with UNDERCOAT_DATA where it is not `.data`.
 */
const data = process.env.UNDERCOAT_DATA ?? ".data";
const address = readFileSync(join(data, "address"), "utf8").trim();
const token = readFileSync(join(data, "token"), "utf8").trim();
const [folder = "docs/screenshots", ...only] = process.argv.slice(2);

async function ask<T>(path: string): Promise<T> {
  return (await fetch(`${address}/api${path}`, { headers: { Authorization: `Bearer ${token}` } })).json() as Promise<T>;
}

type Listed = { id: number; pipeline: string; load: string; kind: string; verdict: string };
const runs = await ask<Listed[]>("/runs?pipeline=harbour-day&kind=load");
const rehearsals = await ask<Listed[]>("/runs?pipeline=agents&kind=rehearse");
const proofs = await ask<Listed[]>("/proofs?pipeline=payments&load=payment");

const views: Record<string, string> = {
  ledger: "/",
  pipelines: "/pipelines",
  pipeline: "/pipelines/harbour-day/booking",
  shape: "/pipelines/agents/agency_sale",
  column: "/pipelines/agents/agency_sale",
  rejected: "/rejected?load=agents%2Fagency_sale",
  rehearsal: `/runs/${rehearsals[0]?.id}`,
  "new-pipeline": "/pipelines/new?from=bookings",
  run: `/runs/${runs[0]?.id}`,
  proof: `/proofs/${proofs[0]?.id}`,
  warehouse: "/warehouse?table=warehouse%2Fharbour.booking",
  values: "/pipelines/port-gates/scan?values=SKV",
  backfill: `/backfills/${(await ask<{ id: number }[]>("/backfills?pipeline=harbour-day"))[0]?.id}`,
  messages: "/messages",
  schedules: "/schedules",
  files: "/pipelines/fares",
  application: "/pipelines/gate-service/scan",
  lifeline: `/warehouse/warehouse/fleet.vessel_history/lifeline?key=${encodeURIComponent('["KSF-07"]')}`,
  "as-of": `/warehouse/warehouse/agency.customer_history?at=${new Date(Date.now() - 180 * 86_400_000).toISOString()}`,
};

const browser = await chromium.launch({
  executablePath: "/usr/bin/chromium",
  args: ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-sync"],
});
const context = await browser.newContext({
  viewport: { width: 1280, height: 800 },
  colorScheme: "light",
  timezoneId: "Europe/Oslo",
  locale: "en-GB",
  extraHTTPHeaders: { Authorization: `Bearer ${token}` },
});
const page = await context.newPage();
page.on("pageerror", (error) => console.error("page error:", error.message));
page.on("console", (message) => message.type() === "error" && console.error("console:", message.text()));
for (const [name, path] of Object.entries(views)) {
  if (only.length && !only.includes(name)) continue;
  await page.goto(address + path);
  await page.locator("main h1, main h2").first().waitFor();
  await page.waitForLoadState("load");
  await page.waitForTimeout(700);
  if (name === "new-pipeline") {
    await page.getByRole("checkbox", { name: "Tick all shown" }).check();
    await page.getByRole("heading", { name: "What is suggested" }).waitFor();
  }
  if (name === "files") {
    await page.getByRole("button", { name: "Files", exact: true }).click();
    await page.waitForTimeout(700);
  }
  if (name === "application") {
    await page.getByRole("button", { name: "Path", exact: true }).click();
    await page.getByRole("button", { name: "Find out the rest" }).click();
    await page.getByText("a second page was read").waitFor();
    await page.waitForTimeout(700);
  }
  if (name === "lifeline") await page.getByRole("button", { name: /Pin a moment/ }).click();
  if (name === "column") {
    await page.getByRole("button", { name: "Column fare", exact: true }).click();
    await page.getByRole("dialog").waitFor();
    await page.waitForTimeout(1200);
  }
  await page.screenshot({ path: join(folder, `${name}.png`) });
}
await context.close();
await browser.close();
