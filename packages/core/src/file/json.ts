import { longestRecord, TooLong } from "./records.ts";

/** Records of JSON (RFC 8259), taken apart without a value being changed: a number stays the digits that were written. */

/** A record's members by name, each as text; what holds others is their JSON as written, in `nested`. Null is null. */
export interface Members {
  values: Map<string, string | null>;
  nested: ReadonlySet<string>;
}

/** What is no JSON object, in words that follow its place. */
export class JsonFault extends Error {}

const number = /^-?(?:0|[1-9]\d*)(?:\.\d+)?(?:[eE][-+]?\d+)?$/;
// biome-ignore lint/suspicious/noControlCharactersInRegex: JSON's strings hold none.
const control = /[\u0000-\u001f]/;
/** Objects and lists within each other deeper than this are refused. */
const deepest = 500;

const [tab, newline, carriage, blank, quote, comma, colon, backslash] = [9, 10, 13, 32, 34, 44, 58, 92];
const letterN = 110;
const [listBegins, listEnds, objectBegins, objectEnds] = [91, 93, 123, 125];

/** The place of the next sign that is no space. */
export function passSpace(text: string, from: number): number {
  let at = from;
  for (; at < text.length; at++) {
    const sign = text.charCodeAt(at);
    if (sign !== blank && sign !== newline && sign !== tab && sign !== carriage) break;
  }
  return at;
}

/** The place behind a string that begins at a place. Most are short, of which a look at each sign is quicker than a search. */
function passString(text: string, from: number): number {
  for (let at = from + 1; at < text.length; at++) {
    const sign = text.charCodeAt(at);
    if (sign === quote) return at + 1;
    if (sign === backslash) at++;
  }
  throw new JsonFault("is no JSON");
}

/** The place behind an object or a list that begins at a place; that what it holds is JSON is not looked at. */
function passNested(text: string, from: number): number {
  let depth = 0;
  for (let at = from; at < text.length; at++) {
    const sign = text.charCodeAt(at);
    if (sign === quote) at = passString(text, at) - 1;
    else if (sign === objectBegins || sign === listBegins) {
      if (++depth > deepest) throw new JsonFault(`is nested more than ${deepest} deep`);
    } else if ((sign === objectEnds || sign === listEnds) && --depth === 0) return at + 1;
  }
  throw new JsonFault(
    text.charCodeAt(from) === listBegins ? "has a list that does not end" : "has an object that does not end",
  );
}

/** The place behind a value of any kind. */
export function passValue(text: string, from: number): number {
  const sign = text.charCodeAt(from);
  if (sign === quote) return passString(text, from);
  if (sign === objectBegins || sign === listBegins) return passNested(text, from);
  let at = from;
  for (; at < text.length; at++) {
    const next = text.charCodeAt(at);
    if (next === comma || next === objectEnds || next === listEnds || next <= blank) break;
  }
  return at;
}

/** True for a text whose strings are all written as they read: nothing in it is escaped, and no sign is one that must be. */
const isPlain = (text: string) => !text.includes("\\") && !control.test(text);

/** A string's text, of a place and the one behind it. */
function textOf(text: string, from: number, to: number, plain: boolean): string {
  const inner = text.slice(from + 1, to - 1);
  if (plain || isPlain(inner)) return inner;
  try {
    return JSON.parse(text.slice(from, to)) as string;
  } catch {
    throw new JsonFault("is no JSON");
  }
}

/** Passes an object's members; `member` is told each one's name and where its value begins, and gives the place behind it. @returns the place behind the object */
export function passMembers(
  text: string,
  from: number,
  plain: boolean,
  member: (name: string, at: number) => number,
): number {
  if (text.charCodeAt(from) !== objectBegins) throw new JsonFault("is no JSON object");
  let at = passSpace(text, from + 1);
  if (text.charCodeAt(at) === objectEnds) return at + 1;
  for (;;) {
    if (text.charCodeAt(at) !== quote) throw new JsonFault("is no JSON");
    const named = passString(text, at);
    const name = textOf(text, at, named, plain);
    at = passSpace(text, named);
    if (text.charCodeAt(at) !== colon) throw new JsonFault("is no JSON");
    at = passSpace(text, member(name, passSpace(text, at + 1)));
    const sign = text.charCodeAt(at);
    if (sign === objectEnds) return at + 1;
    if (sign !== comma) throw new JsonFault(at < text.length ? "is no JSON" : "has an object that does not end");
    at = passSpace(text, at + 1);
  }
}

