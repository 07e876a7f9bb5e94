import { appendFileSync, existsSync } from "node:fs";
import { mkdir, mkdtemp, realpath, rename, rm, symlink, writeFile } from "node:fs/promises";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import { gzipSync } from "node:zlib";
import { DuckDBInstance } from "@duckdb/node-api";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import type { CredentialsOf } from "@undercoat/engine/connection/credentials";
import { Duck } from "@undercoat/engine/source/files/duck";
import { allowFolders, FolderStore } from "@undercoat/engine/source/files/folder";
import { shapeOf } from "@undercoat/engine/source/files/shape";
import fc from "fast-check";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { type SpecimenRow, sourceContract } from "./contract.ts";
import { makePair, type Pair, quiet } from "./pair.ts";

let pair: Pair;
let root: string;
const fares: CredentialsOf<"files"> = { name: "fares", settings: { kind: "files", path: "fares" }, password: "" };
beforeAll(async () => {
  pair = await makePair("files");
  root = await mkdtemp(join(tmpdir(), "undercoat-test-"));
  allowFolders([root]);
});
afterAll(async () => {
  await pair.close();
  await rm(root, { recursive: true });
});
beforeEach(async () => {
  await pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
  await rm(join(root, "fares"), { recursive: true, force: true });
});

async function put(name: string, text: string | Buffer): Promise<void> {
  await mkdir(dirname(join(root, "fares", name)), { recursive: true });
  await writeFile(join(root, "fares", name), text);
}

const load = (files: string, more: Partial<Load> = {}): Load => ({
  from: { connection: "fares", files },
  into: { table: "landing.fare", mode: "upsert", key: ["id"] },
  proof: { figures: ["rows"] },
  ...more,
});
const files = () => pair.between(fares);

/** Writes a query's rows as `a.parquet`. */
async function writeParquet(sql: string): Promise<void> {
  await mkdir(join(root, "fares"), { recursive: true });
  const connection = await (await DuckDBInstance.create(":memory:")).connect();
  await connection.run(`COPY (${sql}) TO '${join(root, "fares", "a.parquet")}' (FORMAT parquet)`);
  connection.closeSync();
}

const held = (columns = "t::text") =>
  pair
    .atWarehouse(`SELECT ${columns} FROM landing.fare t ORDER BY 1`)
    .then((rows) => rows.map((row) => Object.values(row).join("|")));

for (const [name, text] of [
  [
    "csv",
    (rows: SpecimenRow[]) =>
      [["id", "name", "fare", "at"], ...rows]
        .map((row) => row.map((value) => (value === null ? "" : `"${String(value).replaceAll('"', '""')}"`)).join(";"))
        .join("\r\n"),
  ],
  [
    "ndjson",
    (rows: SpecimenRow[]) =>
      rows
        .map(([id, label, fare, at]) => `{"id":${id},"name":${JSON.stringify(label)},"fare":${fare},"at":"${at}"}`)
        .join("\n"),
  ],
] as const)
  sourceContract(`A folder of files (${name})`, {
    pair: () => pair,
    credentials: () => fares,
    from: { files: `2026/sample.${name}` },
    item: { schema: "2026", table: `sample.${name}` },
    absent: { files: "nowhere.csv" },
    firstStep: "folder",
    furnish: (rows) => put(`2026/sample.${name}`, text(rows)),
  });

sourceContract("A folder of files (parquet)", {
  pair: () => pair,
  credentials: () => fares,
  from: { files: "a.parquet" },
  item: { schema: ".", table: "a.parquet" },
  absent: { files: "nowhere.parquet" },
  firstStep: "folder",
  furnish: (rows) => {
    const quoted = (value: string | number | null) =>
      value === null ? "NULL" : `'${String(value).replaceAll("'", "''")}'`;
    const values = rows.map(
      ([id, name, fare, at]) => `(${id}, ${quoted(name)}, ${quoted(fare)}::DECIMAL(18,2), ${quoted(at)}::TIMESTAMPTZ)`,
    );
    return writeParquet(`SELECT * FROM (VALUES ${values.join(", ")}) t(id, name, fare, "at")`);
  },
});

