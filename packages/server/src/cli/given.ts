import { readFileSync } from "node:fs";
import type { Given } from "@undercoat/core/parameter/resolve";
import { readValueFile, ValueFileError } from "@undercoat/core/parameter/valuefile";
import { CommandError } from "./client.ts";

/** The options that say with which values something runs. */
export interface GivenOptions {
  value?: string[];
  values?: string[];
  valuesFile?: string;
  set?: string[];
}

/** `a=b` as its two sides. */
function pairs(given: string[] | undefined, option: string): Record<string, string> {
  return Object.fromEntries(
    (given ?? []).map((text) => {
      const at = text.indexOf("=");
      if (at < 1) throw new CommandError(`${option} takes name=value, not ${text}.`, 2);
      return [text.slice(0, at), text.slice(at + 1)];
    }),
  );
}

/** One for each run that is asked for: each set that is named, each row of a file, or the defaults. */
export function givensOf({ value, values, valuesFile, set }: GivenOptions): Given[] {
  const single = pairs(value, "--value");
  const settings = pairs(set, "--set");
  const common: Given = {
    ...(Object.keys(single).length ? { values: single } : {}),
    ...(Object.keys(settings).length ? { settings } : {}),
  };
  if (valuesFile === undefined) return (values ?? [null]).map((name) => ({ ...common, set: name }));
  if ((values?.length ?? 0) > 1) throw new CommandError("--values-file goes with one --values at most.", 2);
  let text: string;
  try {
    text = readFileSync(valuesFile, "utf8");
  } catch {
    throw new CommandError(`${valuesFile} can't be read.`, 2);
  }
  try {
    return readValueFile(text, valuesFile).map((file) => ({ ...common, set: values?.[0] ?? null, file }));
  } catch (error) {
    throw error instanceof ValueFileError ? new CommandError(`${valuesFile}: ${error.message}.`, 2) : error;
  }
}
