import { readFile } from "node:fs/promises";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import type { From, Load } from "@undercoat/core/pipeline/pipeline";
import { sourceFor } from "@undercoat/engine/source/registry";
import ExcelJS from "exceljs";
import JSZip from "jszip";
import { describe, expect, test } from "vitest";
import { sourceContract } from "./contract.ts";
import { useFares } from "./folder.ts";

const desk = useFares("workbook");
const { fares, put } = desk;

async function book(name: string, fill: (workbook: ExcelJS.Workbook) => void): Promise<void> {
  const workbook = new ExcelJS.Workbook();
  fill(workbook);
  await put(name, new Uint8Array(await workbook.xlsx.writeBuffer()));
}

/** A workbook of one sheet by its XML, for what a library would write otherwise. */
async function rawBook(
  name: string,
  rows: string,
  more: { styles?: string; workbook?: string; texts?: string } = {},
): Promise<void> {
  const zip = new JSZip();
  const main = "http://schemas.openxmlformats.org/spreadsheetml/2006/main";
  zip.file(
    "xl/workbook.xml",
    `<workbook xmlns="${main}" xmlns:r="r">${more.workbook ?? ""}<sheets><sheet name="Sheet 1" sheetId="1" r:id="rId1"/></sheets></workbook>`,
  );
  zip.file(
    "xl/_rels/workbook.xml.rels",
    `<Relationships><Relationship Id="rId1" Target="worksheets/sheet1.xml"/></Relationships>`,
  );
  if (more.styles) zip.file("xl/styles.xml", `<styleSheet xmlns="${main}">${more.styles}</styleSheet>`);
  if (more.texts) zip.file("xl/sharedStrings.xml", `<sst xmlns="${main}">${more.texts}</sst>`);
  zip.file("xl/worksheets/sheet1.xml", `<worksheet xmlns="${main}"><sheetData>${rows}</sheetData></worksheet>`);
  await put(name, await zip.generateAsync({ type: "nodebuffer" }));
}

const text = (place: string, value: string) => `<c r="${place}" t="inlineStr"><is><t>${value}</t></is></c>`;
const head = `<row r="1">${text("A1", "id")}${text("B1", "v")}</row>`;

const load = (from: Omit<From, "connection">, more: Partial<Load> = {}): Load => ({
  from: { connection: "fares", ...from },
  into: { table: "landing.fare", mode: "upsert", key: ["id"] },
  proof: { figures: ["rows"] },
  ...more,
});
const files = () => desk.pair.between(fares);
const held = async (columns = "t::text AS row") =>
  (await desk.pair.atWarehouse(`SELECT ${columns} FROM landing.fare t ORDER BY 1`)).map((row) =>
    Object.values(row).join("|"),
  );

sourceContract("A workbook", {
  pair: () => desk.pair,
  credentials: () => fares,
  from: { files: "sample.xlsx" },
  item: { schema: ".", table: "sample.xlsx" },
  absent: { files: "absent.xlsx" },
  firstStep: "folder",
  async furnish(rows) {
    await book("sample.xlsx", (workbook) => {
      const sheet = workbook.addWorksheet("Fares");
      sheet.addRow(["id", "name", "fare", "at"]);
      for (const [id, name, fare, at] of rows) sheet.addRow([id, name, fare, at]);
    });
  },
});

