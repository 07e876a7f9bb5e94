import { readdirSync, readFileSync, statSync } from "node:fs";
import { join } from "node:path";
import { answer, path as at } from "@undercoat/core/api/client";
import type { LocatedProblem, ProjectFile } from "@undercoat/core/pipeline/project";
import { type Client, CommandError } from "./client.ts";

/** The environment variables that a project file names for its passwords. */
function namedVariables(text: string): Record<string, string> {
  const names = [...text.matchAll(/\benv:\s*["']?([A-Za-z_][A-Za-z0-9_]*)/g)].map((match) => match[1] ?? "");
  return Object.fromEntries(
    names.flatMap((name) => (process.env[name] === undefined ? [] : [[name, process.env[name] ?? ""]])),
  );
}

/** A project file, or every one in a folder and below it, in the order of their names. */
function filesOf(path: string): ProjectFile[] {
  try {
    if (!statSync(path).isDirectory()) return [{ file: path, text: readFileSync(path, "utf8") }];
    const names = readdirSync(path, { recursive: true, encoding: "utf8" }).filter((name) => /\.ya?ml$/i.test(name));
    if (names.length === 0) throw new CommandError(`${path} holds no project file; one ends in .yaml.`, 2);
    return names.toSorted().map((name) => ({ file: join(path, name), text: readFileSync(join(path, name), "utf8") }));
  } catch (error) {
    if (error instanceof CommandError) throw error;
    throw new CommandError(
      `${path} can't be read: ${(error as NodeJS.ErrnoException).code === "ENOENT" ? "there is no such file" : (error as Error).message}.`,
      2,
    );
  }
}

export async function applyCommand(
  client: Client,
  path: string,
  { json, check }: { json: boolean; check: boolean },
): Promise<number> {
  const files = filesOf(path);
  const environment = namedVariables(files.map(({ text }) => text).join("\n"));
  try {
    const { changes } = await answer(client.project.$post({ json: { files, environment, check } }));
    if (json) console.log(JSON.stringify({ changes }));
    else
      for (const { what, name, change, says } of changes)
        console.log(`${what} ${name}: ${change}${says ? ` (${says})` : ""}`);
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
          problems: problems.map(({ line, path: where, message, file }) => ({
            ...(files.length > 1 ? { file: file ?? null } : {}),
            line: line ?? null,
            path: where.join("."),
            message,
          })),
        }),
      );
    for (const { line, path: where, message, file } of problems)
      console.error(`${file || files[0]?.file}:${line ?? 1}: ${where.join(".")}: ${message}`);
    return 2;
  }
}

/** Lists a pipeline's versions, the latest first. */
export async function versionsCommand(client: Client, pipeline: string, json: boolean): Promise<number> {
  const versions = await answer(client.pipelines[":name"].versions.$get(at({ name: pipeline })));
  if (json) console.log(JSON.stringify({ pipeline, versions }));
  else
    for (const { number, name, author, at: when, note, changes } of versions)
      console.log(
        [`${number}${name ? ` ${name}` : ""}`, when, author ?? "by itself", note, changes ?? "the first"]
          .filter(Boolean)
          .join(" · "),
      );
  return 0;
}

/** Makes an earlier version of a pipeline the current one, by a new one. */
export async function restoreCommand(client: Client, pipeline: string, number: string, json: boolean): Promise<number> {
  if (!/^\d{1,9}$/.test(number)) throw new CommandError(`${number} is not the number of a version.`, 2);
  const { version } = await answer(
    client.pipelines[":name"].versions[":number"].restore.$post(at({ name: pipeline, number })),
  );
  console.log(
    json
      ? JSON.stringify({ pipeline, version })
      : `${pipeline} is as in version ${number} again, by version ${version}.`,
  );
  return 0;
}

export async function exportCommand(client: Client, pipeline: string | undefined, json: boolean): Promise<number> {
  const { text } = await answer(client.project.$get({ query: { pipeline } }));
  process.stdout.write(json ? `${JSON.stringify({ project: text })}\n` : text);
  return 0;
}
