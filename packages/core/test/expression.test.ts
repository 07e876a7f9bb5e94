import { checkCondition, checkQuery } from "@undercoat/core/expression/parse";
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
    await expect(checkCondition(sql)).resolves.toBeUndefined();
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
    await expect(checkCondition(sql)).rejects.toThrow(why);
  });

  test("says where the mistake is", async () => {
    await expect(checkCondition("fare >= = 3")).rejects.toMatchObject({ position: 8 });
  });
});

describe("queries", () => {
  test.each(["SELECT 1", "WITH a AS (SELECT 1 AS x) SELECT * FROM a;", "VALUES (1), (2)", "(SELECT 1) UNION ALL (SELECT 2)"])("admits %s", async (sql) => {
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
