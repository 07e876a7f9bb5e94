/** What changed in a set since a link was given, as OData 4 tells it (Protocol, section 11.3; JSON Format, sections 14 and 15). */

/** What asks that an answer ends in a link to what changes from then on, and where that link stands. */
export const trackChanges = "odata.track-changes";
export const deltaLink = "@odata.deltaLink";

/** What an entry of a list of changes tells: a record as it is now, one that is gone, or how records belong together. */
export type Change =
  | { kind: "record"; key: string[] }
  | { kind: "gone"; key: string[] }
  | { kind: "link" }
  /** it says no key, or not all that was asked for */
  | { kind: "partial" };

/** A literal of a key as its value's text: a text without its quotes, a value of a named type without that. */
function literalText(literal: string): string {
  const [, quoted] = /^[\w.]*'(.*)'$/s.exec(literal) ?? [];
  return quoted === undefined ? literal : quoted.replaceAll("''", "'");
}

/**
 * The values of a key in an entity's address, such as `Shifts(PersonId=3,Number=7)` or `People('Åse')`, in the order of the
 * key's members (URL Conventions, section 4.3.1); null where it does not name each of them.
 */
export function keyInAddress(address: string, members: readonly string[]): string[] | null {
  let segment: string;
  try {
    segment = decodeURIComponent(address.replace(/[?#].*$/s, "").replace(/^.*\//s, ""));
  } catch {
    return null;
  }
  const [, inside] = /^[^(]*\((.*)\)$/s.exec(segment) ?? [];
  // Where keys are segments of the path, the last is one.
  if (inside === undefined) return members.length === 1 && segment !== "" ? [segment] : null;
  const pairs = inside.matchAll(/\s*(?:([\p{L}_][\p{L}\p{N}_]*)=)?((?:[\w.]*'(?:[^']|'')*')|[^',=]+)\s*(,|$)/guy);
  const values = new Map<string, string>();
  let length = 0;
  for (const [whole, member = "", literal = ""] of pairs) {
    length += whole.length;
    values.set(member, literalText(literal.trim()));
  }
  if (length !== inside.length) return null;
  const only = values.get("");
  if (only !== undefined) return members.length === 1 && values.size === 1 ? [only] : null;
  const key = members.flatMap((member) => values.get(member) ?? []);
  return key.length === members.length && values.size === members.length ? key : null;
}

/**
 * Reads one entry of a list of changes.
 * @param values its members' texts, null for JSON's null
 * @param keys the members that identify a record
 * @param asked all members that a record must say, those among them
 */
export function readChange(
  values: ReadonlyMap<string, string | null>,
  keys: readonly string[],
  asked: readonly string[],
): Change {
  const told = (name: string) => values.get(`@odata.${name}`) ?? values.get(`@${name}`) ?? null;
  const context = told("context") ?? "";
  if (/\/\$(link|deletedLink)$/.test(context)) return { kind: "link" };
  const own = keys.flatMap((key) => values.get(key) ?? []);
  const named = context.endsWith("/$deletedEntity") ? (values.get("id") ?? null) : null;
  if (named !== null || told("removed") !== null) {
    const address = named ?? told("id") ?? values.get("id");
    // What is named by its address says nothing else; its member `id` is that.
    const key = named === null && own.length === keys.length ? own : address ? keyInAddress(address, keys) : null;
    return key ? { kind: "gone", key } : { kind: "partial" };
  }
  // Of a record that changed a service may tell the changed members alone.
  return own.length === keys.length && asked.every((member) => values.has(member))
    ? { kind: "record", key: own }
    : { kind: "partial" };
}
