/** Records of a text of rows and fields (RFC 4180), read exactly: each is a row, or a line of which it is told why it is none. */

/** How fields are told apart. */
export interface Signs {
  delimiter: string;
  quote: string;
}

/** A record's fields, where an unquoted nothing is null; or what is wrong with its line. `line`: its number from 1; `text`: as it stands. */
export interface TextRecord {
  fields: (string | null)[];
  fault: string | null;
  line: number;
  text: string;
  /** places of fields that hold others, as JSON */
  nested?: readonly number[];
  /** true where no field holds a sign that is no text, and none but those that hold others a quote */
  plain?: true;
}

/** A record with the place after it; null where the text ends before it does. */
interface Found {
  fields: (string | null)[];
  fault: string | null;
  /** where its text ends, and where the next one begins */
  end: number;
  next: number;
}

/** The end of a line from a place on, and where the next begins; null where the text may go on. */
function lineEnd(text: string, from: number, last: boolean): { end: number; next: number } | null {
  for (let at = from; at < text.length; at++) {
    const sign = text.charCodeAt(at);
    if (sign === 10) return { end: at, next: at + 1 };
    if (sign !== 13) continue;
    if (at + 1 === text.length && !last) return null;
    return { end: at, next: text.charCodeAt(at + 1) === 10 ? at + 2 : at + 1 };
  }
  return last ? { end: text.length, next: text.length } : null;
}

/** Longer than this is no record, in characters: what a quote opens and nothing closes is not gathered without end. */
export const longestRecord = 8 * 1024 * 1024;

/** A record that does not end, so that it can't even be told where the next one begins. */
export class TooLong extends Error {
  constructor(line: number) {
    super(`record ${line} is longer than 8 MB`);
  }
}

/** The record that begins at a place. */
function recordAt(text: string, from: number, { delimiter, quote }: Signs, last: boolean): Found | null {
  const faulty = (fault: string): Found | null => {
    // Only its first line is lost: what follows may be rows.
    const line = lineEnd(text, from, last);
    return line && { fields: [], fault, ...line };
  };
  const [cut, opened] = [delimiter.charCodeAt(0), quote.charCodeAt(0)];
  const fields: (string | null)[] = [];
  for (let at = from; ; ) {
    if (text.charCodeAt(at) === opened) {
      let close = at;
      let doubled = false;
      for (;;) {
        close = text.indexOf(quote, close + 1);
        if (close < 0) {
          if (!last && text.length - from < longestRecord) return null;
          return faulty("has a quote that is not closed");
        }
        if (close + 1 === text.length && !last) return null;
        if (text.charCodeAt(close + 1) !== opened) break;
        doubled = true;
        close++;
      }
      const value = text.slice(at + 1, close);
      fields.push(doubled ? value.replaceAll(quote + quote, quote) : value);
      at = close + 1;
      const sign = text.charCodeAt(at);
      if (at < text.length && sign !== cut && sign !== 10 && sign !== 13)
        return faulty("has text behind a quote that is closed");
    } else {
      const start = at;
      for (; at < text.length; at++) {
        const sign = text.charCodeAt(at);
        if (sign === cut || sign === 10 || sign === 13) break;
      }
      fields.push(at === start ? null : text.slice(start, at));
    }
    if (at < text.length && text.charCodeAt(at) === cut) {
      at++;
      continue;
    }
    const line = lineEnd(text, at, last);
    return line && { fields, fault: null, ...line };
  }
}

/** Reads records out of a text that comes in pieces. */
export class RecordReader {
  private rest = "";
  private line = 1;

  /** @param skip records and empty lines before the first that counts: `lines` of the text, then a head */
  constructor(
    private readonly signs: Signs,
    private readonly width: number,
    private skip: { lines: number; head: boolean },
  ) {}

  /** The records that a piece completes. @param last true where nothing follows */
  *read(piece: string, last: boolean): Generator<TextRecord> {
    const text = this.rest + piece;
    let at = 0;
    while (at < text.length) {
      const { skip, line } = this;
      const found = skip.lines > 0 ? skipped(lineEnd(text, at, last)) : recordAt(text, at, this.signs, last);
      if (!found) {
        if (text.length - at > 2 * longestRecord) throw new TooLong(line);
        break;
      }
      const own = text.slice(at, found.end);
      this.line += linesIn(text, at, found.next);
      at = found.next;
      if (skip.lines > 0) skip.lines--;
      else if (own === "" && this.width > 1) continue;
      else if (skip.head) skip.head = false;
      else yield { fields: found.fields, fault: found.fault ?? this.misfit(found.fields.length), line, text: own };
    }
    this.rest = text.slice(at);
  }

  private misfit(fields: number): string | null {
    return fields === this.width
      ? null
      : `has ${fields} field${fields === 1 ? "" : "s"} where ${this.width} are expected`;
  }
}

const skipped = (line: { end: number; next: number } | null): Found | null =>
  line && { fields: [], fault: null, ...line };

/** How many lines end between two places. */
function linesIn(text: string, from: number, to: number): number {
  let lines = 0;
  for (let at = from; at < to; at++) {
    const sign = text.charCodeAt(at);
    if (sign === 10 || (sign === 13 && text.charCodeAt(at + 1) !== 10)) lines++;
  }
  return lines;
}
