import type { Load } from "@undercoat/core/pipeline/pipeline";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { makePair, type Pair } from "./pair.ts";

let pair: Pair;
beforeAll(async () => {
  pair = await makePair("history");
});
afterAll(() => pair.close());

const load: Load = {
  from: { connection: "source", table: "public.vessel" },
  into: {
    table: "fleet.vessel",
    mode: "history",
    key: ["code"],
    deleted: "close",
    history: {
      columns: {
        phone: "overwrite",
        launched: "keep",
        name: { previous: "former_name" },
      },
      change: "change_kind",
      surrogate: { column: "sk", start: 1000, step: 1 },
    },
  },
  proof: { figures: ["rows", "max(port)"] },
};
beforeEach(async () => {
  await pair.atWarehouse("DROP SCHEMA IF EXISTS fleet CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
  await pair.atSource(
    `DROP TABLE IF EXISTS vessel; CREATE TABLE vessel (code text PRIMARY KEY, name text, port text, phone text, launched date);
     INSERT INTO vessel VALUES ('A', 'Ann', 'KIL', '1', '2000-01-01'), ('B', 'Bee', 'SKV', '2', '2001-01-01'), ('C', 'Cee', 'MAR', '3', '2002-01-01')`,
  );
});

const versions = (columns = "code, name, former_name, port, phone, change_kind, sk, is_current") =>
  pair.atWarehouse(`SELECT ${columns} FROM fleet.vessel ORDER BY code, valid_from`);
const lines = async (columns?: string) =>
  (await versions(columns)).map((row) =>
    Object.values(row)
      .map((value) => value ?? "-")
      .join(" "),
  );

describe("each column's change does what was chosen for it", () => {
  test("version, overwrite in all, previous; what did not change stays", async () => {
    const first = await pair.run(load);
    expect(first.tally).toMatchObject({ read: "3", new: "3", changed: "0", same: "0", versions: "3", closed: "0" });
    expect(first.proof).toMatchObject({ verdict: "proved", depth: "cells" });
    await pair.atSource(
      "UPDATE vessel SET port = 'KIL' WHERE code = 'B'; UPDATE vessel SET phone = '9', name = 'Anna' WHERE code = 'A'",
    );
    const second = await pair.run(load);
    expect(second.tally).toMatchObject({
      read: "3",
      new: "0",
      changed: "2",
      same: "1",
      versions: "1",
      closed: "1",
      overwritten: "1",
    });
    expect(second.proof).toMatchObject({ verdict: "proved", history: { broken: [] } });
    expect(second.findings.opened).toEqual([{ column: "port", versions: "1" }]);
    await pair.atSource("UPDATE vessel SET phone = '8', port = 'MAR' WHERE code = 'B'");
    await pair.run(load);
    expect(await lines()).toEqual([
      "A Anna Ann KIL 9 overwrite 1000 t",
      "B Bee - SKV 8 new 1001 f",
      "B Bee - KIL 8 version 1003 f",
      "B Bee - MAR 8 version 1004 t",
      "C Cee - MAR 3 new 1002 t",
    ]);
    const { rows, proof } = await pair.prove(load);
    expect([proof.verdict, proof.history?.versions, rows?.different]).toEqual(["proved", "5", 0]);
  });

  test("a kept value that changes rejects the row, stops the load or is counted", async () => {
    await pair.run(load);
    await pair.atSource("UPDATE vessel SET launched = '1999-01-01', port = 'XXX' WHERE code = 'A'");
    const rejecting = await pair.run(load);
    expect(rejecting.tally).toMatchObject({ read: "3", changed: "0", same: "2", rejected: "1" });
    expect(rejecting.findings.reasons[0]).toMatchObject({ column: "launched", reason: /kept as it first was/ });
    expect(rejecting.proof.verdict).toBe("proved");
    const breach = (how: "stop" | "count"): Load => ({
      ...load,
      into: { ...load.into, history: { ...load.into.history, breach: how } },
    });
    await expect(pair.run(breach("stop"))).rejects.toThrow(/launched is kept/);
    const counting = await pair.run(breach("count"));
    expect(counting.tally).toMatchObject({ changed: "1", rejected: "0" });
    expect(counting.findings.counted).toEqual([{ rule: "launched is kept", rows: "1" }]);
    expect(counting.proof.verdict).toBe("proved");
    expect((await versions("launched::text AS at")).map((row) => row.at)).toEqual([
      "2000-01-01",
      "2000-01-01",
      "2001-01-01",
      "2002-01-01",
    ]);
  });

  test("a key that goes ends, one that comes back opens a version and the gap stays", async () => {
    await pair.run(load);
    await pair.atSource("DELETE FROM vessel WHERE code = 'B'");
    const gone = await pair.run(load);
    expect(gone.tally).toMatchObject({ read: "2", deleted: "1", closed: "1", versions: "0" });
    expect(gone.proof.verdict).toBe("proved");
    await pair.atSource("INSERT INTO vessel VALUES ('B', 'Bee', 'SKV', '2', '2001-01-01')");
    const back = await pair.run(load);
    expect(back.tally).toMatchObject({ read: "3", new: "0", changed: "1", same: "2", versions: "1" });
    expect(back.proof).toMatchObject({ verdict: "proved", history: { broken: [] } });
    expect(await lines("code, change_kind, sk, is_current, (valid_to IS NULL) AS open")).toEqual([
      "A new 1000 t t",
      "B deleted 1001 f f",
      "B returned 1003 t t",
      "C new 1002 t t",
    ]);
    expect((await pair.prove(load)).proof).toMatchObject({ verdict: "proved", history: { versions: "4", broken: [] } });
  });
});