test("a file is loaded into a new table by the types that its values fit, and proved by what was received", async () => {
  await put(
    "a.csv",
    'id,name,price,day,paid,code\n1,Kjær,12.50,2026-11-01,true,007\n2,"a, ""b""\n c",9007199254740993,2026-11-02,false,010\n3,,0.1,,,\n',
  );
  const { tally, proof } = await files().run(load("a.csv"));
  expect(tally).toMatchObject({ read: "3", new: "3", rejected: "0" });
  expect(proof).toMatchObject({ verdict: "proved", how: "received", depth: "cells", cells: { rows: "3" } });
  expect(await held("id, name, price, day, paid, code")).toEqual([
    "1|Kjær|12.50|2026-11-01|t|007",
    '2|a, "b"\n c|9007199254740993|2026-11-02|f|010',
    "3||0.1|||",
  ]);
  const types = await pair.atWarehouse(
    "SELECT string_agg(format_type(atttypid, atttypmod), ', ' ORDER BY attnum) AS types FROM pg_attribute WHERE attrelid = 'landing.fare'::regclass AND attnum > 0",
  );
  expect(types[0]?.types).toBe("bigint, text, numeric, date, boolean, text");
});

describe("what a file can hold", () => {
  test.each([
    ["UTF-8 with a mark", Buffer.from("\uFEFFid,name\n1,Kjær €\n", "utf8"), {}],
    ["UTF-16", Buffer.from("\uFEFFid,name\r\n1,Kjær €\r\n", "utf16le"), {}],
    ["windows-1252", Buffer.from("id;name\n1;Kj\xe6r \x80\n", "latin1"), {}],
    ["tabs", Buffer.from("id\tname\n1\tKjær €\n"), {}],
    ["another quote", Buffer.from("id|name\n1|'Kjær €'\n"), { quote: "'" }],
    ["lines before its head", Buffer.from("Fares of 2026\n\nid,name\n1,Kjær €\n"), { skip: 2 }],
    ["gzip", gzipSync("id,name\n1,Kjær €\n"), {}, "a.csv.gz"],
    ["windows-1252 in gzip", gzipSync(Buffer.from("id;name\n1;Kj\xe6r \x80\n", "latin1")), {}, "a.csv.gz"],
  ])("%s", async (_, bytes, csv, name = "a.csv") => {
    await put(name, bytes);
    const { proof } = await files().run(load(name, { from: { connection: "fares", files: name, csv } }));
    expect(proof.verdict).toBe("proved");
    expect(await held("id, name")).toEqual(["1|Kjær €"]);
  });

  test("no head, decimal commas, and nothing beside an empty text", async () => {
    await put("a.csv", '1;12,50;"";x\n2;0,1;;y\n3;-7;"z";z\n');
    await files().run(load("a.csv", { into: { table: "landing.fare", mode: "upsert", key: ["column_1"] } }));
    expect(await held("column_1, column_2, column_3 IS NULL AS n, column_3")).toEqual([
      "1|12.50|f|",
      "2|0.1|t|",
      "3|-7|f|z",
    ]);
  });

  test("a point where commas are decimal signs is no number", async () => {
    await put("a.csv", "id;price\n1;12,50\n2;0,1\n");
    await files().run(load("a.csv"));
    await put("a.csv", "id;price\n1;12,50\n2;1.250\n");
    const { tally } = await files().run(
      load("a.csv", { from: { connection: "fares", files: "a.csv", csv: { decimal: "," } } }),
    );
    expect(tally).toMatchObject({ read: "2", same: "1", rejected: "1" });
  });

  test("decimal commas count for a type that is stated, though a word stands among the numbers of another file", async () => {
    await put("a.csv", "id;price\n1;12,50\n");
    await put("b.csv", "id;price\n2;7,25\n3;on request\n");
    const stated = load("*.csv", { columns: { id: "id", price: { as: "price", type: "numeric(8,2)" } } });
    expect((await files().run(stated)).tally).toMatchObject({ new: "2", rejected: "1" });
    expect(await held("id, price")).toEqual(["1|12.50", "2|7.25"]);
  });

  test("Parquet, its decimals and times as they are", async () => {
    await writeParquet(
      "SELECT 1 AS id, 12.50::DECIMAL(12,2) AS price, TIMESTAMPTZ '2026-11-01 06:00:00.123456+00' AS at, 0.1::DOUBLE AS share, 9007199254740993::BIGINT AS big UNION ALL SELECT 2, NULL, NULL, NULL, NULL",
    );
    expect((await files().run(load("a.parquet"))).proof.verdict).toBe("proved");
    expect(await held("id, price, at AT TIME ZONE 'UTC' AS at, share, big")).toEqual([
      "1|12.50|2026-11-01 06:00:00.123456|0.1|9007199254740993",
      "2||||",
    ]);
  });
});

