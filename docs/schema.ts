import { writeFileSync } from "node:fs";
import { fileURLToPath } from "node:url";
import { projectSchema } from "@undercoat/core/pipeline/schema";
import parse from "joi-to-json";

/** joi-to-json notes a pattern twice, once as a property named by its source; only the patternProperties stay. */
function withoutPatternNames(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(withoutPatternNames);
  if (value === null || typeof value !== "object") return value;
  return Object.fromEntries(Object.entries(value).flatMap(([name, entry]) => (name.startsWith("/^") ? [] : [[name, withoutPatternNames(entry)]])));
}

/** The JSON Schema of the project file, from the Joi schemas that the server checks with. `npx tsx docs/schema.ts` writes it. */
export function schemaText(): string {
  const schema = withoutPatternNames(parse(projectSchema, "json")) as object;
  return `${JSON.stringify({ $schema: "http://json-schema.org/draft-07/schema#", title: "Undercoat project file", ...schema }, null, 2)}\n`;
}

export const schemaFile = fileURLToPath(new URL("project-file.schema.json", import.meta.url));

if (process.argv[1] === fileURLToPath(import.meta.url)) writeFileSync(schemaFile, schemaText());
