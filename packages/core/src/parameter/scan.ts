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

/** A part of SQL: a value that is named (`:region`), a constant, or anything else that is one word. */
interface Token extends Omit<Mention, "name"> {
  kind: "value" | "string" | "number" | "name" | "sign";
  /** the value's name, a plain string's content, a number as it is written, else nothing that matters */
  text: string;
}

/** A number as PostgreSQL writes it, where no name goes before. */
const numeral = /(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?/y;

/** SQL in its parts, by PostgreSQL's lexical rules (chapter 4.1 of its manual); comments are none. */
function tokens(sql: string): Token[] {
  const found: Token[] = [];
  const open: Bracket[] = [];
  const push = (kind: Token["kind"], from: number, to: number, text = "") => {
    found.push({ kind, from, to, text });
    return to;
  };
  for (let here = 0; here < sql.length; ) {
    const sign = sql[here] ?? "";
    const fresh = here === 0 || !inName.test(sql[here - 1] ?? "");
    const name = fresh ? at(word, sql, here) : null;
    if (name) {
      // A prefix of a string belongs to it: E'…', B'…', N'…'.
      const quoted = sql[here + name.length] === "'" && /^(e|b|x|n)$/i.test(name);
      here = quoted
        ? push("sign", here, endOfQuoted(sql, here + name.length, /^e$/i.test(name)))
        : push("name", here, here + name.length, name.toLowerCase());
      continue;
    }
    if (sign === "'" || sign === '"') {
      const end = endOfQuoted(sql, here, false);
      // After U& it is one of Unicode's escapes.
      const plain = sign === "'" && sql[here - 1] !== "&";
      here = push(
        plain ? "string" : "name",
        here,
        end,
        plain ? sql.slice(here + 1, end - 1).replaceAll("''", "'") : "",
      );
      continue;
    }
    if (sql.startsWith("--", here) || sql.startsWith("/*", here)) {
      here = endOfComment(sql, here);
      continue;
    }
    const tag = sign === "$" && fresh ? at(dollar, sql, here) : null;
    if (tag) {
      const end = sql.indexOf(tag, here + tag.length);
      here = push("sign", here, end < 0 ? sql.length : end + tag.length);
      continue;
    }
    const digits = fresh ? at(numeral, sql, here) : null;
    if (digits) {
      here = push("number", here, here + digits.length, digits);
      continue;
    }
    const bracket = open.at(-1);
    if (sign === ":") {
      if (sql[here + 1] === ":" || sql[here + 1] === "=") {
        here = push("sign", here, here + 2, "::");
        continue;
      }
      if (bracket?.kind === "subscript" && !bracket.parted) {
        bracket.parted = true;
        here = push("sign", here, here + 1);
        continue;
      }
      const value = at(word, sql, here + 1);
      if (value) {
        here = push("value", here, here + 1 + value.length, value);
        continue;
      }
    }
    const before = found.at(-1)?.text ?? "";
    if (sign === "[") {
      const inside = bracket?.kind === "array" && ["[", ","].includes(before);
      open.push({ kind: before === "array" || inside ? "array" : "subscript", parted: false });
    } else if (sign === "(") open.push({ kind: "round", parted: false });
    else if (sign === "]" || sign === ")") open.pop();
    here = /\s/.test(sign) ? here + 1 : push("sign", here, here + 1, sign);
  }
  return found;
}

/**
 * Where SQL names values (`:region`): not in strings of any kind, quoted names or comments, not the type of a cast
 * (`a::date`), and not the second bound of a slice (`a[1:n]`; write `a[1:(:n)]` for a value there).
 */
export function valuesIn(sql: string): Mention[] {
  return tokens(sql)
    .filter(({ kind }) => kind === "value")
    .map(({ text, from, to }) => ({ name: text, from, to }));
}

/** A constant in SQL that a parameter could stand for. */
export interface Constant extends Omit<Mention, "name"> {
  kind: "string" | "number";
  /** the string's content, or the number as it is written */
  text: string;
}

/** The constants of SQL: plain strings and numbers, but no part of a type (`numeric(12,2)`) or of a cast string (`'…'::interval`). */
export function constantsIn(sql: string): Constant[] {
  const all = tokens(sql);
  const typed = new Set<number>();
  all.forEach(({ text }, place) => {
    if (text !== "::") return;
    typed.add(place - 1);
    // What stands in the brackets behind a type are its lengths.
    let inside = all[place + 2]?.text === "(" ? place + 3 : -1;
    while (inside > 0 && inside < all.length && all[inside]?.text !== ")") typed.add(inside++);
  });
  return all.flatMap(({ kind, text, from, to }, place) =>
    (kind === "string" || kind === "number") && !typed.has(place) ? [{ kind, text, from, to }] : [],
  );
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
