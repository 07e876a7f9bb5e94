import { PlanError } from "../../plan/error.ts";

/** A piece of SQL: a word, a quoted thing, or a sign. */
interface Piece {
  kind: "word" | "quoted" | "sign";
  text: string;
  at: number;
}

/** Words that stand in no query that only reads. */
const writing = new Set(
  "INTO OUTFILE DUMPFILE UPDATE DELETE LOCK PROCEDURE HANDLER CALL LOAD EXECUTE PREPARE SHARE RETURNING NEXT".split(
    " ",
  ),
);
/** As functions these read; as statements they don't. */
const writingUnlessCalled = new Set(["INSERT", "REPLACE"]);
/** Functions that wait, lock, reach outside the database, or give another value each time. */
const refused = new Set(
  "SLEEP BENCHMARK GET_LOCK RELEASE_LOCK RELEASE_ALL_LOCKS LOAD_FILE NEXTVAL SETVAL LASTVAL LAST_INSERT_ID MASTER_POS_WAIT MASTER_GTID_WAIT SYS_EXEC SYS_EVAL SYS_GET SYS_SET RAND UUID UUID_SHORT SYSDATE RANDOM_BYTES CONNECTION_ID ROW_COUNT FOUND_ROWS".split(
    " ",
  ),
);

/** A character that no text shows, here or right behind `--`, where it makes a comment for the server. */
const control = /^(?:--)?(?![\t\n\v\f\r])\p{Cc}/u;

/**
 * The pieces as the server's own scanner sees them: its blanks and the one that makes `--` a comment are of ASCII, and
 * every sign beyond ASCII is part of a word.
 * @throws PlanError for what the server could take for something else than it looks
 */
function piecesOf(sql: string, path: string[]): Piece[] {
  const pieces: Piece[] = [];
  const wrong = (message: string, at: number) => {
    throw new PlanError(message, path, at);
  };
  let at = 0;
  while (at < sql.length) {
    const rest = sql.slice(at);
    const sign = rest[0] ?? "";
    if (/[ \t\n\v\f\r]/.test(sign)) at++;
    else if (control.test(rest)) wrong("A control character is not taken outside quotes", at);
    else if (/^(--[ \t\n\v\f\r]|--$|#)/.test(rest)) at += /^[^\n\0]*\n?/.exec(rest)?.[0].length ?? 1;
    else if (/^\/\*M?!/.test(rest)) wrong("A comment that the server would run is not taken; write the SQL itself", at);
    else if (rest.startsWith("/*")) {
      const end = sql.indexOf("*/", at + 2);
      if (end < 0) wrong("A comment is not closed", at);
      at = end + 2;
    } else if (sign === "'" || sign === '"' || sign === "`") {
      const quoted = new RegExp(`^${sign}(?:[^${sign}]|${sign}${sign})*${sign}`).exec(rest)?.[0];
      if (!quoted) wrong("A quote is not closed", at);
      pieces.push({ kind: "quoted", text: quoted ?? "", at });
      at += quoted?.length ?? 1;
    } else {
      const word = /^[\w$\u0080-\uffff]+/.exec(rest)?.[0];
      pieces.push({ kind: word ? "word" : "sign", text: word ?? sign, at });
      at += (word ?? sign).length;
    }
  }
  return pieces;
}

/**
 * Admits a query or a condition of MariaDB's own SQL by its form: one statement that reads, without variables, and without
 * functions that wait, lock, reach out, or give another value each time.
 * @returns the names of what it calls, which must be none of the server's own routines
 * @throws PlanError with the place
 */
export function admit(sql: string, path: string[], as: "query" | "condition"): string[] {
  const pieces = piecesOf(sql, path);
  const calls = new Set<string>();
  const wrong = (message: string, at: number) => new PlanError(message, path, at);
  const last = pieces.at(-1);
  if (last?.text === ";" && as === "query") pieces.pop();
  const first = pieces.find(({ text }) => text !== "(");
  if (!first) throw wrong(as === "query" ? "There is no query" : "There is no condition", 0);
  if (as === "query" && !/^(SELECT|WITH)$/i.test(first.text))
    throw wrong("Only a query that reads is taken: SELECT …, or WITH … SELECT", first.at);
  let depth = 0;
  for (const [place, { kind, text, at }] of pieces.entries()) {
    const word = text.toUpperCase();
    const before = pieces[place - 1]?.text;
    const called = pieces[place + 1]?.text === "(";
    if (text === "(") depth++;
    if (text === ")" && --depth < 0) throw wrong("A bracket closes that none opened", at);
    if (text === ";") throw wrong("Only one statement is taken", at);
    if (text === "@" || (text === ":" && pieces[place + 1]?.text === "="))
      throw wrong("Variables are not taken: they outlive the query", at);
    if (kind === "word" && before !== "." && (writing.has(word) || (writingUnlessCalled.has(word) && !called)))
      throw wrong(`${word} does not stand in a query that only reads`, at);
    if (called && kind !== "sign") {
      const name = kind === "quoted" ? text.slice(1, -1) : text;
      if (refused.has(name.toUpperCase()))
        throw wrong(
          `${name.toLowerCase()}() is not taken: it waits, locks, reaches outside, or gives another value each time`,
          at,
        );
      calls.add(name);
    }
  }
  if (depth > 0) throw wrong("A bracket is not closed", sql.length);
  return [...calls];
}