describe("what stands in cells", () => {
  test("numbers as they are written, however long", async () => {
    const numbers = ["9007199254740993", "0.1", "1E-7", "0.10000000000000001", "-12345678901234567890.5"];
    await rawBook(
      "a.xlsx",
      head +
        numbers
          .map(
            (value, at) =>
              `<row r="${at + 2}"><c r="A${at + 2}"><v>${at}</v></c><c r="B${at + 2}"><v>${value}</v></c></row>`,
          )
          .join(""),
    );
    await files().run(load({ files: "a.xlsx" }, { columns: { id: "id", v: { as: "v", type: "numeric" } } }));
    expect(await held("id, v::text")).toEqual([
      "0|9007199254740993",
      "1|0.1",
      "2|0.0000001",
      "3|0.10000000000000001",
      "4|-12345678901234567890.5",
    ]);
  });

  test("dates, times, spans, truths, texts of several pieces, formulas by their values", async () => {
    await book("a.xlsx", (workbook) => {
      const sheet = workbook.addWorksheet("Trips");
      sheet.addRow(["id", "day", "moment", "span", "open", "note", "sum"]);
      sheet.addRow([
        1,
        new Date("2026-03-29T00:00:00Z"),
        new Date("2026-03-29T02:30:15.250Z"),
        1.5,
        true,
        { richText: [{ text: "Nær " }, { text: "øy", font: { bold: true } }] },
        { formula: "1+1", result: 2 },
      ]);
      sheet.getCell("B2").numFmt = "dd.mm.yyyy";
      sheet.getCell("C2").numFmt = "dd.mm.yyyy hh:mm";
      sheet.getCell("D2").numFmt = "[h]:mm:ss";
    });
    await files().run(load({ files: "a.xlsx" }));
    expect(await held()).toEqual(['(1,2026-03-29,"2026-03-29 02:30:15.25",36:00:00,t,"Nær øy",2)']);
  });

  test("since 1904; signs that XML can't hold; texts that are shared, but not how they are read", async () => {
    await rawBook("a.xlsx", `${head}<row r="2"><c r="A2" t="s"><v>0</v></c><c r="B2" s="1"><v>0</v></c></row>`, {
      workbook: '<workbookPr date1904="1"/>',
      styles: '<cellXfs><xf numFmtId="0"/><xf numFmtId="14"/></cellXfs>',
      texts: "<si><t>a_x000A_b &lt;&amp;&gt; </t><rPh><t>reading</t></rPh></si>",
    });
    await files().run(load({ files: "a.xlsx" }));
    expect(await held("id, v")).toEqual(["a\nb <&> |1904-01-01"]);
  });

  test("errors, days that there are none, formulas without a value and cells beside the columns are rejected by their place", async () => {
    await rawBook(
      "a.xlsx",
      `${head}<row r="2"><c r="A2"><v>1</v></c><c r="B2" t="e"><v>#DIV/0!</v></c></row><row r="3"><c r="A3"><v>2</v></c><c r="B3" s="1"><v>60</v></c></row><row r="4"><c r="A4"><v>3</v></c><c r="B4"><f>NOW()</f></c></row><row r="5"><c r="A5"><v>4</v></c><c r="D5"><v>7</v></c></row><row r="6"/><row r="7"><c r="A7"><v>5</v></c></row>`,
      { styles: '<cellXfs><xf numFmtId="0"/><xf numFmtId="14"/></cellXfs>' },
    );
    const { tally, findings } = await files().run(load({ files: "a.xlsx" }));
    expect(tally).toMatchObject({ read: "5", new: "1", rejected: "4" });
    expect(findings.reasons.map(({ reason }) => reason).sort()).toEqual([
      "B2 holds #DIV/0!",
      "B3 holds 60, which is no day of the calendar",
      "B4 holds a formula whose value was not saved",
      "has a value in D5, beside the columns",
    ]);
    expect(
      (await desk.pair.atWarehouse("SELECT message FROM undercoat.rejected WHERE reason LIKE 'B2%'"))[0]?.message,
    ).toContain("a.xlsx, Sheet 1, row 2");
  });

  test("of merged cells the first holds the value, the others nothing", async () => {
    await book("a.xlsx", (workbook) => {
      const sheet = workbook.addWorksheet("Fares");
      sheet.addRow(["id", "zone", "price"]);
      sheet.addRow([1, "Sund", 10]);
      sheet.addRow([2, null, 20]);
      sheet.mergeCells("B2:B3");
    });
    await files().run(load({ files: "a.xlsx" }));
    expect(await held("id, coalesce(zone, '-'), price")).toEqual(["1|Sund|10", "2|-|20"]);
  });
});