describe("JSON", () => {
  const records = [
    '{"id":1,"big":9007199254740993,"share":0.1,"tiny":1e-7,"name":"Kjær \\u20ac","tags":["a",{"b":2.50}],"on":"2026-11-01"}',
    '{"id":2,"name":"","big":null}',
  ];
  test.each([
    ["a list", "a.json", `[${records.join(",\n")}]`],
    ["a record a line", "a.ndjson", records.join("\n")],
    ["a record a line, in gzip", "a.ndjson.gz", gzipSync(records.join("\n"))],
    ["a list with a mark", "a.json", `\uFEFF[${records.join(",")}]`],
  ])("%s keeps numbers exact, what is nested as it is, and nothing from an empty text", async (_, name, bytes) => {
    await put(name, bytes);
    const { tally, proof } = await files().run(load(name));
    expect(tally).toMatchObject({ read: "2", new: "2" });
    expect(proof).toMatchObject({ verdict: "proved", how: "received" });
    expect(await held('id, big, share, tiny, name, tags, "on"')).toEqual([
      '1|9007199254740993|0.1|0.0000001|Kjær €|["a", {"b": 2.50}]|2026-11-01',
      "2||||||",
    ]);
    expect((await files().prove(load(name))).proof.verdict).toBe("proved");
  });

  test("a record that is none is rejected with its number, and the others load", async () => {
    await put("a.ndjson", '{"id":1}\n{"id":\n[1]\n{"id":2,"id":3}\n\n{"id":4}\n');
    const { tally } = await files().run(load("a.ndjson"));
    expect(tally).toMatchObject({ read: "5", new: "2", rejected: "3" });
    const told = await pair.atWarehouse("SELECT message FROM undercoat.rejected ORDER BY id");
    expect(told.map(({ message }) => message)).toEqual([
      expect.stringContaining("a.ndjson, line 2"),
      expect.stringContaining("a.ndjson, line 3"),
      expect.stringContaining("names id twice"),
    ]);
  });

  test("a member that no column takes is not passed over", async () => {
    const many = Array.from({ length: 40_000 }, (_, at) => `{"id":${at}}`);
    await put("a.ndjson", `${many.join("\n")}\n{"id":99999,"late":1}\n`);
    expect((await files().run(load("a.ndjson"))).tally).toMatchObject({ read: "40001", new: "40000", rejected: "1" });
  });
});

