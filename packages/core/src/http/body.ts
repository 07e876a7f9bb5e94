import { JsonFault, listOf, placeOf, written } from "../file/json.ts";

/** Answers in JSON, taken apart without a value being changed. */

/** The place of a path of members; a member whose own name has points in it goes before. */
const placeAt = (text: string, path: string | undefined) =>
  path === undefined ? placeOf(text, []) : (placeOf(text, [path]) ?? placeOf(text, path.split(".")));

/** What stands at a path of members, as its JSON was written; a text without its quotes. Null where there is nothing, or null. */
export function valueAt(text: string, path: string | undefined): { text: string; nested: boolean } | null {
  const place = placeAt(text, path);
  if (!place) return null;
  const { value, nested } = written(text, place.from, place.to);
  return value === null ? null : { text: value, nested };
}

/**
 * The records of an answer, each as its JSON was written. A list holds them; an object is one. Whether each is JSON shows
 * when it is taken apart.
 * @throws JsonFault where the answer is no JSON, or holds no list or object there
 */
export function recordsIn(text: string, path: string | undefined): string[] {
  const place = placeAt(text, path);
  if (!place) throw new JsonFault(path === undefined ? "is empty" : `has no member ${path}`);
  const { from, to } = place;
  if (path === undefined && text.slice(to).trim() !== "") throw new JsonFault("has text behind its end");
  if (text[from] === "[") return listOf(text, from);
  if (text[from] === "{") return [text.slice(from, to)];
  throw new JsonFault(path === undefined ? "is neither a list nor an object" : `holds no list at ${path}`);
}

/** The texts of a list that stands at a path; null where there is none. */
export function listAt(text: string, path: string): string[] | null {
  const place = placeAt(text, path);
  if (!place || text[place.from] !== "[") return null;
  return listOf(text, place.from).flatMap((value) => written(value, 0, value.length).value ?? []);
}