describe("sheets", () => {
  const zones = (name: string, more: (workbook: ExcelJS.Workbook) => void = () => undefined) =>
    book(name, (workbook) => {
      for (const zone of ["Zone 1", "Zone 2"]) {
        const sheet = workbook.addWorksheet(zone);
        sheet.addRow(["Kestrel Sound Ferries"]);
        sheet.addRow([]);
        sheet.addRow(["id", "price"]);
        sheet.addRow([`${zone}-a`, 10]);
        sheet.addRow([`${zone}-b`, 20]);
      }
      workbook.addWorksheet("Notes").addRow(["by", "Ada"]);
      const hidden = workbook.addWorksheet("Zone 9");
      hidden.state = "hidden";
      hidden.addRow(["id", "price"]);
      hidden.addRow(["Zone 9-a", 90]);
      more(workbook);
    });

  test("a pattern takes those that are shown, each row marked with its own; titles are passed over", async () => {
    await zones("prices.xlsx");
    const all = load({ files: "prices.xlsx", sheets: "Zone *", origin: "zone" });
    const { tally, proof } = await files().run(all);
    expect(tally).toMatchObject({ read: "4", new: "4", rejected: "0" });
    expect(proof).toMatchObject({ verdict: "proved", how: "received" });
    expect(await held("id, zone")).toEqual([
      "Zone 1-a|Zone 1",
      "Zone 1-b|Zone 1",
      "Zone 2-a|Zone 2",
      "Zone 2-b|Zone 2",
    ]);
    expect((await files().prove(all)).proof).toMatchObject({ verdict: "proved", how: "read again" });
    expect(
      (
        await files().run(
          load({ files: "prices.xlsx", sheets: "Zone 9" }, { into: { table: "landing.nine", mode: "replace" } }),
        )
      ).tally.new,
    ).toBe("1");
  });

  test("an edited cell, a new row, a new sheet and one that is gone", async () => {
    await zones("prices.xlsx");
    const all = load(
      { files: "prices.xlsx", sheets: "Zone *", origin: "zone" },
      { into: { table: "landing.fare", mode: "upsert", key: ["zone", "id"], deleted: "remove" } },
    );
    await files().run(all);
    expect((await files().run(all)).tally.read).toBe("0");
    await zones("prices.xlsx", (workbook) => {
      const one = workbook.getWorksheet("Zone 1");
      if (one) one.getCell("B4").value = 11;
      one?.addRow(["Zone 1-c", 30]);
      workbook.removeWorksheet("Zone 2");
      const three = workbook.addWorksheet("Zone 3");
      three.addRow(["id", "price"]);
      three.addRow(["Zone 3-a", 1]);
    });
    const { tally, proof } = await files().run(all);
    expect(tally).toMatchObject({ new: "2", changed: "1", same: "1", deleted: "2" });
    expect(proof.verdict).toBe("proved");
    expect(await held("id, price")).toEqual(["Zone 1-a|11", "Zone 1-b|20", "Zone 1-c|30", "Zone 3-a|1"]);
    expect((await files().prove(all)).proof.verdict).toBe("proved");
  });

  test("several workbooks, packed or not: a sheet is known by its file too", async () => {
    await zones("a.xlsx");
    await zones("b.xlsx");
    await put("c.xlsx.gz", gzipSync(await readFile(join(desk.folder, "b.xlsx"))));
    const { tally } = await files().run(
      load(
        { files: "*.xlsx{,.gz}", sheets: "Zone 1", origin: "place" },
        { into: { table: "landing.fare", mode: "upsert", key: ["place", "id"] } },
      ),
    );
    expect(tally).toMatchObject({ new: "6" });
    expect(await held("DISTINCT place")).toEqual(["a.xlsx, Zone 1", "b.xlsx, Zone 1", "c.xlsx.gz, Zone 1"]);
  });

  test("a block of cells, a head that is said", async () => {
    await zones("prices.xlsx");
    const { tally } = await files().run(
      load({ files: "prices.xlsx", range: "A4:A5", csv: { header: false } }, { columns: { id: "column_1" } }),
    );
    expect(tally.new).toBe("2");
    expect(await held("id")).toEqual(["Zone 1-a", "Zone 1-b"]);
  });

  test("types are guessed, and the first rows are shown", async () => {
    await zones("prices.xlsx");
    const source = sourceFor(fares);
    const item = { schema: ".", table: "prices.xlsx" };
    expect((await source.dataset(item)).columns.map(({ name, fits }) => `${name} ${fits ?? "text"}`)).toEqual([
      "id text",
      "price bigint",
    ]);
    expect(await source.firstRows(item, 1)).toEqual([{ id: "Zone 1-a", price: "10" }]);
  });

  test.each([
    [
      "a sheet that is not there",
      () => zones("prices.xlsx"),
      { files: "prices.xlsx", sheets: "Zone 7" },
      /has no sheet Zone 7/,
    ],
    [
      "what is no workbook",
      () => put("prices.xlsx", Buffer.from("id,price\n1,2\n")),
      { files: "prices.xlsx" },
      /can't be read as a workbook/,
    ],
    [
      "one that was cut",
      async () => {
        await zones("whole.xlsx");
        const bytes = await readFile(join(desk.folder, "whole.xlsx"));
        await put("prices.xlsx", bytes.subarray(0, bytes.length / 2));
      },
      { files: "prices.xlsx" },
      /can't be read as a workbook/,
    ],
  ])("%s is told", async (_, furnish, from, said) => {
    await furnish();
    await expect(files().run(load(from))).rejects.toThrow(said);
  });
});
