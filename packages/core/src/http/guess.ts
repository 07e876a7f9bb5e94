import { namedFor } from "../dataset/naming.ts";
import { JsonFault, membersOf } from "../file/json.ts";
import type { PageForm } from "../pipeline/pipeline.ts";
import { Body } from "./body.ts";
import { linksOf } from "./link.ts";

/** What an answer of an unknown application seems to be: where its records are, and how the next page might be asked for. */
export interface Guess {
  records: string | null;
  /** ways to the next page, the likeliest first; each is to be tried */
  pages: PageForm[];
}

/** How deep records and the way to the next page are looked for. */
const deepest = 3;

/** Every member of an answer that is no list, by its path, with what it holds. */
function* walk(text: string, path: string[] = []): Generator<{ path: string; value: string; nested: boolean }> {
  if (path.length > deepest || !text.trimStart().startsWith("{")) return;
  const { values, nested } = membersOf(text);
  for (const [name, value] of values) {
    if (value === null || /[.\s]/.test(name)) continue;
    const own = [...path, name];
    yield { path: own.join("."), value, nested: nested.has(name) };
    if (nested.has(name) && value.startsWith("{")) yield* walk(value, own);
  }
}

/** How many objects a list holds; null for what is no list of objects. */
function objectsIn(text: string): number | null {
  if (!text.startsWith("[")) return null;
  const records = new Body(text).records(undefined);
  return records.every((record) => record.startsWith("{")) ? records.length : null;
}

/** Parameters that send a cursor back, by the last word of the member that holds it. */
const cursors: Record<string, string[]> = {
  next: ["after", "cursor", "next"],
  next_cursor: ["cursor", "after"],
  nextcursor: ["cursor", "after"],
  end_cursor: ["after", "cursor"],
  endcursor: ["after", "cursor"],
  cursor: ["cursor", "after"],
  after: ["after"],
  next_page_token: ["page_token"],
  nextpagetoken: ["pageToken"],
  next_token: ["next_token", "token"],
  nexttoken: ["nextToken", "token"],
  continuation: ["continuation"],
  continuation_token: ["continuation_token"],
  continuationtoken: ["continuationToken"],
};

const isAddress = (value: string) => /^(https?:\/\/|\/|\?)/.test(value);
const sizeNames = /^(limit|per_?page|page_?size|size|count|top|max_?results)$/i;

/**
 * Looks at an answer for its records and the way to the next page.
 * @param address what was asked for; its parameters may count pages already
 * @throws JsonFault where the answer is no JSON
 */
export function guessAnswer(
  address: string,
  headers: Readonly<Record<string, string | undefined>>,
  body: string,
): Guess {
  const text = body.trim();
  if (!/^[[{]/.test(text)) throw new JsonFault("is no JSON");
  const members = [...walk(text)];
  const lists = members.flatMap(({ path, value, nested }) => {
    const objects = nested ? objectsIn(value) : null;
    return objects === null ? [] : [{ path, objects }];
  });
  // An empty list says least; of several the longest holds the records.
  const [longest] = lists.toSorted((a, b) => b.objects - a.objects || a.path.length - b.path.length);
  const records = text.startsWith("[") ? null : (longest?.path ?? null);
  const count = text.startsWith("[") ? (objectsIn(text) ?? 0) : (longest?.objects ?? 0);
  const query = [...new URL(address).searchParams.keys()];
  const sized = query.find((name) => sizeNames.test(name));
  const size = {
    ...(sized ? { size: Number(new URL(address).searchParams.get(sized)) || count, sizeAs: sized } : {}),
  };
  const pages: PageForm[] = [];
  if (linksOf(headers.link ?? "").has("next")) pages.push({ link: true });
  for (const { path, value, nested } of members) {
    const name = path.split(".").at(-1)?.toLowerCase() ?? "";
    if (nested || value === "") continue;
    if (/next|href/.test(name) && /next/i.test(path) && isAddress(value)) pages.push({ next: path });
    else if (Object.hasOwn(cursors, name) && !isAddress(value) && !/^(true|false)$/.test(value))
      for (const as of cursors[name] ?? []) pages.push({ cursor: path, as, ...size });
  }
  const named = (pattern: RegExp) =>
    query.find((name) => pattern.test(name)) ??
    members
      .find(({ path }) => pattern.test(path.split(".").at(-1) ?? ""))
      ?.path.split(".")
      .at(-1);
  const number = named(/^page(_?number)?$/i);
  const offset = named(/^(offset|skip|start)$/i);
  const full = size.size ?? count;
  const paged = { ...(full > 0 ? { size: full } : {}), sizeAs: sized ?? "limit" };
  if (number) pages.push({ number, ...(sized ? paged : full > 0 ? { size: full } : {}) });
  if (offset) pages.push({ offset, ...(full > 0 ? paged : {}) });
  if (pages.length === 0 && count > 1) pages.push({ number: "page", size: count }, { offset: "offset", ...paged });
  return { records, pages };
}

/** Which members of records seem to identify one, and to tell of its changes; null where none does. */
export function guessFields(records: readonly string[]): { key: string | null; changes: string | null } {
  const taken = records.map((record) => membersOf(record));
  const [first] = taken;
  if (!first) return { key: null, changes: null };
  const names = [...first.values.keys()];
  const told = (name: string) =>
    taken.map(({ values, nested }) => (nested.has(name) ? null : (values.get(name) ?? null)));
  const identifies = names.filter((name) => {
    const values = told(name);
    return values.every((value) => value !== null && value !== "") && new Set(values).size === values.length;
  });
  const rank = (name: string) =>
    /^id$/i.test(name)
      ? 0
      : /^(uuid|guid|key)$/i.test(name)
        ? 1
        : /(^|_)id$|Id$/.test(name)
          ? 2
          : /(no|number|code)$/i.test(name)
            ? 3
            : 9;
  const [key = null] = identifies.filter((name) => rank(name) < 9).toSorted((a, b) => rank(a) - rank(b));
  const moments = names.filter((name) =>
    told(name).every((value) => value !== null && /^\d{4}-\d\d-\d\dT?\s?\d\d:\d\d/.test(value)),
  );
  const changes = moments.find((name) => namedFor(name) === "changes") ?? null;
  return { key, changes };
}

/** Parameters by which applications are asked for what changed only, the likeliest first. */
export const sinceNames = (field: string) => [
  `${field}_since`,
  `${field.replace(/_(at|on|time)$/, "")}_after`,
  `${field.replace(/_(at|on|time)$/, "")}_since`,
  "updated_after",
  "updated_since",
  "modified_since",
  "changed_since",
  "since",
];
