import { existsSync, mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";

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
