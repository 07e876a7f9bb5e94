import { admit, checkQuery, type ExpressionUse, tablesOf } from "@undercoat/core/expression/parse";
import { personalColumns } from "@undercoat/core/shape/personal";
import { describe, expect, test } from "vitest";

describe("conditions", () => {
  test.each([
    "region = 'north'",
    "lower(status::text) IN ('paid', 'held') AND fare >= 10.5",
    "updated_at > now() - interval '1 year' OR note IS NOT NULL",
    "extras->>'meal' = 'true'",
    "CASE WHEN a THEN b ELSE c END = any(ARRAY[1,2])",
    "region = 'north' -- the north",
    "coalesce(nullif(btrim(note), ''), 'none') LIKE '%x%'",
  ])("admits %s", async (sql) => {
    await expect(admit(sql, "condition")).resolves.toBeDefined();
  });

  test.each([
    ["true); DROP TABLE x; SELECT (1", /more than one|syntax error/],
    ["1=1) OR (SELECT count(*) FROM secret) > 0 AND (true", /subquery|more than one/],
    ["EXISTS (SELECT 1)", /subquery/],
    ["pg_sleep(10) IS NULL", /pg_sleep/],
    ["pg_read_file('/etc/passwd') = ''", /pg_read_file/],
    ["public.lower(a) = 'x'", /public\.lower/],
    ["count(*) > 1", /count/],
    ["setval('s', 1) > 0", /setval/],
    ["a = = b", /syntax error/],
    ["", /syntax error/],
    ["true UNION SELECT 1", /syntax error/],
    ["true) GROUP BY (1", /more than one|GROUP/],
  ])("refuses %s", async (sql, why) => {
    await expect(admit(sql, "condition")).rejects.toThrow(why);
  });

  test("says where the mistake is", async () => {
    await expect(admit("fare >= = 3", "condition")).rejects.toMatchObject({ position: 8 });
  });
});

describe("columns", () => {
  const said = async (sql: string, use: ExpressionUse = "column") => {
    const { reads, renamed } = await admit(sql, use);
    return { reads, text: renamed((name) => `<${name}>`) };
  };

  test("tells what an expression reads and renames it in place", async () => {
    expect(await said("concat_ws(' ', first_name, last_name)")).toEqual({
      reads: ["first_name", "last_name"],
      text: "concat_ws(' ', <first_name>, <last_name>)",
    });
    expect(await said('Fare / 100.0 + "Fare ""net"""')).toEqual({
      reads: ["fare", 'Fare "net"'],
      text: '<fare> / 100.0 + <Fare "net">',
    });
    expect(await said("'fare €😀' || größe || fare")).toEqual({
      reads: ["größe", "fare"],
      text: "'fare €😀' || <größe> || <fare>",
    });
    expect(await said("CASE status WHEN 'a' THEN 1 END -- status")).toMatchObject({ reads: ["status"] });
    expect(await said("42")).toEqual({ reads: [], text: "42" });
  });

  test.each([
    ["now()", "column", /never be proved/],
    ["current_date", "column", /never be proved/],
    ["a, b", "column", /one value/],
    ["a) AS x, (b", "column", /more than one/],
    ["s.fare", "column", /name alone/],
    ["(SELECT 1)", "column", /subquery/],
    ["sum(fare)", "column", /sum/],
    ["generate_series(1, 2)", "column", /generate_series/],
    ["random()", "column", /random/],
    ["nextval('s')", "column", /nextval/],
    ["port IN (SELECT code FROM port)", "rule", /schema\.port/],
    ["port IN (SELECT code FROM a.port ORDER BY 1)", "rule", /A lookup is/],
    ["port IN (SELECT pg_sleep(1) FROM a.port)", "rule", /pg_sleep/],
    ["port IN (SELECT count(*) FROM a.port)", "rule", /count/],
  ] as const)("refuses %s as a %s", async (sql, use, why) => {
    await expect(admit(sql, use)).rejects.toThrow(why);
  });

  test("lets a rule look values up, whose own columns are not the load's", async () => {
    expect(await said("port IN (SELECT code FROM fleet.port WHERE closed IS NULL)", "rule")).toMatchObject({
      reads: ["port"],
    });
    expect(await said("EXISTS (SELECT 1 FROM fleet.port p WHERE p.code = port) AND fare >= 0", "rule")).toMatchObject({
      reads: ["fare"],
    });
    await expect(admit("sailed_at <= now()", "rule")).resolves.toBeDefined();
  });
});

describe("queries", () => {
  test("tells the tables a query reads", async () => {
    expect(
      (
        await tablesOf(
          "WITH a AS (SELECT * FROM x.one) SELECT * FROM a JOIN two USING (id) WHERE EXISTS (SELECT 1 FROM y.three)",
        )
      ).toSorted((a, b) => a.table.localeCompare(b.table)),
    ).toEqual([
      { schema: "x", table: "one" },
      { schema: "y", table: "three" },
      { schema: null, table: "two" },
    ]);
  });

  test.each([
    "SELECT 1",
    "WITH a AS (SELECT 1 AS x) SELECT * FROM a;",
    "VALUES (1), (2)",
    "(SELECT 1) UNION ALL (SELECT 2)",
  ])("admits %s", async (sql) => {
    await expect(checkQuery(sql)).resolves.toBeUndefined();
  });

  test.each([
    ["DELETE FROM booking", /something else/],
    ["SELECT 1; SELECT 2", /2 statements/],
    ["WITH gone AS (DELETE FROM booking RETURNING *) SELECT * FROM gone", /changes rows/],
    ["SELECT * INTO copy FROM booking", /INTO/],
    ["SELECT * FROM booking FOR UPDATE", /lock/],
    ["COPY booking TO PROGRAM 'sh'", /something else/],
    ["", /empty/],
    ["-- nothing", /0 statements/],
  ])("refuses %s", async (sql, why) => {
    await expect(checkQuery(sql)).rejects.toThrow(why);
  });
});

test("a column is personal where every load of it is a digest", async () => {
  const columns = {
    id: "id",
    who: { as: "encode(sha256(convert_to('x' || lower(mail), 'UTF8')), 'hex')" },
    both: "md5(phone)",
    phone: "phone",
    half: "name || md5(name)",
    town: "upper(town)",
    nested: "length(encode(sha512(md5(card)::bytea), 'hex') || id)",
  };
  const load = { from: { connection: "a", table: "b.c" }, into: { table: "d.e", mode: "upsert" as const }, columns };
  expect(await personalColumns(load)).toEqual(["mail", "card"]);
  expect(await personalColumns({ ...load, columns: { "odd name": "odd name" } })).toEqual([]);
});
