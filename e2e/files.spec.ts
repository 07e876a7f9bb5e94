import { mkdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { expect, test } from "@playwright/test";
import { undercoat } from "./demo.ts";
import { type Desk, sitDown } from "./desk.ts";

/** A folder of files: found, looked into, loaded by what changed, its broken lines told, proved by reading again. */
test.describe.configure({ mode: "serial" });

let desk: Desk;
test.beforeAll(async ({ browser }) => {
  desk = await sitDown(browser);
});
test.afterAll(() => desk.close());

const till = (name: string, text: string) => {
  const folder = join(process.env.UNDERCOAT_DATA ?? "", "files", "tills");
  mkdirSync(folder, { recursive: true });
  writeFileSync(join(folder, name), text);
};

test("a folder becomes a connection; one that is not there is told", async () => {
  const { page, open, accessible } = desk;
  till("kil.csv", "till_id;port;taken\n1;KIL;12,50\n2;KIL;7,00\n");
  await open("/connections?new=1");
  await page.getByRole("textbox", { name: "Name", exact: true }).fill("tills");
  await page.getByRole("combobox", { name: "Kind" }).click();
  await page.getByRole("option", { name: "Files in a folder" }).click();
  await page.getByLabel("Folder").fill("nowhere");
  await page.getByRole("button", { name: "Check it" }).click();
  await expect(page.getByText("There is no folder nowhere")).toBeVisible();
  await page.getByLabel("Folder").fill("tills");
  await page.getByRole("button", { name: "Check it" }).click();
  await expect(page.getByText("1 of 1 files are in a format that is read")).toBeVisible();
  await accessible();
  await page.getByRole("button", { name: "Save", exact: true }).click();
  await expect(page.getByRole("heading", { name: "tills", level: 1 })).toBeVisible();
  await page.getByText("kil.csv").click();
  await expect(page.getByText("numeric as its values fit with decimal commas")).toBeVisible();
  await page.getByRole("tab", { name: "First rows" }).click();
  await expect(page.getByText("12,50")).toBeVisible();
});

test("its files are loaded by the pattern that is written, and the live rows are theirs", async () => {
  const { page, open, accessible } = desk;
  await open("/pipelines/fares");
  await expect(page.getByText("of files that are new or changed.")).toBeVisible();
  await page.getByRole("button", { name: "Files", exact: true }).click();
  await page.getByRole("combobox", { name: "File or pattern" }).fill("2025/*.csv");
  await accessible();
  await page.getByRole("button", { name: "Set", exact: true }).click();
  await expect(page.getByText("2025/winter.csv").first()).toBeVisible();
  await page.getByRole("button", { name: "Discard" }).click();
  await expect(page.getByText("2026/summer.csv").first()).toBeVisible();
});

test("a broken line is told with file and number, and leaves the list once the file is mended", async () => {
  const { page, open } = desk;
  const file = join(process.env.UNDERCOAT_DATA ?? "", "tills.yaml");
  writeFileSync(
    file,
    'undercoat: 1\npipelines:\n  tills:\n    title: Tills\n    warehouse: warehouse\n    loads:\n      till:\n        from: { connection: tills, files: "*.csv", origin: file }\n        into: { table: agency.till, mode: upsert, key: [till_id], deleted: remove }\n',
  );
  till("skv.csv", "till_id;port;taken\n3;SKV\n4;SKV;9,90\n");
  expect(undercoat("apply", file).status).toBe(0);
  const run = (...more: string[]) => JSON.parse(undercoat("run", "tills", "--json", ...more).output).loads[0];
  expect(run()).toMatchObject({ read: "4", new: "3", rejected: "1", proof: { verdict: "proved", how: "received" } });
  await open("/rejected?load=tills%2Ftill");
  await expect(page.getByText(/has 2 fields where 3 are expected: "skv.csv, line 2"/)).toBeVisible();
  till("skv.csv", "till_id;port;taken\n3;SKV;1,00\n4;SKV;9,90\n");
  expect(run()).toMatchObject({ read: "2", new: "1", same: "1", rejected: "0" });
  expect(run()).toMatchObject({ read: "0" });
  const proved = JSON.parse(undercoat("prove", "tills", "--rows", "--json").output).loads[0];
  expect(proved.proof).toMatchObject({ verdict: "proved", how: "read again" });
  const listed = await (
    await page.request.get(`${process.env.DEMO_ADDRESS}/api/proofs?pipeline=tills&load=till`)
  ).json();
  await open(`/proofs/${listed[0].id}`);
  await expect(page.getByText("The source was read again to be compared.")).toBeVisible();
});

test("files take no condition and no watermark, which is told where it stands", () => {
  const file = join(process.env.UNDERCOAT_DATA ?? "", "wrong.yaml");
  const wrong = (from: string, more = "") => {
    writeFileSync(
      file,
      `undercoat: 1\npipelines:\n  wrong:\n    title: Wrong\n    warehouse: warehouse\n    loads:\n      till:\n        from: ${from}\n${more}        into: { table: agency.wrong, mode: replace }\n`,
    );
    return undercoat("apply", file);
  };
  expect(wrong('{ connection: tills, files: "*.csv", where: "true" }')).toMatchObject({
    status: 2,
    output: expect.stringContaining("leave rows out by a rule"),
  });
  expect(wrong('{ connection: tills, files: "../*.csv" }')).toMatchObject({
    status: 2,
    output: expect.stringContaining("without .."),
  });
  expect(wrong('{ connection: tills, files: "*.csv" }', "        watermark: { column: till_id }\n").output).toContain(
    "Files have no watermark",
  );
  expect(wrong("{ connection: tills, table: public.till }").output).toContain("folder of files");
  expect(wrong('{ connection: bookings, files: "*.csv" }').output).toContain("is a database");
});

test("no page threw, and none broke its content policy", () => {
  expect(desk.thrown).toEqual([]);
});