describe("lines that are no rows", () => {
  test("are rejected with file, line and text, and the others load", async () => {
    await put(
      "a.csv",
      Buffer.concat([
        Buffer.from("id,name\n1,ok\n2,too,many\n3\n4,"),
        Buffer.from([0xff, 0xfe]),
        Buffer.from("\n5,fine\n"),
      ]),
    );
    const csv = { encoding: "utf-8" as const };
    const { tally, proof } = await files().run(load("a.csv", { from: { connection: "fares", files: "a.csv", csv } }));
    expect(tally).toEqual({ read: "5", new: "2", changed: "0", same: "0", rejected: "3", deleted: "0" });
    expect(proof).toMatchObject({ verdict: "proved", without: "3" });
    const rejected = await pair.atWarehouse(
      "SELECT reason, message, original ->> 'undercoat line' AS line FROM undercoat.rejected ORDER BY id",
    );
    expect(rejected.map(({ reason }) => reason)).toEqual([
      "has 3 fields where 2 are expected",
      "has 1 field where 2 are expected",
      "holds bytes that are no text",
    ]);
    expect(rejected[0]?.message).toContain("a.csv, line 3");
    expect(rejected[0]?.line).toBe("2,too,many");
  });

  test.each([
    ["an empty field too many at its end", "2,x,"],
    ["two empty fields too many", "2,x,,"],
    ["a quote that nothing closes", '2,"x'],
    ["text behind a quote", '2,"x"y'],
    ["a zero byte", "2,x\0"],
  ])("%s is one of them, whatever stands around it", async (_, line) => {
    await put("a.csv", `id,name\n1,a\n${line}\n3,c\n4,d\n`);
    const { tally, proof } = await files().run(load("a.csv"));
    expect(tally).toMatchObject({ read: "4", new: "3", rejected: "1" });
    expect(proof.verdict).toBe("proved");
    expect(await held("id, name")).toEqual(["1|a", "3|c", "4|d"]);
    expect((await files().prove(load("a.csv"))).proof.verdict).toBe("proved");
  });

  test("regular files, which are read the quick way, give what the exact one gives", async () => {
    const rows = Array.from({ length: 400 }, (_, at) => {
      const odd = ["", '""', '"a ""b"""', "é😀", " x ", "\\.", "NULL", "'"][at % 8];
      return `${at},${odd},${at % 3 === 0 ? "" : at / 4}`;
    });
    const text = `id,name,share\n${rows.join("\n")}\n`;
    await put("quick.csv", text);
    await files().run(load("quick.csv"));
    const quick = await held();
    await pair.atWarehouse("DROP SCHEMA landing CASCADE; DROP SCHEMA undercoat CASCADE");
    // A line that is no row, and the exact way is taken.
    await put("exact.csv", `${text}none\n`);
    expect((await files().run(load("exact.csv"))).tally).toMatchObject({ new: "400", rejected: "1" });
    expect(await held()).toEqual(quick);
  });

  test.each([
    ['1, "x"', ' "x"'],
    ['1,5" pipe', '5" pipe'],
    ["1, x ", " x "],
    ['1,"a\nb"', "a\nb"],
    ['1,"a\r\nb"', "a\r\nb"],
  ])("%j holds what stands there, whichever way it is read", async (line, name) => {
    await put("a.csv", `id,name\n${line}\n2,z\n`);
    await files().run(load("a.csv"));
    expect(await pair.atWarehouse("SELECT name FROM landing.fare WHERE id = 1")).toEqual([{ name }]);
  });

  test("spaces behind a quote that is closed are no part of a value, and lines may end in either way", async () => {
    await put("a.csv", 'id,name\r\n1,a\n2,"x" \r\n3,c\n');
    const { tally } = await files().run(load("a.csv"));
    expect(tally).toMatchObject({ read: "3", new: "2", rejected: "1" });
    expect(await held("id, name")).toEqual(["1|a", "3|c"]);
  });

  test("a value that breaks the guess of those before it is that row's rejection, and leaves the list once it is mended", async () => {
    const rows = (third: string) =>
      `id,price\n1,1\n2,2\n${Array.from({ length: 25_000 }, (_, at) => `${at + 3},${at}`).join("\n")}\n30000,${third}\n`;
    await put("a.csv", rows("cheap"));
    expect((await files().run(load("a.csv"))).tally).toMatchObject({ read: "25003", new: "25002", rejected: "1" });
    const [row] = await pair.atWarehouse("SELECT code, col FROM undercoat.rejected");
    expect(row).toEqual({ code: "type", col: "price" });
    await put("a.csv", rows("7"));
    const { tally, proof } = await files().run(load("a.csv"));
    expect(tally).toMatchObject({ new: "1", same: "25002", rejected: "0" });
    expect(proof).toMatchObject({ verdict: "proved" });
    expect(await pair.atWarehouse("SELECT 1 FROM undercoat.rejected WHERE left_run IS NULL")).toEqual([]);
  });
});

