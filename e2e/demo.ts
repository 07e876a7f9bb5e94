import { execFileSync } from "node:child_process";
import { chmodSync, mkdtempSync, readFileSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";

/** Runs `./undercoat` on the data folder of these tests. */
export function undercoat(...args: string[]): { status: number; output: string } {
  try {
    return {
      status: 0,
      output: execFileSync("./undercoat", args, { encoding: "utf8", stdio: ["ignore", "pipe", "pipe"] }),
    };
  } catch (error) {
    const failed = error as { status: number; stdout: string; stderr: string };
    return { status: failed.status, output: failed.stdout + failed.stderr };
  }
}

/** A demo in a folder and on ports of its own, beside any that runs; gone with the tests. */
export default function setup(): () => void {
  const folder = mkdtempSync(join(tmpdir(), "undercoat-demo-"));
  chmodSync(folder, 0o755);
  process.env.UNDERCOAT_DATA = folder;
  process.env.UNDERCOAT_PORT = "0";
  const { status, output } = undercoat("demo", "--wait");
  if (status !== 0) throw new Error(output);
  process.env.DEMO_LINK = /http:\S+\/link#\S+/.exec(output)?.[0] ?? "";
  process.env.DEMO_ADDRESS = readFileSync(join(folder, "address"), "utf8");
  return () => {
    undercoat("stop");
    rmSync(folder, { recursive: true, force: true });
  };
}
