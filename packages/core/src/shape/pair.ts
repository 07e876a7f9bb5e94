import { conversion, keeps } from "../sql/convert.ts";
import { shortType, typeFamily } from "../sql/type.ts";

/** A column of either side, as pairing sees it. */
export interface PairColumn {
  name: string;
  type: string;
}

/** A source column that may be a warehouse column's, and why. */
export interface PairSuggestion {
  source: string;
  target: string;
  /** from 0 to 1 */
  score: number;
  why: string;
}

/** Below this a likeness is chance. */
const threshold = 0.45;

/** A name's words in small letters: `FareCents`, `fare_cents` and `FARE CENTS` are the same two. */
export function nameWords(name: string): string[] {
  return name
    .normalize("NFKD")
    .replace(/[\u0300-\u036f]/g, "")
    .replace(/([\p{Ll}\p{N}])(\p{Lu})/gu, "$1 $2")
    .replace(/(\p{Lu})(\p{Lu}\p{Ll})/gu, "$1 $2")
    .toLowerCase()
    .split(/[^\p{L}\p{N}]+/u)
    .filter(Boolean);
}

/** True where the short word is the long one with letters left out: `amt` of `amount`, `qty` of `quantity`. */
export function abbreviates(short: string, long: string): boolean {
  if (short.length < 2 || short.length >= long.length || short[0] !== long[0]) return false;
  let at = 0;
  for (const letter of long) if (letter === short[at]) at++;
  return at === short.length;
}

/** How alike two names are, and in what way. */
function likeness(source: string, target: string): { score: number; why: string } {
  if (source === target) return { score: 1, why: "the same name" };
  const [a, b] = [nameWords(source), nameWords(target)];
  if (a.length === 0 || b.length === 0) return { score: 0, why: "" };
  if (a.join("") === b.join("")) return { score: 0.97, why: "the same name in another style" };
  const [shorter, longer] = a.length <= b.length ? [a, b] : [b, a];
  const tail = longer.slice(longer.length - shorter.length);
  if (shorter.length < longer.length && shorter.join(" ") === tail.join(" "))
    return {
      score: 0.6 + 0.25 * (shorter.length / longer.length),
      why: `the same but for “${longer.slice(0, longer.length - shorter.length).join(" ")}” in front`,
    };
  if (
    a.length === b.length &&
    a.every((word, at) => word === b[at] || abbreviates(word, b[at] ?? "") || abbreviates(b[at] ?? "", word))
  )
    return { score: 0.82, why: "one name abbreviates the other" };
  const abbreviated = shorter.every((word) =>
    longer.some((other) => other === word || abbreviates(word, other) || abbreviates(other, word)),
  );
  if (abbreviated)
    return { score: 0.5 + 0.2 * (shorter.length / longer.length), why: "the words of one are among the other's" };
  const shared = a.filter((word) => b.includes(word)).length;
  return {
    score: (0.8 * shared) / new Set([...a, ...b]).size,
    why: `they share “${a.filter((word) => b.includes(word)).join(" ")}”`,
  };
}

/** How well the values fit: a factor, and what is to be said about it. */
function fit(source: string, target: string): { factor: number; why: string } {
  if (keeps(target, source))
    return { factor: 1, why: source === target ? "" : `${shortType(source)} fits ${shortType(target)}` };
  const { code } = conversion("v", source, target);
  if (typeFamily(source) === "text" || code !== "type")
    return { factor: 0.9, why: `${shortType(source)} is checked row by row against ${shortType(target)}` };
  return { factor: 0.6, why: `${shortType(source)} is not of a kind with ${shortType(target)}` };
}

/** How likely a source column is a warehouse column's. */
export function scorePair(source: PairColumn, target: PairColumn): PairSuggestion {
  const named = likeness(source.name, target.name);
  const fitting = fit(source.type, target.type);
  return {
    source: source.name,
    target: target.name,
    score: named.score * fitting.factor,
    why: [named.why, fitting.why].filter(Boolean).join("; "),
  };
}

/**
 * The best pairs of source and warehouse columns, each column in one pair at most, the likeliest first.
 * Method: greedy assignment by score; equal scores keep the order of the columns.
 */
export function suggestPairs(sources: readonly PairColumn[], targets: readonly PairColumn[]): PairSuggestion[] {
  const all = targets
    .flatMap((target) => sources.map((source) => scorePair(source, target)))
    .filter((pair) => pair.score >= threshold);
  const taken = { source: new Set<string>(), target: new Set<string>() };
  return all
    .sort((a, b) => b.score - a.score)
    .filter((pair) => {
      if (taken.source.has(pair.source) || taken.target.has(pair.target)) return false;
      taken.source.add(pair.source);
      taken.target.add(pair.target);
      return true;
    });
}