test("wherever the quick reader is taken it gives what the exact one gives, whatever a file holds", async () => {
  await put("any.csv", "");
  const folder = join(root, "fares");
  const store = await FolderStore.open("fares");
  const duck = await Duck.open(await realpath(folder));
  const field = fc.oneof(
    fc.string({ unit: fc.constantFrom("a", '"', " ", ",", "é", "\\"), maxLength: 5 }),
    fc.string({ unit: fc.constantFrom("a", "\r", "\n", "\t"), maxLength: 3 }).map((text) => `"${text}"`),
    fc.constantFrom("", '""', "7", '"x"', "NULL", ' "x"', '"x" ', '\t"x"', '"x"\t', '"" '),
  );
  // half of the files hold only what the quick reader takes most of, so that it is met often enough
  const plain = fc.constantFrom("", '""', "7", '"x"', "NULL", "é", '"a,b"', '"a""b"', '"\n"');
  const rowsOf = (part: typeof field) => fc.array(fc.tuple(part, part), { minLength: 1, maxLength: 6 });
  let place = 0;
  let quickly = 0;
  try {
    for (const value of [' "x"', '\t"x"', '"x" ', '"x"\t', '"x"']) {
      await writeFile(join(folder, "any.csv"), `id,name\n1,a\n2,${value}\n`);
      const [file] = await store.find("any.csv");
      const shaped = file && (await shapeOf(duck, file, { csv: { delimiter: ",", header: true } }, ++place));
      expect([value, await shaped?.quick?.regular()]).toEqual([value, value === '"x"']);
    }
    await fc.assert(
      fc.asyncProperty(fc.oneof(rowsOf(plain), rowsOf(field)), async (rows) => {
        await writeFile(join(folder, "any.csv"), `id,name\n${rows.map((row) => row.join(",")).join("\n")}\n`);
        const [file] = await store.find("any.csv");
        if (!file) throw new Error("There is no file");
        const { names, records, quick } = await shapeOf(duck, file, { csv: { delimiter: ",", header: true } }, ++place);
        if (!records || !quick || !(await quick.regular())) return;
        quickly++;
        const exact: unknown[] = [];
        for await (const piece of records()) for (const { fields, fault } of piece) exact.push(fault ?? fields);
        const read = await duck.rows(quick.rows);
        expect(read.map((row) => names.map((name) => row[name] ?? null))).toEqual(exact);
      }),
      { numRuns: 400 },
    );
  } finally {
    await duck.close();
  }
  expect(quickly).toBeGreaterThan(50);
});

describe("several files as one table", () => {
  const all: Load = {
    ...load("2026/**/*.csv"),
    from: { connection: "fares", files: "2026/**/*.csv", origin: "file" },
    into: { table: "landing.fare", mode: "upsert", key: ["file", "id"], deleted: "remove", deletions: { most: 100 } },
  };

  test("by the names of their columns, in whatever order they stand, with where each row came from", async () => {
    await put("2026/01/a.csv", "id,name\n1,Ada\n");
    await put("2026/02/b.csv", "name,id,note\nBo,1,late\n");
    await put("2026/02/c.csv.part", "id,name\n9,never\n");
    await put("2025/z.csv", "id,name\n9,never\n");
    const { tally, proof } = await files().run(all);
    expect(tally.read).toBe("2");
    expect(proof.verdict).toBe("proved");
    expect(await held("file, id, name, note")).toEqual(["2026/01/a.csv|1|Ada|", "2026/02/b.csv|1|Bo|late"]);
    await rm(join(root, "fares/2026/01/a.csv"));
    expect((await files().run(all)).tally.deleted).toBe("1");
    expect(await held("file")).toEqual(["2026/02/b.csv"]);
  });

  test("are rehearsed with the numbers of the run", async () => {
    await put("2026/a.csv", "id,name\n1,Ada\n2,Bo\n");
    await files().run(all);
    await put("2026/a.csv", "id,name\n1,Ada\n3,Cy\n");
    const rehearsed = await files().rehearse(all);
    expect(rehearsed.tally).toEqual((await files().run(all)).tally);
  });
});

