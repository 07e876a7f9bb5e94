import { JsonFault, JsonList, membersOf } from "../file/json.ts";

/** Answers in JSON, taken apart without a value being changed. */

/** What stands at a path of members, as its JSON was written; a text without its quotes. Null where there is nothing, or null. */
export function valueAt(text: string, path: string | undefined): { text: string; nested: boolean } | null {
  let value = text.trim();
  let nested = true;
  for (const name of path?.split(".") ?? []) {
    if (!nested || !value.startsWith("{")) return null;
    const members = membersOf(value);
    const found = members.values.get(name);
    if (found === undefined || found === null) return null;
    value = found;
    nested = members.nested.has(name);
  }
  return { text: value, nested };
}

/**
 * The records of an answer, each as its JSON was written. A list holds them; an object is one.
 * @throws JsonFault where the answer is no JSON, or holds no list or object there
 */
export function recordsIn(text: string, path: string | undefined): string[] {
  const found = valueAt(text, path);
  if (!found) throw new JsonFault(path === undefined ? "is empty" : `has no member ${path}`);
  if (!found.nested || !/^[[{]/.test(found.text))
    throw new JsonFault(path === undefined ? "is neither a list nor an object" : `holds no list at ${path}`);
  if (found.text.startsWith("{")) return [found.text];
  return [...new JsonList().read(found.text, true)].map((record) => record.text);
}
