import { existsSync, mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import ExcelJS from "exceljs";

/** The Fare office: a folder of fare sheets as its people keep them, with semicolons, decimal commas and windows-1252. */

const zones = ["Nær", "Sund", "Ytre øy", "Langs kysten"];
const categories = ["Voksen", "Barn", "Honnør", "Student", "Sykkel", "Bil under 6 m", "Bil over 6 m", "Båthenger"];
const sheets = [
  { name: "2025/winter.csv", season: "winter", from: "2025-10-01", factor: 92 },
  { name: "2026/summer.csv", season: "summer", from: "2026-04-01", factor: 108 },
  { name: "2026/winter.csv", season: "winter", from: "2026-10-01", factor: 97 },
];
const head = "fare_code;zone;category;season;price;valid_from;note";

const comma = (cents: number) => `${Math.floor(cents / 100)},${String(cents % 100).padStart(2, "0")}`;

/** windows-1252, of whose signs beyond Latin 1 the sheets use the euro's alone. */
const encoded = (text: string) => Buffer.from(text.replaceAll("€", "\u0080"), "latin1");

function sheet({ season, from, factor }: (typeof sheets)[number]): string {
  const lines = zones.flatMap((zone, at) =>
    categories.map((category, place) => {
      const price = Math.round((1900 + at * 1450) * (0.4 + place * 0.35) * (factor / 100));
      const note = place === 2 ? "fra 67 år" : place === 7 ? "maks. 750 kg, ellers 15 € mer" : "";
      return `${season[0]?.toUpperCase()}${from.slice(2, 4)}-${at + 1}${String(place + 1).padStart(2, "0")};${zone};${category};${season};${comma(price)};${from};${note}`;
    }),
  );
  return `${[head, ...lines].join("\r\n")}\r\n`;
}

/** Lines as people break them: one with a field too many, one that ends early, and a price that is a word. */
const broken = [
  "W26-501;Nær;Hund;winter;35;00;2026-10-01;",
  "W26-502;Sund",
  "W26-503;Sund;Moped;winter;på forespørsel;2026-10-01;",
];

/** Makes the folder of the Fare office below the one for files, where it is not there yet. */
export function makeFares(files: string): void {
  for (const one of sheets) {
    const path = join(files, "fares", one.name);
    if (existsSync(path)) continue;
    mkdirSync(join(path, ".."), { recursive: true });
    const extra = one.name === "2026/winter.csv" ? `${broken.join("\r\n")}\r\n` : "";
    writeFileSync(path, encoded(sheet(one) + extra));
  }
}

/** An hour at the Fare office: a price is raised, and a new sheet of campaign fares lies in the folder. */
export function passFareHour(files: string): void {
  const path = join(files, "fares", "2026/winter.csv");
  if (!existsSync(path)) return;
  const raised = readFileSync(path, "latin1").replace(
    /(;Voksen;winter;)(\d+)(,\d\d;)/,
    (_, before, crowns, rest) => `${before}${Number(crowns) + 1}${rest}`,
  );
  writeFileSync(path, raised, "latin1");
  const number = 1 + (readFileSync(path, "latin1").length % 9);
  const campaign = join(files, "fares", `2026/campaign-${number}.csv`);
  if (!existsSync(campaign))
    writeFileSync(
      campaign,
      encoded(`${head}\r\nC26-${number}01;Nær;Voksen;winter;19,00;2026-11-0${number};Kampanje\r\n`),
    );
}

const tariff = (year: number) => `fares/tariff-${year}.xlsx`;
const harbours = ["Kilden", "Østvik", "Nesoddholm", "Havnes", "Sundbru"];

/** A workbook of crossing tariffs, a sheet for each kind of traveller, with a title above and a sum below aside. */
export async function makeTariff(files: string): Promise<void> {
  const path = join(files, tariff(2026));
  if (existsSync(path)) return;
  const workbook = new ExcelJS.Workbook();
  for (const [place, name] of ["Tariff foot", "Tariff car"].entries()) {
    const sheet = workbook.addWorksheet(name);
    sheet.addRow([`Kestrel Sound Ferries – ${name.toLowerCase()} 2026`]);
    sheet.mergeCells("A1:E1");
    sheet.addRow([]);
    sheet.addRow(["from", "to", "price", "valid_from", "return_price"]);
    for (const [at, from] of harbours.entries())
      for (const [other, to] of harbours.entries())
        if (at < other) {
          const price = (place + 1) * (38 + at * 7 + other * 11) + 0.5;
          const row = sheet.addRow([from, to, price, new Date("2026-04-01T00:00:00Z")]);
          row.getCell(5).value = { formula: `ROUND(C${row.number}*1.8,2)`, result: Math.round(price * 180) / 100 };
        }
    sheet.getColumn(4).numFmt = "dd.mm.yyyy";
  }
  // A division by nothing, as it happens.
  workbook
    .getWorksheet("Tariff car")
    ?.addRow(["Kilden", "Utvær", 120, new Date("2026-04-01T00:00:00Z"), { error: "#DIV/0!" }]);
  const notes = workbook.addWorksheet("Working notes");
  notes.state = "hidden";
  notes.addRow(["ask Ada about Utvær"]);
  await workbook.xlsx.writeFile(path);
}

/** An hour at the workbook: a changed cell, a new row, a new column, and at its first hour a new sheet. */
export async function passTariffHour(files: string): Promise<void> {
  const path = join(files, tariff(2026));
  if (!existsSync(path)) return;
  const workbook = new ExcelJS.Workbook();
  await workbook.xlsx.readFile(path);
  const foot = workbook.getWorksheet("Tariff foot");
  if (!foot) return;
  const price = foot.getCell("C4");
  price.value = Number(price.value) + 0.5;
  foot.addRow(["Kilden", `Skjær ${foot.rowCount - 12}`, 64, new Date("2026-11-01T00:00:00Z"), 115.2]);
  if (foot.getCell("F3").value !== "crossing_minutes") {
    foot.getCell("F3").value = "crossing_minutes";
    for (let row = 4; row <= foot.rowCount; row++) foot.getCell(`F${row}`).value = 15 + ((row * 7) % 50);
    const bikes = workbook.addWorksheet("Tariff bicycle");
    bikes.addRow(["from", "to", "price", "valid_from", "return_price"]);
    bikes.addRow(["Kilden", "Østvik", 22, new Date("2026-11-01T00:00:00Z"), 39.6]);
    bikes.getColumn(4).numFmt = "dd.mm.yyyy";
  }
  await workbook.xlsx.writeFile(path);
}