describe("what was loaded is known by file", () => {
  const by = (more: object = {}): Load => ({
    from: { connection: "fares", files: "**/*.csv", origin: "file" },
    into: { table: "landing.fare", mode: "upsert", key: ["id"], deleted: "remove", ...more },
    proof: { figures: ["rows"] },
  });
  const run = async (wanted: Load = by()) => {
    const lines: string[] = [];
    const outcome = await files().run(wanted, { report: { ...quiet, line: (line) => lines.push(line) } });
    return { ...outcome, told: lines.find((line) => line.includes("changed or new")) };
  };
  beforeEach(async () => {
    await put("a.csv", "id,name\n1,Ada\n2,Bo\n");
    await put("b/b.csv", "id,name\n3,Cy\n4,Di\n");
    expect((await run()).told).toBeUndefined();
  });

  test("unchanged files are not read again, whenever they were written", async () => {
    await put("a.csv", "id,name\n1,Ada\n2,Bo\n");
    const { tally, told, proof } = await run();
    expect(told).toBe("0 files of 2 changed or new");
    expect(tally).toEqual({ read: "0", new: "0", changed: "0", same: "0", rejected: "0", deleted: "0" });
    expect(proof.verdict).toBe("proved");
  });

  test("a changed file's rows replace its earlier ones, a new one is added, and the others stay", async () => {
    await pair.atWarehouse("UPDATE landing.fare SET name = 'untouched' WHERE id = 3");
    await put("a.csv", "id,name\n1,Eva\n5,Fay\n");
    await put("c.csv", "id,name\n6,Gus\n");
    const rehearsed = await files().rehearse(by());
    const { tally, told, proof } = await run();
    expect(told).toBe("2 files of 3 changed or new");
    expect(tally).toEqual({ read: "3", new: "2", changed: "1", same: "0", rejected: "0", deleted: "1" });
    expect(rehearsed.tally).toEqual(tally);
    expect(proof).toMatchObject({ verdict: "proved", how: "received", cells: { rows: "3", of: "read" } });
    expect(await held("id, name")).toEqual(["1|Eva", "3|untouched", "4|Di", "5|Fay", "6|Gus"]);
    // What was not read again is found by reading it again.
    expect((await files().prove(by())).rows).toMatchObject({ different: 1, missing: 0, extra: 0 });
  });

  test("the rows of a file that is gone go, and those of one that was renamed stay", async () => {
    await rm(join(root, "fares/b/b.csv"));
    await rename(join(root, "fares/a.csv"), join(root, "fares/z.csv"));
    const { tally, told } = await run();
    expect(told).toBe("1 file of 1 changed or new, 2 files gone");
    expect(tally).toMatchObject({ read: "2", changed: "2", deleted: "2" });
    expect(await held("id, file")).toEqual(["1|z.csv", "2|z.csv"]);
  });

  test("a rejected line leaves the list with its file's next reading, and others' stay on it", async () => {
    await put("a.csv", "id,name\n1,Ada\n2\n");
    await put("b/b.csv", "id,name\n3,Cy\n4\n");
    expect((await run()).tally.rejected).toBe("2");
    await put("a.csv", "id,name\n1,Ada\n2,Bo\n");
    const { proof } = await run();
    expect(proof).toMatchObject({ verdict: "proved", without: "1" });
    expect(await pair.atWarehouse("SELECT file FROM undercoat.rejected WHERE left_run IS NULL")).toEqual([
      { file: "b/b.csv" },
    ]);
    expect((await files().prove(by())).proof.verdict).toBe("proved");
  });

  test("without a column for the file, rows gone from one are found by reading all", async () => {
    const plain = { ...by(), from: { connection: "fares", files: "**/*.csv" } };
    await pair.atWarehouse("DROP SCHEMA landing CASCADE; DROP SCHEMA undercoat CASCADE");
    await run(plain);
    await put("a.csv", "id,name\n1,Ada\n");
    expect((await run(plain)).tally).toMatchObject({ read: "3", deleted: "1" });
    expect((await run(plain)).tally.read).toBe("3");
    expect((await run({ ...plain, into: { ...plain.into, deleted: "keep" } })).told).toBe(
      "0 files of 2 changed or new",
    );
  });

  test("another pattern, shape or way of writing reads all again; so does a replace", async () => {
    const shaped = { ...by(), columns: { id: "id", file: "file", name: "upper(name)" } };
    expect((await run(shaped)).tally).toMatchObject({ read: "4", changed: "4" });
    expect((await run(shaped)).tally.read).toBe("0");
    expect((await run({ ...shaped, from: { ...shaped.from, csv: { delimiter: "," } } })).tally.read).toBe("4");
    expect((await run(by({ mode: "replace", key: undefined, deleted: undefined }))).tally.read).toBe("4");
  });

  test("killed at any moment no file is half loaded or loaded twice", async () => {
    await put("a.csv", `id,name\n${Array.from({ length: 3000 }, (_, at) => `${at + 100},new`).join("\n")}\n`);
    for (const phase of ["read", "check", "apply", "prove"]) {
      const stop = new AbortController();
      const report = { ...quiet, phase: (now: string) => now === phase && stop.abort() };
      await expect(files().run(by(), { signal: stop.signal, report })).rejects.toThrow("Cancelled");
      expect((await held("id")).length).toBe(4);
    }
    expect((await run()).tally).toMatchObject({ read: "3000", new: "3000", deleted: "2" });
  });

  test("a file that changes while it is read fails the load, and nothing is written", async () => {
    const many = Array.from({ length: 50_000 }, (_, at) => `${at},x`).join("\n");
    await put("a.csv", `id,name\n${many}\nnone\n`);
    const report = {
      ...quiet,
      phase: (phase: string) => phase === "read" && appendFileSync(join(root, "fares/a.csv"), "1,y\n"),
    };
    await expect(files().run(by(), { report })).rejects.toThrow("a.csv changed while it was read");
    expect((await held("id")).length).toBe(4);
  });
});

