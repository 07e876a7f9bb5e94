import { spawnSync } from "node:child_process";
import { mkdtempSync, readFileSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";

/** Every check of the project, one after another; the last line adds them all up. */
const reports = mkdtempSync(join(tmpdir(), "undercoat-reports-"));
const bin = (name: string) => join("node_modules/.bin", name);
let passed = 0;
let failed = 0;

function execute(title: string, command: string, args: string[]): number {
  const started = performance.now();
  console.log(`\n== ${title}`);
  const { status } = spawnSync(command, args, { stdio: ["ignore", "inherit", "inherit"] });
  console.log(
    `== ${title}: ${status === 0 ? "passed" : "failed"}, ${Math.round((performance.now() - started) / 1000)} s`,
  );
  return status ?? 1;
}

/** A check that passes or fails as one. */
function check(title: string, command: string, ...args: string[]): void {
  if (execute(title, bin(command), args) === 0) passed++;
  else failed++;
}

/** A test runner, counted by its JSON report; one that leaves none has failed. */
function suite(title: string, command: string, args: string[], count: (report: any) => [number, number]): void {
  const status = execute(title, bin(command), args);
  try {
    const [good, bad] = count(JSON.parse(readFileSync(join(reports, `${command}.json`), "utf8")));
    passed += good;
    failed += bad || status === 0 ? bad : 1;
  } catch {
    failed++;
  }
}

check("types", "tsc", "-p", ".");
check("lint, form and import rules", "biome", "check", "--error-on-warnings", ".");
suite(
  "core, engine and server",
  "vitest",
  ["run", "--reporter=dot", "--reporter=json", `--outputFile.json=${join(reports, "vitest.json")}`],
  (report) => [report.numPassedTests, report.numFailedTests],
);
process.env.PLAYWRIGHT_JSON_OUTPUT_NAME = join(reports, "playwright.json");
suite("interface", "playwright", ["test", "--reporter=line,json"], ({ stats }) => [
  stats.expected + stats.flaky,
  stats.unexpected + stats.skipped,
]);
rmSync(reports, { recursive: true, force: true });
console.log(`\n${passed} passed, ${failed} failed`);
process.exit(failed ? 1 : 0);
