import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { DuckDBInstance } from "@duckdb/node-api";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import ExcelJS from "exceljs";
import { columns, dataset, makeRows } from "./rows.ts";
import { compared, type Line, q, task, type Yard } from "./yard.ts";

const load = (files: string, more: Partial<Load> = {}): Load => ({
  from: { connection: "files", files },
  into: { table: "landing.fact", mode: "upsert", key: ["id"] },
  proof: { figures: ["rows", "sum(amount)"] },
  ...more,
});

/** Writes a CSV as Parquet, with the types that its values have. */
async function parquetOf(csv: string, parquet: string): Promise<void> {
  const connection = await (await DuckDBInstance.create(":memory:")).connect();
  await connection.run(`COPY (SELECT * FROM read_csv('${csv}')) TO '${parquet}' (FORMAT parquet)`);
  connection.closeSync();
}

/** Writes a workbook row by row, so that it need not be held. */
async function writeBook(path: string, rows: number): Promise<void> {
  const workbook = new ExcelJS.stream.xlsx.WorkbookWriter({ filename: path, useSharedStrings: true });
  const sheet = workbook.addWorksheet("Fares");
  sheet.addRow(["id", "zone", "category", "price", "valid_from", "note"]).commit();
  for (let row = 1; row <= rows; row++)
    sheet
      .addRow([
        row,
        `Zone ${row % 40}`,
        `Category ${row % 12}`,
        row / 4,
        new Date(Date.UTC(2026, 0, 1 + (row % 300))),
        `note of ${row}`,
      ])
      .commit();
  sheet.commit();
  await workbook.commit();
}

/** How files compare with psql's own reading of them. */
export async function fileLines({ repeat, rows, atSource, atWarehouse, reset, hand, sides }: Yard): Promise<Line[]> {
  const folder = mkdtempSync(join(tmpdir(), "undercoat-bench-files-"));
  const source = { name: "files", settings: { kind: "files" as const, path: "." }, password: "" };
  const files = { source, warehouse: sides.warehouse, folder };
  const lines: Line[] = [];
  try {
    await atSource(dataset);
    await atSource(makeRows(rows));
    await hand(`${q} "$SOURCE" -c "COPY fact TO STDOUT (FORMAT csv, HEADER)" > ${folder}/fact.csv`);
    const byHand = () =>
      hand(
        `${q} "$WAREHOUSE" -c "CREATE TABLE hand (${columns}, PRIMARY KEY (id))" -c "\\copy hand FROM ${folder}/fact.csv (FORMAT csv, HEADER)"`,
      );
    const csv = await compared(repeat, reset, () => task({ ...files, load: load("fact.csv"), kind: "load" }), byHand);
    lines.push({
      work: `CSV of ${rows.toLocaleString("en")} rows into a new keyed table, proved`,
      ...csv,
      aim: "≤ 1.3",
      note: `${csv.result.told}; against psql's \\copy into a table with that key`,
    });
    await hand(
      `${q} "$SOURCE" -c "COPY (SELECT to_json(f) FROM fact f) TO STDOUT" | sed 's/\\\\\\\\/\\\\/g' | gzip -1 > ${folder}/fact.ndjson.gz`,
    );
    const json = await compared(
      1,
      reset,
      () => task({ ...files, load: load("fact.ndjson.gz"), kind: "load" }),
      async () => ({ seconds: csv.ours }),
    );
    lines.push({ work: "the same as gzipped NDJSON (beside the CSV)", ...json, aim: "≤ 1.6", note: json.result.told });
    await parquetOf(join(folder, "fact.csv"), join(folder, "fact.parquet"));
    const parquet = await compared(
      1,
      reset,
      () => task({ ...files, load: load("fact.parquet"), kind: "load" }),
      async () => ({ seconds: csv.ours }),
    );
    lines.push({ work: "the same as Parquet (beside the CSV)", ...parquet, aim: "≤ 1.3", note: parquet.result.told });
    rmSync(join(folder, "fact.parquet"));
    rmSync(join(folder, "fact.csv"));
    rmSync(join(folder, "fact.ndjson.gz"));
    await writeBook(join(folder, "book.xlsx"), 200_000);
    await reset();
    const book = await task({ ...files, load: load("book.xlsx", { proof: { figures: ["rows"] } }), kind: "load" });
    lines.push({
      work: "workbook of 200,000 rows × 6",
      ours: book.seconds,
      theirs: null,
      aim: "memory ≤ 300 MB",
      memory: book.memory,
      note: book.told,
    });
    rmSync(join(folder, "book.xlsx"));
    mkdirSync(join(folder, "many"));
    const text = (file: number) =>
      `id,name,amount\n${Array.from({ length: 200 }, (_, at) => `${file * 1000 + at},row ${at},${at}.50`).join("\n")}\n`;
    for (let file = 0; file < 501; file++) writeFileSync(join(folder, "many", `${file}.csv`), text(file));
    const many = load("many/*.csv", { proof: { figures: ["rows"] } });
    await reset();
    await task({ ...files, load: many, kind: "load" });
    writeFileSync(join(folder, "many", "7.csv"), text(7).replace("row 7", "row seven"));
    const one = await task({ ...files, load: many, kind: "load" });
    lines.push({
      work: "500 files unchanged of 501",
      ours: one.seconds,
      theirs: null,
      aim: "≤ 1 s whole",
      memory: one.memory,
      note: one.told,
    });
    await atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE");
    return lines;
  } finally {
    rmSync(folder, { recursive: true, force: true });
  }
}
