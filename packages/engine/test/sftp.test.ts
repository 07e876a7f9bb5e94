import { appendFileSync, existsSync } from "node:fs";
import { chmod, mkdir, readdir, rm, symlink, writeFile } from "node:fs/promises";
import { dirname, join } from "node:path";
import { gzipSync } from "node:zlib";
import type { Load } from "@undercoat/core/pipeline/pipeline";
import type { CheckStep } from "@undercoat/engine/connection/check";
import type { CredentialsOf } from "@undercoat/engine/connection/credentials";
import { failureOf } from "@undercoat/engine/failure";
import { sourceFor } from "@undercoat/engine/source/registry";
import { afterAll, beforeAll, beforeEach, describe, expect, test } from "vitest";
import { type SpecimenRow, sourceContract } from "./contract.ts";
import { makePair, type Pair, quiet } from "./pair.ts";
import { makeSshd, type Sshd } from "./sshd.ts";

let pair: Pair;
let sshd: Sshd;
beforeAll(async () => {
  [pair, sshd] = await Promise.all([makePair("sftp"), makeSshd()]);
});
afterAll(async () => {
  await Promise.all([pair?.close(), sshd?.close()]);
});
beforeEach(async () => {
  await pair.atWarehouse("DROP SCHEMA IF EXISTS landing CASCADE; DROP SCHEMA IF EXISTS undercoat CASCADE");
  for (const name of await readdir(sshd.folder)) await rm(join(sshd.folder, name), { recursive: true });
});

async function put(name: string, text: string | Buffer): Promise<void> {
  await mkdir(dirname(join(sshd.folder, name)), { recursive: true });
  await writeFile(join(sshd.folder, name), text);
}

const quoted = (value: string | null) => (value === null ? "" : `"${value.replaceAll('"', '""')}"`);
const csvOf = (rows: SpecimenRow[]) =>
  `id,name,fare,at\n${rows.map((row) => row.map((value) => quoted(value === null ? null : String(value))).join(",")).join("\n")}\n`;

sourceContract("A drop over SFTP", {
  pair: () => pair,
  credentials: () => sshd.credentials,
  from: { files: "out/sample.csv" },
  item: { schema: "out", table: "sample.csv" },
  absent: { files: "out/absent.csv" },
  firstStep: "address",
  furnish: (rows) => put("out/sample.csv", csvOf(rows)),
});

const load = (files: string, after?: string): Load => ({
  from: { connection: "drop", files, ...(after ? { after } : {}) },
  into: { table: "landing.day", mode: "upsert", key: ["id"] },
});
const between = () => pair.between(sshd.credentials);
const day = (from: number, to: number) =>
  `id,name\n${Array.from({ length: to - from }, (_, at) => `${from + at},passenger ${from + at}\n`).join("")}`;
const there = async () => (await readdir(sshd.folder, { recursive: true })).filter((name) => name.includes(".")).sort();

describe("the host's key", () => {
  const steps = async (settings: Partial<CredentialsOf<"sftp">["settings"]>) => {
    const told: CheckStep[] = [];
    const credentials = { ...sshd.credentials, settings: { ...sshd.credentials.settings, ...settings } };
    await sourceFor(credentials).check(false, (step) => told.push(step));
    return told;
  };

  test("at first contact is shown, to be accepted", async () => {
    const last = (await steps({ hostKey: undefined })).at(-1);
    expect(last).toMatchObject({
      step: "host key",
      outcome: "failed",
      offer: { setting: "hostKey", value: sshd.credentials.settings.hostKey },
    });
    expect((await steps({})).map(({ outcome }) => outcome)).toEqual([
      "passed",
      "passed",
      "passed",
      "passed",
      "passed",
      "skipped",
    ]);
  });

  test("a changed one is refused, and nothing is signed in to", async () => {
    await put("a.csv", day(1, 3));
    const before = sshd.credentials;
    await sshd.rekey();
    await expect(between().run(load("a.csv"))).rejects.toThrow("shows another host key than the one that was accepted");
    const last = (await steps({})).at(-1);
    expect(last).toMatchObject({ step: "host key", outcome: "failed" });
    expect(last).not.toHaveProperty("offer");
    const [, accepted] = /: (SHA256:\S+)$/.exec(last?.failure?.message ?? "") ?? [];
    const again = { ...before, settings: { ...before.settings, hostKey: accepted } };
    Object.assign(sshd, { credentials: again });
    expect((await between().run(load("a.csv"))).tally.new).toBe("2");
  });

  test("another user's key is refused in words", async () => {
    const told = await pair
      .between({ ...sshd.credentials, password: "no password" })
      .run(load("a.csv"))
      .then(
        () => "",
        (error) => failureOf(error).message,
      );
    expect(told).toContain("did not sign in");
  });
});

