import { valueSql } from "@undercoat/core/parameter/value";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import { timeOf } from "@undercoat/core/sql/mariadb/slice";
import { sourceFor } from "@undercoat/engine/source/registry";
import fc from "fast-check";
import { afterAll, beforeAll, describe, expect, test } from "vitest";
import { sourceContract } from "./contract.ts";
import { type Maria, makeMaria } from "./maria.ts";
import { makePair, type Pair, quiet } from "./pair.ts";

let pair: Pair;
let maria: Maria;
beforeAll(async () => {
  [pair, maria] = await Promise.all([makePair("mariadb"), makeMaria()]);
}, 120_000);
afterAll(async () => {
  await Promise.all([pair?.close(), maria?.close()]);
});

const text = (value: string | null) =>
  value === null ? "NULL" : `'${value.replaceAll("\\", "\\\\").replaceAll("'", "''")}'`;

sourceContract("MariaDB", {
  pair: () => pair,
  credentials: () => maria.credentials,
  from: { table: "workshop.sample" },
  item: { schema: "workshop", table: "sample" },
  absent: { table: "workshop.absent" },
  firstStep: "address",
  async furnish(rows) {
    await maria.at(
      "CREATE OR REPLACE TABLE sample (id int PRIMARY KEY, name varchar(60), fare decimal(18,2), at timestamp(6) NOT NULL)",
    );
    const values = rows.map(
      ([id, name, fare, at]) => `(${id}, ${text(name)}, ${fare ?? "NULL"}, '${at.replace("+00", "")}')`,
    );
    if (values.length) await maria.at(`INSERT INTO sample VALUES ${values.join(", ")}`);
  },
});

const upsert = (table: string, more: Partial<Load> = {}): Load => ({
  from: { connection: "source", table: `workshop.${table}` },
  into: { table: `landing.${table}`, mode: "upsert", key: ["id"] },
  ...more,
});
const between = () => pair.between(maria.credentials);
const clean = () => pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
/** Loads a table anew, and proves it by both sides' figures and cells. */
async function proved(load: Load): Promise<Awaited<ReturnType<Pair["run"]>>> {
  await clean();
  const outcome = await between().run(load);
  expect(outcome.proof).toMatchObject({ verdict: "proved", how: "source" });
  expect((await between().prove(load)).proof).toMatchObject({ verdict: "proved", depth: "cells", how: "source" });
  return outcome;
}

