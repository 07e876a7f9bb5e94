/** The place of a parameter in a text, and its name: `:region` in SQL, `{region}` in a name. */
export interface Mention {
  name: string;
  /** the offset of its first character, and of the first after it */
  from: number;
  to: number;
}

const word = /[A-Za-z_][A-Za-z0-9_]*/y;
const dollar = /\$([A-Za-z_\u0080-\uffff][A-Za-z0-9_\u0080-\uffff]*)?\$/y;
/** a letter, digit or another character that goes on with a name */
const inName = /[A-Za-z0-9_$\u0080-\uffff]/;

function at(pattern: RegExp, sql: string, place: number): string | null {
  pattern.lastIndex = place;
  return pattern.exec(sql)?.[0] ?? null;
}

/** The end of a quoted part that begins at `place`; its doubled quotes, and escapes where there are any, are part of it. */
function endOfQuoted(sql: string, place: number, escapes: boolean): number {
  const quote = sql[place];
  for (let here = place + 1; here < sql.length; here++) {
    if (escapes && sql[here] === "\\") here++;
    else if (sql[here] === quote) {
      if (sql[here + 1] !== quote) return here + 1;
      here++;
    }
  }
  return sql.length;
}

/** The end of a comment that begins at `place`; in PostgreSQL those between slashes nest. */
function endOfComment(sql: string, place: number): number {
  if (sql.startsWith("--", place)) {
    const end = sql.indexOf("\n", place);
    return end < 0 ? sql.length : end;
  }
  let depth = 0;
  for (let here = place; here < sql.length; here++) {
    if (sql.startsWith("/*", here)) {
      depth++;
      here++;
    } else if (sql.startsWith("*/", here)) {
      depth--;
      here++;
      if (depth === 0) return here + 1;
    }
  }
  return sql.length;
}

/** A bracket that is open: of an array's members, or of a subscript, whose first colon parts the bounds of a slice. */
interface Bracket {
  kind: "array" | "subscript" | "round";
  parted: boolean;
}

/**
 * Where SQL names values (`:region`), by PostgreSQL's lexical rules (chapter 4.1 of its manual): not in strings of any
 * kind, quoted names or comments, not the type of a cast (`a::date`), and not the second bound of a slice (`a[1:n]`; write
 * `a[1:(:n)]` for a value there).
 */
export function valuesIn(sql: string): Mention[] {
  const found: Mention[] = [];
  const open: Bracket[] = [];
  /** what stood before, which says what a bracket opens: a name, or `array` */
  let before = "";
  for (let here = 0; here < sql.length; ) {
    const sign = sql[here] ?? "";
    const name = at(word, sql, here);
    if (name && (here === 0 || !inName.test(sql[here - 1] ?? ""))) {
      // A prefix of a string belongs to it: E'…', B'…', U&'…'.
      const next = sql[here + name.length];
      if (next === "'" && /^(e|b|x|n)$/i.test(name)) {
        here = endOfQuoted(sql, here + name.length, /^e$/i.test(name));
        before = "string";
        continue;
      }
      before = name.toLowerCase();
      here += name.length;
      continue;
    }
    if (sign === "'" || sign === '"') {
      here = endOfQuoted(sql, here, false);
      before = sign === '"' ? "name" : "string";
      continue;
    }
    if (sql.startsWith("--", here) || sql.startsWith("/*", here)) {
      here = endOfComment(sql, here);
      continue;
    }
    const tag = sign === "$" && !inName.test(sql[here - 1] ?? "") ? at(dollar, sql, here) : null;
    if (tag) {
      const end = sql.indexOf(tag, here + tag.length);
      here = end < 0 ? sql.length : end + tag.length;
      before = "string";
      continue;
    }
    const bracket = open.at(-1);
    if (sign === ":") {
      if (sql[here + 1] === ":" || sql[here + 1] === "=") {
        here += 2;
        before = "";
        continue;
      }
      if (bracket?.kind === "subscript" && !bracket.parted) {
        bracket.parted = true;
        here++;
        before = "";
        continue;
      }
      const value = at(word, sql, here + 1);
      if (value) {
        found.push({ name: value, from: here, to: here + 1 + value.length });
        here += 1 + value.length;
        before = "value";
        continue;
      }
    }
    if (sign === "[") {
      const inside = bracket?.kind === "array" && ["[", ","].includes(before);
      const kind = before === "array" || inside ? "array" : "subscript";
      open.push({ kind, parted: false });
    } else if (sign === "(") open.push({ kind: "round", parted: false });
    else if (sign === "]" || sign === ")") open.pop();
    if (!/\s/.test(sign)) before = sign;
    here++;
  }
  return found;
}

/** Where a name, path or title has holes (`trip_{region}`). */
export function holesIn(text: string): Mention[] {
  return [...text.matchAll(/\{([A-Za-z_][A-Za-z0-9_]*)\}/g)].map((match) => ({
    name: match[1] ?? "",
    from: match.index,
    to: match.index + match[0].length,
  }));
}

/** A text with something in the place of each mention; those that are given nothing for stay. */
export function filled(text: string, mentions: readonly Mention[], give: (name: string) => string | undefined): string {
  let result = "";
  let done = 0;
  for (const { name, from, to } of mentions) {
    const given = give(name);
    if (given === undefined) continue;
    result += text.slice(done, from) + given;
    done = to;
  }
  return result + text.slice(done);
}

/**
 * The place in a text of a place in its filled form, so that an error is told where its author wrote it. What lies in a
 * filled-in value is told at the mention.
 */
export function placeBefore(
  mentions: readonly Mention[],
  give: (name: string) => string | undefined,
  place: number,
): number {
  let shift = 0;
  for (const { name, from, to } of mentions) {
    const given = give(name);
    if (given === undefined) continue;
    const start = from + shift;
    if (place < start) break;
    if (place < start + given.length) return from;
    shift += given.length - (to - from);
  }
  return place - shift;
}