describe("a proof by reading again", () => {
  beforeEach(async () => {
    await put(
      "a.csv",
      `id,name,price\n${Array.from({ length: 300 }, (_, at) => `${at + 1},name ${at},${at}.50`).join("\n")}\n`,
    );
    await files().run(load("a.csv"));
  });

  test("holds where nothing differs, and says how it was made", async () => {
    const { proof, rows } = await files().prove(load("a.csv"));
    expect(proof).toMatchObject({ verdict: "proved", how: "read again", depth: "cells" });
    expect(rows).toMatchObject({ missing: 0, extra: 0, different: 0 });
  });

  test.each([
    ["one cell", "UPDATE landing.fare SET price = price + 0.01 WHERE id = 7", { different: 1 }],
    [
      "a null for an empty text",
      "UPDATE landing.fare SET name = '' WHERE id = 7; UPDATE landing.fare SET name = NULL WHERE id = 8",
      { different: 2 },
    ],
    [
      "a pair that cancels",
      "UPDATE landing.fare SET price = price + 1 WHERE id = 7; UPDATE landing.fare SET price = price - 1 WHERE id = 8",
      { different: 2 },
    ],
    [
      "a swap",
      "UPDATE landing.fare t SET name = o.name FROM landing.fare o WHERE (t.id, o.id) IN ((7, 8), (8, 7))",
      { different: 2 },
    ],
    ["a row that is gone", "DELETE FROM landing.fare WHERE id = 7", { missing: 1 }],
    ["a row too many", "INSERT INTO landing.fare VALUES (9999, 'x', 1)", { extra: 1 }],
  ])("finds %s", async (_, fault, found) => {
    await pair.atWarehouse(fault);
    const { proof, rows } = await files().prove(load("a.csv"));
    expect(proof).toMatchObject({ verdict: "disagrees", how: "read again" });
    expect(rows).toMatchObject({ missing: 0, extra: 0, different: 0, ...found });
    await files().run(load("a.csv"), { scope: { kind: "whole" } });
  });

  test("leaves nothing behind in the warehouse", async () => {
    await files().prove(load("a.csv"));
    expect(await pair.atWarehouse("SELECT relname FROM pg_class WHERE relname ~ '^(received|stage)_'")).toEqual([]);
  });
});

describe("shaping", () => {
  test("an expression takes a column by the type that it fits, and rules hold", async () => {
    await put("a.csv", "id;first;last;cents;day\n1;Ada;Aas;1250;2026-11-01\n2;Bo;Berg;-5;2026-11-02\n");
    const shaped = load("a.csv", {
      columns: {
        id: "id",
        name: "concat_ws(' ', first, last)",
        fare: { as: "cents / 100.0", type: "numeric(12,2)" },
        month: "date_trunc('month', day::timestamp)::date",
      },
      rules: { "fare is not negative": "fare >= 0" },
      proof: { by: { column: "month", slice: "month" }, figures: ["rows", "sum(fare)"] },
    });
    const { tally, proof } = await files().run(shaped);
    expect(tally).toMatchObject({ new: "1", rejected: "1" });
    expect(proof).toMatchObject({ verdict: "proved", without: "1" });
    expect(await held("id, name, fare, month")).toEqual(["1|Ada Aas|12.50|2026-11-01"]);
  });

  test("a part is loaded again by its key", async () => {
    await put("a.csv", "id,name\n1,Ada\n2,Bo\n");
    await files().run(load("a.csv"));
    await pair.atWarehouse("UPDATE landing.fare SET name = 'x'");
    const { tally } = await files().run(load("a.csv"), { scope: { kind: "keys", keys: [["2"]] } });
    expect(tally).toMatchObject({ read: "1", changed: "1" });
    expect(await held("id, name")).toEqual(["1|x", "2|Bo"]);
  });
});