describe("every type at its edges", () => {
  test.each<[type: string, values: string[], lands: string, held: (string | null)[]]>([
    ["tinyint", ["NULL", "-128", "127"], "smallint", [null, "-128", "127"]],
    ["tinyint unsigned", ["0", "255"], "smallint", ["0", "255"]],
    ["smallint unsigned", ["65535"], "integer", ["65535"]],
    ["mediumint", ["-8388608"], "integer", ["-8388608"]],
    ["int unsigned zerofill", ["4294967295", "7"], "bigint", ["4294967295", "7"]],
    [
      "bigint",
      ["-9223372036854775808", "9223372036854775807"],
      "bigint",
      ["-9223372036854775808", "9223372036854775807"],
    ],
    ["bigint unsigned", ["18446744073709551615", "0"], "numeric(20,0)", ["18446744073709551615", "0"]],
    ["year", ["1901", "2155", "0"], "smallint", ["1901", "2155", "0"]],
    ["decimal(65,0)", [`${"9".repeat(65)}`], "numeric(65,0)", ["9".repeat(65)]],
    [
      "decimal(65,30)",
      [`-${"9".repeat(35)}.${"9".repeat(30)}`, "0.1"],
      "numeric(65,30)",
      [`-${"9".repeat(35)}.${"9".repeat(30)}`, `0.1${"0".repeat(29)}`],
    ],
    ["float", ["0.1", "-1e-38", "3.4028234e38"], "real", ["0.1", "-1e-38", "3.4028235e+38"]],
    [
      "double",
      ["0.1", "1e23", "5e-324", "-1.7976931348623157e308", "9007199254740993", "0"],
      "double precision",
      ["0.1", "9.999999999999999e+22", "5e-324", "-1.7976931348623157e+308", "9.007199254740992e+15", "0"],
    ],
    ["bit(1)", ["b'1'"], "bit(1)", ["1"]],
    ["bit(64)", ["b'1'", "~0"], "bit(64)", [`${"0".repeat(63)}1`, "1".repeat(64)]],
    ["char(5)", ["'ab'", "''"], "character varying(5)", ["ab", ""]],
    [
      "varchar(20)",
      ["'tail  '", "'a|b'", "'😀 \"q\", x'", "NULL", "'NULL'"],
      "character varying(20)",
      ["tail  ", "a|b", '😀 "q", x', null, "NULL"],
    ],
    ["varchar(20) character set latin1", ["'Kjær ÿ'"], "character varying(20)", ["Kjær ÿ"]],
    ["longtext", ["'two\\nlines'"], "text", ["two\nlines"]],
    ["enum('a','b,c','')", ["'b,c'", "''"], "text", ["b,c", ""]],
    ["set('x','y')", ["'x,y'", "''"], "text", ["x,y", ""]],
    ["json", ['\'{"b": 9007199254740993, "a": 1.10}\''], "json", ['{"b": 9007199254740993, "a": 1.10}']],
    ["binary(3)", ["X'00FF'"], "bytea", ["\\x00ff00"]],
    ["blob", ["X'5C22002C'", "''"], "bytea", ["\\x5c22002c", "\\x"]],
    ["date", ["'0001-01-01'", "'9999-12-31'", "'2024-02-29'"], "date", ["0001-01-01", "9999-12-31", "2024-02-29"]],
    ["datetime", ["'2026-03-29 02:30:00'"], "timestamp(0) without time zone", ["2026-03-29 02:30:00"]],
    [
      "datetime(6)",
      ["'2026-03-29 02:30:00.100000'", "'1000-01-01 00:00:00.000001'"],
      "timestamp without time zone",
      ["2026-03-29 02:30:00.1", "1000-01-01 00:00:00.000001"],
    ],
    [
      "timestamp(3) NULL",
      ["'1970-01-01 00:00:01'", "'2038-01-19 03:14:07.999'"],
      "timestamp(3) with time zone",
      ["1970-01-01 00:00:01+00", "2038-01-19 03:14:07.999+00"],
    ],
    [
      "time(6)",
      ["'838:59:59'", "'-838:59:59'", "'-00:00:01.500000'", "'12:00:00'"],
      "interval",
      ["838:59:59", "-838:59:59", "-00:00:01.5", "12:00:00"],
    ],
    ["uuid", ["'6F9619FF-8B86-D011-B42D-00C04FC964FF'"], "uuid", ["6f9619ff-8b86-d011-b42d-00c04fc964ff"]],
    ["inet6", ["'2001:db8::1'"], "text", ["2001:db8::1"]],
  ])("%s", async (type, values, lands, held) => {
    await maria.at(`SET sql_mode = ''`);
    await maria.at(`CREATE OR REPLACE TABLE edge (id int PRIMARY KEY, v ${type})`);
    await maria.at(`INSERT INTO edge VALUES ${values.map((value, at) => `(${at}, ${value})`).join(", ")}`);
    await proved(upsert("edge"));
    expect(
      (
        await pair.atWarehouse(
          "SELECT format_type(atttypid, atttypmod) AS t FROM pg_attribute WHERE attrelid = 'landing.edge'::regclass AND attname = 'v'",
        )
      )[0]?.t,
    ).toBe(lands);
    expect((await pair.atWarehouse("SELECT v::text AS v FROM landing.edge ORDER BY id")).map(({ v }) => v)).toEqual(
      held,
    );
    // The last row is turned into something else, by as little as can be.
    const other: Record<string, string> = {
      real: "'1e-3'",
      interval: "v + interval '1 microsecond'",
      uuid: "'00000000-0000-0000-0000-000000000000'",
      json: "'{}'",
    };
    const base = lands.replace(/\(.*?\)/, "");
    const change =
      other[base] ??
      (base === "double precision"
        ? "'5e-324'"
        : base.startsWith("timestamp")
          ? "v - interval '1 second'"
          : base === "bytea"
            ? "v || '\\x00'"
            : base === "bit"
              ? "~v"
              : /text|char/.test(base)
                ? "coalesce(left(v, -1), '') || '~'"
                : "v - 1");
    await pair.atWarehouse(`UPDATE landing.edge SET v = ${change} WHERE id = ${values.length - 1}`);
    expect((await between().prove(upsert("edge"))).rows).toMatchObject({ different: 1, missing: 0, extra: 0 });
  });

  test("a decimal with more digits behind its point than a load takes is rejected, and proved without", async () => {
    await maria.at(
      "CREATE OR REPLACE TABLE edge (id int PRIMARY KEY, v decimal(10,4));\nINSERT INTO edge VALUES (1, 1.5000), (2, 1.2345)",
    );
    const load = upsert("edge", { columns: { id: "id", v: { as: "v", type: "numeric(10,2)" } } });
    expect((await proved(load)).tally).toMatchObject({ read: "2", new: "1", rejected: "1" });
  });
});

