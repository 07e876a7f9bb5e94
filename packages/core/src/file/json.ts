import { longestRecord, TooLong } from "./records.ts";

/** Records of JSON (RFC 8259), taken apart without a value being changed: a number stays the digits that were written. */

/** A record's members by name, each as text; what holds others is their JSON as written, in `nested`. Null is null. */
export interface Members {
  values: Map<string, string | null>;
  nested: ReadonlySet<string>;
}

const space = /[ \t\n\r]*/y;
const number = /-?(?:0|[1-9]\d*)(?:\.\d+)?(?:[eE][-+]?\d+)?/y;
// biome-ignore lint/suspicious/noControlCharactersInRegex: JSON's strings hold none.
const string = /"(?:[^"\\\u0000-\u001f]|\\(?:["\\/bfnrt]|u[0-9a-fA-F]{4}))*"/y;
const word = /true|false|null/y;

/** What is no JSON object, in words that follow its place. */
export class JsonFault extends Error {}

class Scanner {
  at = 0;
  constructor(readonly text: string) {}

  take(form: RegExp): string | null {
    form.lastIndex = this.at;
    const found = form.exec(this.text)?.[0] ?? null;
    if (found !== null) this.at += found.length;
    return found;
  }

  /** The next sign after any space, without taking it. */
  next(): string | undefined {
    this.take(space);
    return this.text[this.at];
  }

  /** True where the next sign is this one, which is then taken. */
  sign(one: string): boolean {
    if (this.next() !== one) return false;
    this.at++;
    return true;
  }

  /** Passes one value of any kind. */
  value(depth: number): void {
    const next = this.next();
    if (depth > 500) throw new JsonFault("is nested more than 500 deep");
    if (next === "{") this.object((_name) => this.value(depth + 1));
    else if (next === "[") {
      this.at++;
      if (this.sign("]")) return;
      do this.value(depth + 1);
      while (this.sign(","));
      if (!this.sign("]")) throw new JsonFault("has a list that does not end");
    } else if (this.take(next === '"' ? string : word) === null && this.take(number) === null)
      throw new JsonFault("is no JSON");
  }

  /** Passes an object; `member` passes the value of each. */
  object(member: (name: string) => void): void {
    if (!this.sign("{")) throw new JsonFault("is no JSON object");
    if (this.sign("}")) return;
    do {
      this.take(space);
      const name = this.take(string);
      if (name === null || !this.sign(":")) throw new JsonFault("is no JSON");
      member(JSON.parse(name) as string);
    } while (this.sign(","));
    if (!this.sign("}")) throw new JsonFault("has an object that does not end");
  }
}

/** Takes a record apart. @throws JsonFault where it is no JSON object, or names a member twice */
export function membersOf(text: string): Members {
  const scanner = new Scanner(text);
  const values = new Map<string, string | null>();
  const nested = new Set<string>();
  scanner.object((name) => {
    if (values.has(name)) throw new JsonFault(`names ${name} twice`);
    const next = scanner.next();
    const from = scanner.at;
    scanner.value(1);
    const written = text.slice(from, scanner.at);
    if (next === "{" || next === "[") nested.add(name);
    values.set(name, next === '"' ? (JSON.parse(written) as string) : written === "null" ? null : written);
  });
  if (scanner.next() !== undefined) throw new JsonFault("has text behind its end");
  return { values, nested };
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
