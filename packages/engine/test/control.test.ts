import { createHash } from "node:crypto";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import { describe, expect, test } from "vitest";
import { useFares } from "./folder.ts";

/** What lies beside files and says what they hold, and what is told of each that was read. */
const desk = useFares("control");
const { fares } = desk;

/** Writes a file; its SHA-256. */
async function put(name: string, text: string): Promise<string> {
  await desk.put(name, text);
  return createHash("sha256").update(text).digest("hex");
}

const load: Load = {
  from: { connection: "fares", files: "**/*.csv" },
  into: { table: "landing.fare", mode: "upsert", key: ["id"] },
};
const run = () => desk.pair.between(fares).run(load);
const files = async () => (await run()).findings.files ?? [];
const a = "id;price\n1;10,50\n2;-0,25\n3;\n";

describe("each file that was read", () => {
  test("is told with its bytes, digest, rows and the lines among them that are none", async () => {
    const [digest] = [await put("a.csv", "id,name\n1,x\n2\n3,z\n"), await put("deep/b.csv", "id,name\n4,y\n")];
    expect(await files()).toEqual([
      { name: "a.csv", bytes: "18", sha256: digest, rows: "3", faults: "1", control: [] },
      { name: "deep/b.csv", bytes: "12", sha256: expect.any(String), rows: "1", faults: "0", control: [] },
    ]);
    await put("deep/b.csv", "id,name\n4,Y\n");
    expect((await files()).map(({ name }) => name)).toEqual(["deep/b.csv"]);
    expect(await files()).toEqual([]);
  });
});

describe("a digest beside a file", () => {
  test.each([
    ["a.csv.sha256", (digest: string) => `${digest}  a.csv\n`],
    ["a.csv.sha256", (digest: string) => digest.toUpperCase()],
    ["all.sha256", (digest: string) => `${digest} *a.csv\n${"0".repeat(64)}  elsewhere.csv\n`],
  ])("%s agrees", async (name, text) => {
    await put(name, text(await put("a.csv", a)));
    expect((await files())[0]?.control).toEqual([`${name}: SHA-256`]);
  });

  test("of another file refuses it before anything is written", async () => {
    await put("a.csv", a);
    await put("a.csv.sha256", `${"0".repeat(64)}  a.csv`);
    await expect(run()).rejects.toThrow("a.csv is not what a.csv.sha256 says: its SHA-256 is another");
    expect((await desk.pair.atWarehouse("SELECT to_regclass('landing.fare') AS t"))[0]?.t).toBeNull();
  });

  test("that is none is told", async () => {
    await put("a.csv", a);
    await put("a.csv.sha256", "nothing");
    await expect(run()).rejects.toThrow("a.csv.sha256 is not as sha256sum writes it");
  });
});

describe("counts and sums beside files", () => {
  test("agree, exactly, in either sign for decimals, and are no rows themselves", async () => {
    await put("deep/a.csv", a);
    await put("deep/control.csv", "file;rows;sum(price)\na.csv;3;10,25\n");
    const found = await files();
    expect(found.map(({ name }) => name)).toEqual(["deep/a.csv"]);
    expect(found[0]?.control).toEqual(["control.csv: 3 rows, sum of price"]);
  });

  test.each([
    ["a row fewer", "file,rows\na.csv,4\n", "it has 3 where 4 are said"],
    ["a cent less", "file,rows,sum(price)\na.csv,3,10.26\n", "its price adds up to 10.25 where 10.26 are said"],
    ["what is only nearly the sum", "file,sum(price)\na.csv,10.2500000000000000001\n", "its price adds up to"],
    ["a column that is not there", "file,sum(fare)\na.csv,1\n", "is no column of numbers there"],
    ["no names of files", "rows\n3\n", "has no column file"],
  ])("%s is found", async (_, control, said) => {
    await put("a.csv", a);
    await put("day.control.csv", control);
    await expect(run()).rejects.toThrow(said);
  });

  test("a pair of values that cancel is no other sum, which is why a digest says more", async () => {
    await put("a.csv", a.replace("10,50", "10,75").replace("-0,25", "-0,50"));
    await put("control.csv", "file,rows,sum(price)\na.csv,3,10.25\n");
    expect((await files())[0]?.control).toEqual(["control.csv: 3 rows, sum of price"]);
    await put("a.csv.sha256", `${createHash("sha256").update(a).digest("hex")}  a.csv`);
    await put("a.csv", a.replace("10,50", "10,76").replace("-0,25", "-0,51"));
    await expect(run()).rejects.toThrow("its SHA-256 is another");
  });
});

describe("how files are written", () => {
  const into = { table: "landing.written", mode: "replace" as const };
  const held = async () =>
    (await desk.pair.atWarehouse("SELECT t::text AS row FROM landing.written t ORDER BY 1")).map(({ row }) => row);

  test("dates by day and month are told as dates, where all are such; one that is none is its row's rejection", async () => {
    await put(
      "a.csv",
      `id;day;at;code\n${Array.from({ length: 3000 }, (_, at) => `${at};${1 + (at % 28)}.02.2026;01/02/2026 7:30;01/02/2026`).join("\n")}\n3001;30.02.2026;01/02/2026 7:30;x\n`,
    );
    const stated = {
      ...load,
      from: { ...load.from, csv: { dates: "dmy" as const } },
      into,
      columns: { id: "id", day: { as: "day", type: "date" }, at: { as: "at", type: "timestamp" }, code: "code" },
    };
    const { tally, findings } = await desk.pair.between(fares).run(stated);
    expect(tally).toMatchObject({ read: "3001", rejected: "1" });
    expect(findings.reasons[0]?.examples).toEqual(["30.02.2026"]);
    expect((await held())[0]).toBe('(0,2026-02-01,"2026-02-01 07:30:00",2026-02-01)');
    // Which number is the day can't be told of the others by themselves; of points it can.
    const guessed = await desk.pair
      .between(fares)
      .run({ ...load, into, columns: { id: "id", day: { as: "day", type: "date" }, code: "code" } });
    expect(guessed.tally.rejected).toBe("1");
    expect((await held())[0]).toBe("(0,2026-02-01,,01/02/2026)");
  });

  test("objects within records taken apart; null where there is none", async () => {
    await put(
      "a.ndjson",
      '{"id":1,"port":{"code":"KIL","berth":{"no":7}}}\n{"id":2,"port":null}\n{"id":3,"port":{"code":"ORM","new":1}}\n',
    );
    const flat: Load = { from: { connection: "fares", files: "a.ndjson", flatten: true }, into };
    expect((await desk.pair.between(fares).run(flat)).proof.verdict).toBe("proved");
    expect(await held()).toEqual(["(1,KIL,7,)", "(2,,,)", "(3,ORM,,1)"]);
  });
});