describe("floats", () => {
  test("both sides know every double by its bits", async () => {
    const doubles = fc.double({ noNaN: true, noDefaultInfinity: true });
    const near = fc.integer({ min: -1074, max: 1023 }).chain((power) =>
      fc.constantFrom(-1, 0, 1).map((step) => {
        const view = new DataView(new ArrayBuffer(8));
        view.setFloat64(0, 2 ** power);
        view.setBigInt64(0, view.getBigInt64(0) + BigInt(step));
        return view.getFloat64(0);
      }),
    );
    const values = fc.sample(fc.oneof(doubles, near), 4000).map((value) => (value === 0 ? 0 : value));
    await maria.at("CREATE OR REPLACE TABLE edge (id int PRIMARY KEY, v double)");
    await maria.at(
      `INSERT INTO edge VALUES ${values.map((value, at) => `(${at}, ${value.toExponential()})`).join(", ")}`,
    );
    await proved(upsert("edge"));
    const held = await pair.atWarehouse("SELECT v::text AS v FROM landing.edge ORDER BY id");
    expect(held.map(({ v }) => Number(v))).toEqual(values);
    // The next double to each, in one row of every hundred.
    const next = (value: number) => {
      const view = new DataView(new ArrayBuffer(8));
      view.setFloat64(0, value);
      view.setBigInt64(0, view.getBigInt64(0) + 1n);
      return view.getFloat64(0);
    };
    const moved = values
      .map((value, at) => ({ at, value: next(value) }))
      .filter(({ at, value }) => at % 100 === 0 && Number.isFinite(value));
    for (const { at, value } of moved)
      await pair.atWarehouse(`UPDATE landing.edge SET v = '${value}' WHERE id = ${at}`);
    expect((await between().prove(upsert("edge"))).rows).toMatchObject({ different: moved.length });
  });

  test("a sum of floats is reckoned over what was received", async () => {
    await maria.at(
      "CREATE OR REPLACE TABLE edge (id int PRIMARY KEY, v double);\nINSERT INTO edge VALUES (1, 0.1), (2, 0.2)",
    );
    await clean();
    const load = upsert("edge", { proof: { figures: ["rows", "sum(v)"] } });
    expect((await between().run(load)).proof).toMatchObject({
      verdict: "proved",
      how: "received",
      figures: [{}, { source: "0.3" }],
    });
    expect((await between().prove(load)).proof).toMatchObject({ verdict: "proved", how: "read again" });
  });
});

describe("days that no calendar has", () => {
  const furnish = () =>
    maria.at(`SET sql_mode = 'ALLOW_INVALID_DATES';
CREATE OR REPLACE TABLE repair (id int PRIMARY KEY, day date, at datetime(3), seen timestamp NULL, note varchar(20));
INSERT INTO repair VALUES (1, '2026-11-01', '2026-11-01 06:00:00', '2026-11-01 06:00:00', 'fine'), (2, '0000-00-00', NULL, NULL, 'zero'), (3, '2026-02-31', NULL, NULL, 'none'), (4, NULL, '2026-00-10 01:00:00', NULL, 'part'), (5, NULL, NULL, '0000-00-00 00:00:00', 'stamp');
SET sql_mode = ''`);

  test("are rejected with what they are, and left out on both sides", async () => {
    await furnish();
    const { tally, findings } = await proved(upsert("repair"));
    expect(tally).toMatchObject({ read: "5", new: "1", rejected: "4" });
    expect(findings.reasons.map(({ reason }) => reason).sort()).toEqual([
      "at holds 2026-00-10 01:00:00.000, which is no day",
      "day holds 0000-00-00, which is no day",
      "day holds 2026-02-31, which is no day",
      "seen holds 0000-00-00 00:00:00, which is no day",
    ]);
    await maria.at("UPDATE repair SET day = '2026-02-28' WHERE id = 3");
    expect((await between().run(upsert("repair"))).tally).toMatchObject({ new: "1", same: "1", rejected: "3" });
    expect(
      (await pair.atWarehouse("SELECT count(*)::text AS n FROM undercoat.rejected WHERE left_run IS NULL"))[0]?.n,
    ).toBe("3");
  });

  test("are null where the connection says so", async () => {
    await furnish();
    await clean();
    const source = pair.between(maria.with({ zeroDates: "null" }));
    const { tally, proof } = await source.run(upsert("repair"));
    expect(tally).toMatchObject({ read: "5", new: "5", rejected: "0" });
    expect(proof).toMatchObject({ verdict: "proved", how: "source" });
    expect((await source.prove(upsert("repair"))).proof).toMatchObject({ verdict: "proved" });
  });
});

