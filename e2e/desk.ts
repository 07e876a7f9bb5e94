import { readFileSync } from "node:fs";
import { join } from "node:path";
import { AxeBuilder } from "@axe-core/playwright";
import { type Browser, expect, type Page } from "@playwright/test";

/** A page of the demo with somebody signed in, who notes what throws and what breaks the content policy. */
export interface Desk {
  page: Page;
  thrown: string[];
  open(path: string): Promise<void>;
  accessible(): Promise<void>;
  post(path: string, data: object): Promise<unknown>;
  close(): Promise<void>;
}

export async function sitDown(browser: Browser): Promise<Desk> {
  const address = process.env.DEMO_ADDRESS ?? "";
  const token = readFileSync(join(process.env.UNDERCOAT_DATA ?? "", "token"), "utf8").trim();
  // What fades in is looked at as it stands in the end.
  const context = await browser.newContext({
    reducedMotion: "reduce",
    extraHTTPHeaders: { Authorization: `Bearer ${token}` },
  });
  const page = await context.newPage();
  const thrown: string[] = [];
  page.on("pageerror", (error) => thrown.push(error.message));
  page.on("console", (message) => {
    if (/Content Security Policy/.test(message.text())) thrown.push(message.text());
  });
  return {
    page,
    thrown,
    open: async (path) => void (await page.goto(address + path)),
    accessible: async () =>
      expect(
        (await new AxeBuilder({ page }).analyze()).violations.map(({ id, nodes }) => `${id} ${nodes[0]?.target}`),
      ).toEqual([]),
    post: async (path, data) =>
      (await page.request.post(`${address}/api${path}`, { data, headers: { Origin: address } })).json(),
    close: () => context.close(),
  };
}
