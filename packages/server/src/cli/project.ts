import { readFileSync } from "node:fs";
import { answer } from "@undercoat/core/api/client";
import type { LocatedProblem } from "@undercoat/core/pipeline/project";
import { type Client, CommandError } from "./client.ts";

/** The environment variables that a project file names for its passwords. */
function namedVariables(text: string): Record<string, string> {
  const names = [...text.matchAll(/\benv:\s*["']?([A-Za-z_][A-Za-z0-9_]*)/g)].map((match) => match[1] ?? "");
  return Object.fromEntries(
    names.flatMap((name) => (process.env[name] === undefined ? [] : [[name, process.env[name] ?? ""]])),
  );
}

export async function applyCommand(
  client: Client,
  file: string,
  { json, check }: { json: boolean; check: boolean },
): Promise<number> {
  let text: string;
  try {
    text = readFileSync(file, "utf8");
  } catch (error) {
    throw new CommandError(
      `${file} can't be read: ${(error as NodeJS.ErrnoException).code === "ENOENT" ? "there is no such file" : (error as Error).message}.`,
      2,
    );
  }
  try {
    const { changes } = await answer(
      client.project.$post({ json: { text, environment: namedVariables(text), check } }),
    );
    if (json) console.log(JSON.stringify({ changes }));
    else for (const { what, name, change } of changes) console.log(`${what} ${name}: ${change}`);
    // Only asked: something would change.
    return check && changes.some(({ change }) => change !== "unchanged") ? 4 : 0;
  } catch (error) {
    const problems =
      error instanceof CommandError ? ((error.problem?.problems ?? null) as LocatedProblem[] | null) : null;
    if (!problems) throw error;
    if (json)
      console.log(
        JSON.stringify({
          error: "The file is wrong",
          problems: problems.map(({ line, path, message }) => ({ line: line ?? null, path: path.join("."), message })),
        }),
      );
    for (const { line, path, message } of problems)
      console.error(`${file}:${line ?? 1}: ${path.join(".")}: ${message}`);
    return 2;
  }
}

export async function exportCommand(client: Client, pipeline: string | undefined, json: boolean): Promise<number> {
  const { text } = await answer(client.project.$get({ query: { pipeline } }));
  process.stdout.write(json ? `${JSON.stringify({ project: text })}\n` : text);
  return 0;
}