describe("what is read", () => {
  const repairs = (rows: number) =>
    maria.at(`CREATE OR REPLACE TABLE repair (id int PRIMARY KEY, code varchar(10) NOT NULL COLLATE utf8mb4_general_ci, cost decimal(10,2), at timestamp(3) NOT NULL, updated timestamp(3) NOT NULL, KEY (updated));
INSERT INTO repair SELECT seq, CONCAT('R', seq), seq / 4, '2026-03-28 00:00:00' + INTERVAL seq * 17 MINUTE, '2026-04-01 00:00:00' + INTERVAL seq SECOND FROM seq_1_to_${rows}`);
  const watched = upsert("repair", {
    watermark: { column: "updated", lookBack: "PT10S" },
    into: { table: "landing.repair", mode: "upsert", key: ["id"], deleted: "remove" },
    proof: {
      by: { column: "at", slice: "day", zone: "Europe/Oslo" },
      figures: ["rows", "sum(cost)", "min(at)", "max(updated)", "max(code)"],
    },
  });

  test("past the watermark less its look-back; slices by a zone's days across its clock change", async () => {
    await repairs(600);
    await proved(watched);
    const days = (await between().prove(watched)).proof.slices;
    expect(days.map(({ slice }) => slice).slice(0, 3)).toEqual(["2026-03-28", "2026-03-29", "2026-03-30"]);
    await maria.at("UPDATE repair SET cost = 1, updated = '2026-04-01 00:30:00' WHERE id IN (3, 590)");
    const { tally, proof, watermark } = await between().run(watched);
    expect(tally).toMatchObject({ read: "12", changed: "2", same: "10" });
    expect(proof).toMatchObject({ verdict: "proved", how: "source" });
    expect(watermark).toBe("2026-04-01 00:30:00+00");
    const day = { kind: "interval", from: "2026-03-29", to: "2026-03-30" } as const;
    expect((await between().run(watched, { scope: day })).tally).toMatchObject({ read: "81", same: "81" });
    expect((await between().run(watched, { scope: { kind: "slice", slice: "2026-03-29" } })).tally).toMatchObject({
      same: "81",
    });
  });

  test("what is gone is found by keys, by their bytes where the server ignores case", async () => {
    await maria.at(`CREATE OR REPLACE TABLE port (code varchar(10) COLLATE utf8mb4_general_ci PRIMARY KEY, name varchar(20));
INSERT INTO port VALUES ('KIL', 'Kilden'), ('ost', 'Ostvik'), ('NES', 'Nes')`);
    const load: Load = {
      from: { connection: "source", table: "workshop.port" },
      into: { table: "landing.port", mode: "upsert", key: ["code"], deleted: "remove" },
    };
    await proved(load);
    await maria.at("UPDATE port SET code = 'OST' WHERE code = 'ost';\nDELETE FROM port WHERE code = 'NES'");
    expect((await between().run(load)).tally).toMatchObject({ read: "2", new: "1", same: "1", deleted: "2" });
    expect((await pair.atWarehouse("SELECT code FROM landing.port ORDER BY code")).map(({ code }) => code)).toEqual([
      "KIL",
      "OST",
    ]);
    expect((await between().prove(load)).proof.verdict).toBe("proved");
  });

  test("a row written late, with an earlier watermark, is found by the proof and told as late", async () => {
    await repairs(50);
    await proved(watched);
    await maria.at("INSERT INTO repair VALUES (99, 'R99', 1, '2026-03-28 05:00:00', '2026-03-31 23:00:00')");
    expect((await between().run(watched)).tally).toMatchObject({ new: "0" });
    const { proof, rows } = await between().prove(watched);
    expect(proof.verdict).toBe("disagrees");
    expect(rows).toMatchObject({ missing: 1, causes: [{ kind: "late", rows: 1 }] });
  });

  test("expressions and rules: what was received answers, of the rows past the watermark alone", async () => {
    await repairs(100);
    await clean();
    const load: Load = {
      ...watched,
      columns: { id: "id", label: "'repair ' || code", cost: "cost", at: "at", updated: "updated" },
      rules: { cheap: "cost < 24" },
      proof: { figures: ["rows", "sum(cost)"] },
      into: { table: "landing.repair", mode: "upsert", key: ["id"] },
    };
    expect(await between().run(load)).toMatchObject({
      tally: { read: "100", new: "95", rejected: "5" },
      proof: { verdict: "proved", how: "received" },
    });
    await maria.at("UPDATE repair SET cost = 2, updated = '2026-04-01 00:30:00' WHERE id = 3");
    const { tally, proof } = await between().run(load);
    expect(tally).toMatchObject({ read: "12", changed: "1" });
    expect(proof).toMatchObject({ verdict: "proved", how: "received" });
    expect((await between().prove(load)).proof).toMatchObject({ verdict: "proved", how: "read again", without: "5" });
    await pair.atWarehouse("UPDATE landing.repair SET label = label || ' ' WHERE id = 50");
    expect((await between().prove(load)).rows).toMatchObject({ different: 1 });
    // With deletions to look for all of it is read, since nobody answers for what was not received.
    const removing = { ...load, into: { ...load.into, deleted: "remove" as const } };
    await maria.at("DELETE FROM repair WHERE id = 7");
    expect((await between().run(removing)).tally).toMatchObject({ deleted: "1" });
  });

  test("a rule alone is answered for by the server, less the rows it turns away", async () => {
    await repairs(100);
    const load = { ...watched, rules: { cheap: "cost < 24" } };
    expect((await proved(load)).tally).toMatchObject({ read: "100", rejected: "5" });
    await maria.at("UPDATE repair SET cost = 23, updated = '2026-04-01 00:40:00' WHERE id = 98");
    expect((await between().run(load)).tally).toMatchObject({ read: "11", new: "1", rejected: "4" });
    expect((await between().prove(load)).proof).toMatchObject({ verdict: "proved", without: "4", how: "source" });
  });

  test("its own SQL: a query and a condition", async () => {
    await repairs(100);
    await clean();
    const query = {
      ...upsert("repair", { into: { table: "landing.month", mode: "replace" } }),
      from: {
        connection: "source",
        query:
          "SELECT DATE_FORMAT(at, '%Y-%m') AS `month`, COUNT(*) AS n, SUM(cost) AS cost FROM workshop.repair WHERE code LIKE 'R%' GROUP BY 1 -- by month",
      },
    };
    const { proof } = await between().run(query);
    expect(proof).toMatchObject({ verdict: "proved", how: "received" });
    expect(await pair.atWarehouse("SELECT n::text, cost::text FROM landing.month")).toEqual([
      { n: "100", cost: "1262.50" },
    ]);
    const part = upsert("repair", {
      from: { connection: "source", table: "workshop.repair", where: "code <> 'r5' AND id <= 10" },
    });
    // Its own order ignores case, so R5 is left out.
    expect((await proved(part)).tally).toMatchObject({ read: "9" });
  });

  test("values of parameters stand in it as that server writes them", async () => {
    await repairs(20);
    await clean();
    const where = [
      valueSql({ type: "text", texts: "R'1\\\" -- ;" }),
      valueSql({ type: "integer", texts: "15" }),
      valueSql({ type: "date", texts: "2026-03-28" }),
      valueSql({ type: "timestamptz", texts: "2026-03-28 01:00:00+00" }),
      valueSql({ type: "text[]", texts: ["R2", 'R"3', "R4"] }),
      valueSql({ type: "boolean", texts: "true" }),
    ];
    const [text, most, day, moment, list, yes] = where;
    const load = upsert("repair", {
      from: {
        connection: "source",
        table: "workshop.repair",
        where: `code <> ${text} AND id < ${most} AND DATE(at) = ${day} AND at >= ${moment} AND code NOT IN ${list} AND ${yes}`,
      },
    });
    // From the fourth on they are past one o'clock; R4 is listed.
    expect((await proved(load)).tally.read).toBe("10");
    await expect(between().run({ ...load, from: { ...load.from, where: "at > ('PT1H'::interval)" } })).rejects.toThrow(
      "no literal of interval",
    );
  });

  test("several tables as one, and a history", async () => {
    await maria.at(
      `CREATE OR REPLACE TABLE yard_a (id int PRIMARY KEY, vessel varchar(10));
CREATE OR REPLACE TABLE yard_b (id int PRIMARY KEY, vessel varchar(10));
INSERT INTO yard_a VALUES (1, 'KSF-01'); INSERT INTO yard_b VALUES (2, 'KSF-02')`.replaceAll("; INSERT", ";\nINSERT"),
    );
    const load: Load = {
      from: { connection: "source", tables: { A: "workshop.yard_a", B: "workshop.yard_b" }, origin: "yard" },
      into: { table: "landing.yard", mode: "upsert", key: ["id"] },
    };
    await proved(load);
    expect(await pair.atWarehouse("SELECT yard, id::text, vessel FROM landing.yard ORDER BY id")).toEqual([
      { yard: "A", id: "1", vessel: "KSF-01" },
      { yard: "B", id: "2", vessel: "KSF-02" },
    ]);
    const history: Load = { ...upsert("yard_a"), into: { table: "landing.yard_a", mode: "history", key: ["id"] } };
    await between().run(history);
    await maria.at("UPDATE yard_a SET vessel = 'KSF-09'");
    expect((await between().run(history)).tally).toMatchObject({ changed: "1", versions: "1", closed: "1" });
    expect((await between().prove(history)).proof.verdict).toBe("proved");
  });

  test("200 columns, reserved and quoted names, an empty table", async () => {
    const names = ["select", "a`b", 'q"r', "ø☃", "æ", ...Array.from({ length: 195 }, (_, at) => `c${at}`)];
    await maria.at(
      `CREATE OR REPLACE TABLE \`or der\` (id int PRIMARY KEY, ${names.map((name) => `\`${name.replaceAll("`", "``")}\` varchar(5)`).join(", ")})`,
    );
    const load = upsert("or der", {
      from: { connection: "source", table: 'workshop."or der"' },
      into: { table: "landing.wide", mode: "upsert", key: ["id"] },
    });
    expect((await proved(load)).tally.read).toBe("0");
    await maria.at(`INSERT INTO \`or der\` (id, \`a\`\`b\`, c194) VALUES (1, 'x', 'y'), (2, NULL, '')`);
    await proved(load);
    await pair.atWarehouse("UPDATE landing.wide SET c194 = NULL WHERE id = 2");
    expect((await between().prove(load)).rows).toMatchObject({ different: 1 });
  });
});