describe("files of a drop", () => {
  test("a pattern through folders, packed or not, links aside", async () => {
    await put("2026/01.csv", day(1, 3));
    await put("2026/deep/02.csv.gz", gzipSync(day(3, 5)));
    await put("2026/03.csv.part", day(5, 7));
    await put("2025/04.csv", day(7, 9));
    await symlink(join(sshd.folder, "2025/04.csv"), join(sshd.folder, "2026/linked.csv"));
    const { tally, proof } = await between().run(load("2026/**/*.csv{,.gz}"));
    expect(tally).toMatchObject({ read: "4", new: "4" });
    expect(proof).toMatchObject({ verdict: "proved", how: "received" });
    expect((await between().prove(load("2026/**/*.csv{,.gz}"))).proof).toMatchObject({
      verdict: "proved",
      how: "read again",
    });
    await put("2026/05.csv", day(9, 10));
    expect((await between().run(load("2026/**/*.csv{,.gz}"))).tally).toMatchObject({ read: "1", new: "1" });
  });

  test.each([
    ["delete", []],
    ["move:done", ["done/out/a.csv", "done/out/b.csv"]],
    ["keep", ["out/a.csv", "out/b.csv"]],
  ])("after %s", async (after, left) => {
    await put("out/a.csv", day(1, 3));
    await put("out/b.csv", day(3, 5));
    const lines: string[] = [];
    const report = { ...quiet, line: (line: string) => void lines.push(line) };
    expect((await between().run(load("out/*.csv", after), { report })).tally.new).toBe("4");
    expect(await there()).toEqual(left);
    if (after === "keep") return;
    expect(lines.at(-1)).toBe(after === "delete" ? "out/b.csv deleted" : "out/b.csv moved to done/out/b.csv");
    // Nothing there is nothing to do; what comes next is loaded, and what was loaded stays.
    expect((await between().run(load("out/*.csv", after))).tally).toMatchObject({ read: "0", new: "0", deleted: "0" });
    await put("out/a.csv", day(5, 6));
    expect((await between().run(load("out/*.csv", after))).tally).toMatchObject({ read: "1", new: "1" });
    expect((await pair.atWarehouse("SELECT count(*)::text AS n FROM landing.day"))[0]?.n).toBe("5");
    if (after !== "delete") expect(await there()).toContain("done/out/a.csv.2");
    await expect(between().prove(load("out/*.csv", after))).rejects.toThrow("takes its files away");
  });

  test("nothing goes before the load has committed, nor a file that has changed since it was read", async () => {
    await put("out/a.csv", day(1, 3));
    const failing = { ...load("out/*.csv", "delete"), rules: { none: { check: "id < 0", breach: "stop" as const } } };
    await expect(between().run(failing)).rejects.toThrow();
    expect(await there()).toEqual(["out/a.csv"]);
    await expect(between().run(load("**/*.csv", "move:done"))).rejects.toThrow("finds it again");
    const lines: string[] = [];
    const report = {
      ...quiet,
      line: (line: string) => {
        lines.push(line);
        // Somebody adds to the file just as the load has committed.
        if (line.startsWith("committed")) appendFileSync(join(sshd.folder, "out/a.csv"), "9,late\n");
      },
    };
    await between().run(load("out/*.csv", "delete"), { report });
    expect(lines.at(-1)).toContain("out/a.csv stays: out/a.csv changed");
    expect((await between().run(load("out/*.csv", "delete"))).tally).toMatchObject({ new: "1" });
    expect(existsSync(join(sshd.folder, "out/a.csv"))).toBe(false);
  });

  test("a host that ends the session half way leaves the warehouse as it was", async () => {
    await put(
      "long.csv",
      `id,name\n${Array.from({ length: 300_000 }, (_, at) => `${at},${"n".repeat(80)}\n`).join("")}`,
    );
    const cut = between().run(load("long.csv"), {
      report: {
        ...quiet,
        progress: (rows) => {
          if (BigInt(rows) > 0n) sshd.cut();
        },
      },
    });
    await expect(cut).rejects.toThrow("closed the connection");
    expect((await pair.atWarehouse("SELECT to_regclass('landing.day') AS t"))[0]?.t).toBeNull();
  });

  test("a folder that may not be read, and one that is not there, are told", async () => {
    await put("shut/a.csv", day(1, 2));
    await chmod(join(sshd.folder, "shut"), 0o000);
    const elsewhere = { ...sshd.credentials, settings: { ...sshd.credentials.settings, path: "/no/such" } };
    await expect(pair.between(elsewhere).run(load("a.csv"))).rejects.toThrow("has no folder /no/such");
    await chmod(join(sshd.folder, "shut"), 0o755);
  });
});
