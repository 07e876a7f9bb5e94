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

/**
 * The records that a record holds as a list, each as its JSON was written, with some of the record's own members before its
 * own; none where there is no list. A record that can't be taken apart is given itself, so that it does not go unseen.
 * @param each where the list stands: a member's name, or several with points between
 * @param keep names of the record's own members that go along
 */
export function childrenOf(record: string, each: string, keep: readonly string[]): string[] {
  try {
    const place = placeAt(record, each);
    if (!place) return [];
    if (record[place.from] !== "[") return [record];
    const kept = keep.map((name) => {
      const at = placeOf(record, [name]);
      return `${JSON.stringify(name)}:${at ? record.slice(at.from, at.to) : "null"}`;
    });
    return listOf(record, place.from).map((child) => {
      if (kept.length === 0 || !child.startsWith("{")) return child;
      const rest = child.slice(1).trimStart();
      return `{${kept.join(",")}${rest.startsWith("}") ? "" : ","}${rest}`;
    });
  } catch (error) {
    if (!(error instanceof JsonFault)) throw error;
    return [record];
  }
}

/** The texts of a list that stands at a path; null where there is none. */
export function listAt(text: string, path: string): string[] | null {
  const place = placeAt(text, path);
  if (!place || text[place.from] !== "[") return null;
  return listOf(text, place.from).flatMap((value) => written(value, 0, value.length).value ?? []);
}