describe("nothing but reading", () => {
  const query = (sql: string): Load => ({
    from: { connection: "source", query: sql },
    into: { table: "landing.q", mode: "replace" },
  });

  test.each([
    ["SELECT 1 AS a INTO OUTFILE '/tmp/x'", "INTO does not stand"],
    ["SELECT SLEEP(5) AS a", "sleep() is not taken"],
    ["SELECT `sleep`(5) AS a", "sleep() is not taken"],
    ["SELECT get_lock('x', 1) AS a", "get_lock() is not taken"],
    ["SELECT @a := 1 AS a", "Variables are not taken"],
    ["SELECT 1 AS a; DROP TABLE repair", "Only one statement"],
    ["SELECT 1 AS a /*! , SLEEP(1) */", "A comment that the server would run"],
    // Two minuses to the server, a comment to the eye; and the other way round.
    ["SELECT 1 --\u00a0, SLEEP(1) AS a FROM (SELECT 1 AS `\u00a0`) t", "sleep() is not taken"],
    ["SELECT 1 --\u0001 '\n, SLEEP(1) AS a -- '", "A control character is not taken"],
    ["SELECT 1 AS a -- \u0000, SLEEP(1)", "A control character is not taken"],
    ["SELECT * FROM workshop.repair FOR UPDATE", "UPDATE does not stand"],
    ["DELETE FROM workshop.repair", "Only a query that reads"],
    ["SELECT 1 AS a) x; (SELECT 2", "A bracket closes that none opened"],
    ["SELECT nosuch FROM workshop.repair", "nosuch"],
    ["SELECT workshop.settle() AS a", "is a routine of the server's own"],
  ])("%s", async (sql, said) => {
    await maria.at(`CREATE OR REPLACE TABLE repair (id int PRIMARY KEY);
CREATE OR REPLACE FUNCTION settle() RETURNS int RETURN 1`);
    await clean();
    await expect(between().run(query(sql))).rejects.toThrow(said);
    expect(await maria.at("SHOW TABLES LIKE 'repair'")).toHaveLength(1);
  });

  test("a quote within a text is none that ends it", async () => {
    await clean();
    const sql = "SELECT 'a;b -- ''c'') /*!' AS a, \"x;\" AS b, '\\' AS c -- the end; of it";
    await between().run(query(sql));
    expect(await pair.atWarehouse("SELECT a, b, c FROM landing.q")).toEqual([
      { a: "a;b -- 'c') /*!", b: "x;", c: "\\" },
    ]);
  });

  test("wrong passwords, databases and rights are told in words", async () => {
    const told = async (given: Parameters<Maria["with"]>[0], password = "reads only") =>
      pair
        .between({ ...maria.with(given), password })
        .run(upsert("sample"))
        .then(
          () => "",
          (error: Error) => error.message,
        );
    expect(await told({}, "wrong")).toContain("workshop did not sign in reader");
    expect(await told({ database: "elsewhere" })).toMatch(/did not sign in|has no database elsewhere/);
    expect(await told({ tls: "require" })).toContain("does not speak TLS");
  });
});