/** Passes a list that begins at a place; `value` is told where each of its values begins, and the place behind it. @returns the place behind the list */
export function passList(text: string, from: number, value: (from: number, to: number) => void): number {
  let at = passSpace(text, from + 1);
  if (text.charCodeAt(at) === listEnds) return at + 1;
  for (;;) {
    const end = passValue(text, at);
    if (end === at) throw new JsonFault("is no JSON");
    value(at, end);
    at = passSpace(text, end);
    const sign = text.charCodeAt(at);
    if (sign === listEnds) return at + 1;
    if (sign !== comma) throw new JsonFault(at < text.length ? "is no JSON" : "has a list that does not end");
    at = passSpace(text, at + 1);
  }
}

/** The values of a list that begins at a place, each as it was written. */
export function listOf(text: string, from: number): string[] {
  const values: string[] = [];
  passList(text, from, (begins, ends) => values.push(text.slice(begins, ends)));
  return values;
}

/** A value's text, of a place and the one behind it: what holds others as it was written, a string without its quotes, nothing for null. */
export function written(
  text: string,
  from: number,
  to: number,
  plain = false,
): { value: string | null; nested: boolean } {
  const sign = text.charCodeAt(from);
  if (sign === quote) return { value: textOf(text, from, to, plain), nested: false };
  const value = text.slice(from, to);
  if (sign === objectBegins || sign === listBegins) {
    try {
      JSON.parse(value);
    } catch {
      throw new JsonFault("is no JSON");
    }
    return { value, nested: true };
  }
  if (sign === letterN && value === "null") return { value: null, nested: false };
  if (value !== "true" && value !== "false" && !number.test(value)) throw new JsonFault("is no JSON");
  return { value, nested: false };
}

/** Takes a record apart. @throws JsonFault where it is no JSON object, or names a member twice */
export function membersOf(text: string): Members {
  const values = new Map<string, string | null>();
  const nested = new Set<string>();
  const plain = isPlain(text);
  const end = passMembers(text, passSpace(text, 0), plain, (name, at) => {
    if (values.has(name)) throw new JsonFault(`names ${name} twice`);
    const behind = passValue(text, at);
    const one = written(text, at, behind, plain);
    if (one.nested) nested.add(name);
    values.set(name, one.value);
    return behind;
  });
  if (passSpace(text, end) < text.length) throw new JsonFault("has text behind its end");
  return { values, nested };
}

/** The fields of a record, each at the place of its name, and the places of those that hold others. */
export interface Fields {
  fields: (string | null)[];
  nested: number[];
}

/**
 * Takes records apart whose members are known and come in their order, some of them missing: most of an answer's are such. Of
 * any other it says nothing, and `membersOf` tells what it is; of those that it takes it says the same.
 */
export class ExpectedMembers {
  private readonly quoted: readonly string[];

  constructor(names: readonly string[]) {
    this.quoted = names.map((name) => JSON.stringify(name));
  }

  /** Null for a record that `membersOf` is to be asked of. */
  read(text: string): Fields | null {
    if (!isPlain(text)) return null;
    try {
      return this.readPlain(text);
    } catch (error) {
      if (error instanceof JsonFault) return null;
      throw error;
    }
  }

  private readPlain(text: string): Fields | null {
    const { quoted } = this;
    const fields: (string | null)[] = quoted.map(() => null);
    const nested: number[] = [];
    let at = passSpace(text, 0);
    if (text.charCodeAt(at) !== objectBegins) return null;
    at = passSpace(text, at + 1);
    for (let place = 0; ; place++) {
      let name = quoted[place];
      while (name !== undefined && !text.startsWith(name, at)) name = quoted[++place];
      if (name === undefined) return null;
      at = passSpace(text, at + name.length);
      if (text.charCodeAt(at) !== colon) return null;
      at = passSpace(text, at + 1);
      const behind = passValue(text, at);
      const { value, nested: holds } = written(text, at, behind, true);
      fields[place] = value;
      if (holds) nested.push(place);
      at = passSpace(text, behind);
      const sign = text.charCodeAt(at);
      if (sign === objectEnds) return passSpace(text, at + 1) < text.length ? null : { fields, nested };
      if (sign !== comma) return null;
      at = passSpace(text, at + 1);
    }
  }
}