describe("nothing outside the folder can be read", () => {
  test.each(["../secret.csv", "/etc/passwd", "link.csv", "linked/secret.csv", "**/*.csv"])("by %s", async (name) => {
    await put("a/none.txt", "x");
    await rm(join(root, "fares/a"), { recursive: true });
    await writeFile(join(root, "secret.csv"), "id,name\n1,secret\n");
    await symlink(join(root, "secret.csv"), join(root, "fares/link.csv"));
    await symlink(root, join(root, "fares/linked"));
    await expect(files().run(load(name))).rejects.toThrow(/has no file/);
  });

  test.each(["..", "../..", "out"])("by a connection to %s", async (path) => {
    await put("a.csv", "id\n1\n");
    await rm(join(root, "out"), { force: true });
    await symlink("/etc", join(root, "out"));
    await expect(pair.between({ ...fares, settings: { kind: "files", path } }).run(load("*"))).rejects.toThrow(
      /There is no folder/,
    );
  });
});

test("what is not there, or in no format that is read, is told", async () => {
  await expect(files().run(load("a.csv"))).rejects.toThrow(/There is no folder fares/);
  await put("notes.docx", "x");
  await expect(files().run(load("a.csv"))).rejects.toThrow("fares has no file a.csv");
  await expect(files().run(load("notes.docx"))).rejects.toThrow("notes.docx is in no format that is read");
  await expect(files().run({ ...load("a.csv"), from: { connection: "fares", table: "public.a" } })).rejects.toThrow(
    /folder of files/,
  );
  await put("empty.csv", "");
  await expect(files().run(load("empty.csv"))).rejects.toThrow(/has no columns|is empty/);
});

test.each([
  [
    "a packed file that ends too soon",
    "a.csv.gz",
    () => gzipSync(`id,name\n${"1,a\n".repeat(200_000)}`).subarray(0, 200),
    "can't be unpacked",
  ],
  ["what is no packed file", "a.ndjson.gz", () => Buffer.from("id,name\n"), "can't be unpacked"],
  ["a line without end", "a.csv", () => Buffer.from(`id,name\n1,${"x".repeat(20_000_000)}`), "longer than 8 MB"],
])("%s is told by name", async (_, name, bytes, told) => {
  await put(name, bytes());
  await expect(files().run(load(name))).rejects.toThrow(told);
});

test("a name that reads like a pattern is a name", async () => {
  await put("[a]*.csv", "id,name\n1,Ada\n");
  await put("[a]b.csv", "id,name\n2,Bo\n");
  expect((await files().run(load("[a]*.csv"))).tally.read).toBe("1");
  expect(await held("id")).toEqual(["1"]);
});

test("many loads of files at a time in one process don't wait for each other without end", async () => {
  const rows = Array.from({ length: 20_000 }, (_, at) => `${at},a name of some length`).join("\n");
  await put("a.csv", `id,name\n${rows}\n`);
  const loads = Array.from({ length: 8 }, (_, at) =>
    files().run(load("a.csv", { into: { table: `landing.fare_${at}`, mode: "upsert", key: ["id"] } }), {
      load: `load${at}`,
    }),
  );
  for (const { tally, proof } of await Promise.all(loads))
    expect([tally.new, proof.verdict]).toEqual(["20000", "proved"]);
}, 30_000);

test("what a killed process had put aside is taken away, and what a living one has is not", async () => {
  const [left, living] = ["4194304", String(process.pid)].map((pid) => join(tmpdir(), `undercoat-files-${pid}-test`));
  for (const folder of [left, living]) await mkdir(folder ?? "", { recursive: true });
  await put("a.csv", "id\n1\n");
  await files().run(load("a.csv"));
  expect([existsSync(left ?? ""), existsSync(living ?? "")]).toEqual([false, true]);
  await rm(living ?? "", { recursive: true });
});

test("a run that is cancelled while it reads leaves nothing", async () => {
  await put("a.csv", `id,name\n${Array.from({ length: 200_000 }, (_, at) => `${at},name`).join("\n")}\n`);
  const stop = new AbortController();
  const report = { ...quiet, phase: (phase: string) => phase === "read" && stop.abort() };
  await expect(files().run(load("a.csv"), { signal: stop.signal, report })).rejects.toThrow("Cancelled");
  expect(await pair.atWarehouse("SELECT to_regclass('landing.fare') AS there")).toEqual([{ there: null }]);
});