describe("what goes wrong meanwhile", () => {
  test("a server that ends the connection half way leaves the warehouse as it was", async () => {
    await maria.at(`CREATE OR REPLACE TABLE long_one (id int PRIMARY KEY, note varchar(400));
INSERT INTO long_one SELECT seq, REPEAT('x', 400) FROM seq_1_to_200000`);
    await clean();
    const killed: Promise<void>[] = [];
    const cut = between().run(upsert("long_one"), {
      report: {
        ...quiet,
        progress: () => {
          if (killed.length) return;
          const kill = async () => {
            const found = await maria.at("SELECT id FROM information_schema.processlist WHERE user = 'reader'");
            for (const { id } of found) await maria.at(`KILL ${id}`);
          };
          killed.push(kill());
        },
      },
    });
    await expect(cut).rejects.toThrow(/closed the connection|was cut|interrupted/i);
    expect((await pair.atWarehouse("SELECT to_regclass('landing.long_one') AS t"))[0]?.t).toBeNull();
    expect((await between().run(upsert("long_one"))).tally.new).toBe("200000");
  });

  test("rows and figures are of one moment, whoever writes meanwhile", async () => {
    await maria.at(`CREATE OR REPLACE TABLE busy (id int PRIMARY KEY, v int NOT NULL);
INSERT INTO busy SELECT seq, 0 FROM seq_1_to_60000`);
    let [writing, writes] = [true, 0];
    const writer = (async () => {
      // A sum that stays, rows that don't, and one that comes and goes.
      for (; writing; writes++)
        await maria.at(`UPDATE busy SET v = v + IF(id MOD 2, 1, -1) WHERE id BETWEEN ${1 + (writes % 500) * 100} AND ${(1 + (writes % 500)) * 100};
${writes % 2 ? "DELETE FROM busy WHERE id = 99999" : "REPLACE INTO busy VALUES (99999, 1)"}`);
    })();
    try {
      for (let times = 0; times < 4; times++) {
        await clean();
        const { tally, proof } = await between().run(upsert("busy", { proof: { figures: ["rows", "sum(v)"] } }));
        expect(Number(tally.read)).toBeGreaterThanOrEqual(60_000);
        expect(proof).toMatchObject({ verdict: "proved", how: "source", depth: "cells" });
      }
    } finally {
      writing = false;
      await writer;
    }
    expect(writes).toBeGreaterThan(10);
  });

  test("a table that is emptied while it is read fails the load, which writes nothing", async () => {
    await clean();
    const emptied: Promise<unknown>[] = [];
    const run = between().run(upsert("busy"), {
      report: {
        ...quiet,
        // The moment has been taken; nothing of the table has been read yet but its columns.
        line: (line) => {
          if (line.includes("landing.busy is made")) emptied.push(maria.at("TRUNCATE TABLE busy"));
        },
      },
    });
    const told = await run.then(
      ({ tally, proof }) => `${tally.read} ${proof.verdict}`,
      (error: Error) => error.message,
    );
    await Promise.all(emptied);
    // Either the read held the table and has all of it, or it was refused: never a part, never an empty table.
    expect(told).toMatch(/^6000[01] proved$|was changed or emptied while it was read/);
  });

  test("cancelled while it reads, it ends at both servers", async () => {
    await clean();
    const stop = new AbortController();
    const cancelled = between().run(upsert("long_one"), {
      signal: stop.signal,
      report: { ...quiet, progress: () => stop.abort() },
    });
    await expect(cancelled).rejects.toThrow("Cancelled");
    await expect
      .poll(() =>
        maria.at("SELECT id FROM information_schema.processlist WHERE user = 'reader' AND command <> 'Sleep'"),
      )
      .toHaveLength(0);
  });

  test("a zero byte in a text is told, and nothing is written", async () => {
    await maria.at(
      "CREATE OR REPLACE TABLE edge (id int PRIMARY KEY, v varchar(20));\nINSERT INTO edge VALUES (1, CONCAT('a', CHAR(0), 'b'))",
    );
    await clean();
    await expect(between().run(upsert("edge"))).rejects.toThrow("holds a zero byte");
  });
});