/** The place where a value stands at a path of members; null where there is none, or null. What stands beside is passed over unread. */
export function placeOf(text: string, path: readonly string[]): { from: number; to: number } | null {
  let from = passSpace(text, 0);
  for (const name of path) {
    let found = -1;
    if (text.charCodeAt(from) !== objectBegins) return null;
    passMembers(text, from, false, (own, at) => {
      if (own === name) found = at;
      return passValue(text, at);
    });
    if (found < 0) return null;
    from = found;
  }
  const to = passValue(text, from);
  return to === from || text.slice(from, to) === "null" ? null : { from, to };
}

/**
 * A record's members, those of objects within it under both names: `outer_inner`. Lists stay as they are.
 * @throws JsonFault where two ways lead to one name
 */
export function flattenedMembers(text: string): Members {
  const { values, nested } = membersOf(text);
  const flat = new Map<string, string | null>();
  const holding = new Set<string>();
  const put = (name: string, value: string | null, holds: boolean) => {
    if (flat.has(name)) throw new JsonFault(`has ${name} twice: by itself, and within another member`);
    flat.set(name, value);
    if (holds) holding.add(name);
  };
  for (const [name, value] of values) {
    if (!nested.has(name) || !value?.startsWith("{")) put(name, value, nested.has(name));
    else {
      const inner = flattenedMembers(value);
      for (const [own, held] of inner.values) put(`${name}_${own}`, held, inner.nested.has(own));
    }
  }
  return { values: flat, nested: holding };
}

/** A record's text with its number, from 1. */
export interface JsonText {
  text: string;
  number: number;
}

/** Cuts lines out of a text that comes in pieces; empty ones are passed over, and counted. */
export class JsonLines {
  private rest = "";
  private number = 0;

  *read(piece: string, last: boolean): Generator<JsonText> {
    const lines = (this.rest + piece).split("\n");
    this.rest = last ? "" : (lines.pop() ?? "");
    if (this.rest.length > 2 * longestRecord) throw new TooLong(this.number + lines.length + 1);
    for (const line of lines) {
      this.number++;
      if (line.trim()) yield { text: line, number: this.number };
    }
  }
}

/** Cuts the members of a list out of a text that comes in pieces; a text that is no list is one record. */
export class JsonList {
  private rest = "";
  private number = 0;
  private depth = 0;
  private quoted = false;
  private list: boolean | null = null;
  /** how far the rest has been looked at, and where its record begins */
  private at = 0;
  private from: number | null = null;

  *read(piece: string, last: boolean): Generator<JsonText> {
    this.rest += piece;
    for (; this.at < this.rest.length; this.at++) {
      const sign = this.rest[this.at] ?? "";
      if (this.quoted) {
        if (sign === "\\") {
          // What is escaped may come with the next piece.
          if (this.at + 1 >= this.rest.length && !last) break;
          this.at++;
        } else if (sign === '"') this.quoted = false;
        continue;
      }
      if (this.list === null) {
        if (/\s/.test(sign)) continue;
        this.list = sign === "[";
        if (this.list) continue;
      }
      if (this.depth === 0 && this.list && (sign === "," || sign === "]")) {
        yield* this.cut(this.at);
        continue;
      }
      if (this.from === null && !/\s/.test(sign)) this.from = this.at;
      if (sign === '"') this.quoted = true;
      else if (sign === "{" || sign === "[") this.depth++;
      else if (sign === "}" || sign === "]") this.depth--;
    }
    if (last) yield* this.cut(this.rest.length);
    if (this.rest.length - (this.from ?? this.at) > 2 * longestRecord) throw new TooLong(this.number + 1);
    // What has been given is not kept.
    const keep = this.from ?? this.at;
    this.rest = this.rest.slice(keep);
    this.at -= keep;
    if (this.from !== null) this.from = 0;
  }

  private *cut(to: number): Generator<JsonText> {
    const text = this.from === null ? "" : this.rest.slice(this.from, to).trim();
    this.from = null;
    if (text) yield { text, number: ++this.number };
  }
}