test("a server is known wherever it listens, and another of its databases is another", async () => {
  const identity = async (database: string) => {
    const snapshot = await sourceFor(maria.with({ database })).snapshot("test");
    try {
      return await snapshot.identity();
    } finally {
      await snapshot.close();
    }
  };
  await maria.at("CREATE DATABASE IF NOT EXISTS elsewhere;\nGRANT SELECT ON elsewhere.* TO reader@'127.0.0.1'");
  const [own, again, other] = [await identity("workshop"), await identity("workshop"), await identity("elsewhere")];
  expect(own).toBe(again);
  expect(own).not.toContain(String(maria.credentials.settings.port));
  expect(other).not.toBe(own);
});

describe("clocks", () => {
  const zones = ["Europe/Oslo", "America/St_Johns", "Australia/Lord_Howe", "Asia/Kathmandu"];
  const zone = fc.constantFrom(...zones);
  // Most of the moments lie about a change of some clock.
  const changes = [1774746000, 1792890000, 1772953200, 1775314800, 1791072000, 1793507400];
  const seconds = fc.oneof(
    fc.integer({ min: 1, max: 2_147_000_000 }),
    fc.constantFrom(...changes).chain((at) => fc.integer({ min: at - 7200, max: at + 7200 })),
  );

  test("a local time that comes twice, or not at all, is the moment that the warehouse takes it for", async () => {
    const asked = fc.sample(fc.tuple(zone, seconds), 600).map(([name, at]) => {
      // What a clock there shows near that moment, whether it exists or not.
      const text = new Date((at + 3600) * 1000).toISOString().slice(0, 19).replace("T", " ");
      return { name, text };
    });
    const rows = await pair.atWarehouse(
      `SELECT (timezone(z, t::timestamp) AT TIME ZONE 'UTC')::text AS at FROM (VALUES ${asked.map(({ name, text }, at) => `(${at}, '${name}', '${text}')`).join(", ")}) v(n, z, t) ORDER BY n`,
    );
    expect(asked.map(({ name, text }) => timeOf(text, "timestamp with time zone", name))).toEqual(
      rows.map(({ at }) => at),
    );
  });

  test("slices by any zone's hours, days, weeks and months are the warehouse's", async () => {
    const moments = fc.sample(seconds, 800);
    await maria.at("CREATE OR REPLACE TABLE edge (id int PRIMARY KEY, v timestamp NOT NULL)");
    await maria.at(`INSERT INTO edge VALUES ${moments.map((at, id) => `(${id}, FROM_UNIXTIME(${at}))`).join(", ")}`);
    for (const [at, slice] of (["hour", "day", "week", "month"] as const).entries())
      await proved(
        upsert("edge", { proof: { by: { column: "v", slice, zone: zones[at] }, figures: ["rows", "min(v)"] } }),
      );
  });
});

describe("told of rejected rows", () => {
  const desk = (marks = true) => ({
    ...maria.with({ user: "desk", ...(marks ? { marks: true as const } : {}) }),
    password: "writes notes",
  });
  const told = async (sql: string, values: Record<string, string | null>) => {
    const teller = await sourceFor(desk()).teller?.(new AbortController().signal);
    if (!teller) throw new Error("MariaDB is told by nobody");
    const arrival = await teller.send({ sql, names: Object.keys(values), values: Object.values(values) }, "key");
    await teller.close();
    return arrival;
  };

  test("by a statement with its values bound, which finds its row or is refused", async () => {
    await maria.at(`CREATE OR REPLACE TABLE note (id int PRIMARY KEY, why varchar(80));
INSERT INTO note VALUES (1, NULL), (2, NULL);
CREATE USER IF NOT EXISTS desk@'127.0.0.1' IDENTIFIED BY 'writes notes';
GRANT SELECT, UPDATE ON workshop.note TO desk@'127.0.0.1'`);
    const sql = "UPDATE note SET why = :reason WHERE id = :id";
    const hostile = "x'; DROP TABLE note; -- :id \\ é🚢";
    expect(await told(sql, { reason: hostile, id: "1" })).toEqual({ state: "sent" });
    expect(await told(sql, { reason: "gone", id: "9" })).toMatchObject({ state: "refused" });
    expect(await told("DELETE FROM note WHERE id = :id", { id: "2" })).toMatchObject({
      state: "refused",
      why: expect.stringMatching(/denied/i),
    });
    expect(await maria.at("SELECT id, why FROM note ORDER BY id")).toEqual([
      { id: 1, why: hostile },
      { id: 2, why: null },
    ]);
  });

  test("only where an administrator lets a connection be written to", async () => {
    await expect(sourceFor(desk(false)).teller?.(new AbortController().signal)).rejects.toThrow("may not write marks");
  });
});
