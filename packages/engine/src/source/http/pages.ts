import { isUtf8 } from "node:buffer";
import { JsonFault } from "@undercoat/core/file/json";
import { Body } from "@undercoat/core/http/body";
import { firstPage, nextPage, type PageState } from "@undercoat/core/http/page";
import type { From } from "@undercoat/core/pipeline/pipeline";
import { LoadFailure } from "../../failure.ts";
import type { Answer } from "../../http/client.ts";
import type { Spool } from "./spool.ts";

/** A page of records, each as its JSON was written. */
export interface Page {
  /** from 1 */
  number: number;
  address: string;
  records: string[];
}

/** What reading pages needs. */
export interface Reading {
  name: string;
  from: Pick<From, "records" | "page" | "count"> & {
    /** where the last page says something of what follows it some day */
    ends?: string;
  };
  ask(address: string): Promise<Answer>;
  /** where pages are kept; null where they are not */
  spool: Spool | null;
  /** true where all pages are wanted, so that the next is asked for while one is taken in */
  all: boolean;
  /** told when the first page was read, by the application's clock where it tells that, ISO 8601 */
  began(at: string): void;
  /** told what people should know of how the pages came */
  note(words: string): void;
  /** told how many records the application says there are, with each page that says so */
  counted(records: bigint): void;
  /** told what the last page says of what follows it, resolved against its own address; null where it says nothing */
  ended(value: string | null): void;
  /** told how many pages were read before a load was cut, and since when */
  resumed(pages: number, since: string | null): void;
}

/** Of a look nothing needs to be told. */
export const unheard = {
  began: () => undefined,
  note: () => undefined,
  counted: () => undefined,
  ended: () => undefined,
  resumed: () => undefined,
};

/** The latest records are remembered, so many characters of them, so that one which stands on two pages is given once. */
const remembered = 4_000_000;
/** The latest of many texts: as many as fill so much twice over, at least once. */
class Latest {
  latest = new Set<string>();
  before = new Set<string>();
  private size = 0;

  add(text: string): void {
    this.latest.add(text);
    this.size += text.length;
    if (this.size < remembered) return;
    this.before = this.latest;
    this.latest = new Set();
    this.size = 0;
  }
}

/** How often reading goes back because records moved, before it is given up. */
const mostSteps = 20;

/**
 * The pages of an answer, one after another; those that were kept are not asked for again. A record that stands on two pages
 * just as it is comes once; where records move while they are counted through, reading goes back for what would be lost.
 * @throws LoadFailure where an answer holds no records, or pages lead round in a circle
 */
export async function* pagesOf(reading: Reading, address: string): AsyncGenerator<Page> {
  const { name, from, ask, spool, note } = reading;
  let state: PageState | null = firstPage(address, from.page);
  let number = 0;
  const seen = new Latest();
  let ahead: Promise<Answer> | null = null;
  let kept: Promise<void> | undefined;
  const addresses = new Set<string>();
  let doubled = 0;
  let moved = 0;
  let last: string | null = null;
  const fresh = (records: string[]): string[] =>
    records.filter((record) => {
      const known = seen.latest.has(record) || seen.before.has(record);
      if (known) doubled++;
      else seen.add(record);
      return !known;
    });
  const part = (body: Body, at: PageState) => {
    const records = recordsOf(name, body, from.records, at);
    const count = from.count === undefined ? null : body.value(from.count);
    if (count && /^\d{1,15}$/.test(count.text)) reading.counted(BigInt(count.text));
    return records;
  };
  const end = (body: Body, { address: at }: PageState) => {
    const told = from.ends === undefined ? null : body.value(from.ends);
    reading.ended(told && new URL(told.text, at).href);
  };

  if (spool && spool.length > 0) {
    if (await goesOn(reading, spool)) {
      reading.resumed(spool.length, await spool.since());
      for (let page = 1; page <= spool.length; page++) {
        const kept = await spool.page(page);
        if (page === 1) reading.began(kept.at);
        const body = new Body(kept.body, from.records);
        const records = part(body, kept.state);
        const own = kept.state.overlaps && records[0] === last ? records.slice(1) : records;
        last = records.at(-1) ?? last;
        state = kept.next;
        if (!state) end(body, kept.state);
        yield { number: ++number, address: kept.state.address, records: fresh(own) };
      }
    } else await spool.clear();
  }
  while (state) {
    const at: PageState = state;
    if (addresses.has(at.address) && moved === 0)
      throw new LoadFailure({
        message: `${name} leads from page ${number} back to one that was read`,
        detail: at.address,
        hint: "Check how its pages follow each other.",
      });
    addresses.add(at.address);
    const answer = await (ahead ?? ask(at.address));
    ahead = null;
    const body = new Body(textOf(name, answer), from.records);
    const records = part(body, at);
    if (at.overlaps && records[0] !== last && moved < mostSteps && from.page?.offset) {
      // Somebody took records away before this place, or put some there: what has slipped past is gone back for.
      moved++;
      const back = Math.max(0, at.records - (from.page.size ?? 100));
      const url = new URL(at.address);
      url.searchParams.set(from.page.offset, String(back));
      const earlier: PageState = { address: url.href, pages: at.pages, records: back };
      note(`records moved while page ${number + 1} was read; reading went back to record ${back + 1}`);
      state = earlier;
      last = null;
      continue;
    }
    const own = at.overlaps && records[0] === last ? records.slice(1) : records;
    last = records.at(-1) ?? last;
    let next: PageState | null;
    try {
      next = nextPage(at, from.page, { headers: answer.headers, body, records: records.length });
    } catch (error) {
      if (!(error instanceof RangeError || error instanceof JsonFault || error instanceof TypeError)) throw error;
      throw new LoadFailure({
        message: `${name}: page ${number + 1} does not lead on: ${error.message.toLowerCase()}`,
        detail: at.address,
        hint: "Check how its pages follow each other.",
      });
    }
    if (next && new URL(next.address).origin !== new URL(address).origin)
      throw new LoadFailure({
        message: `${name}: page ${number + 1} leads to another host, ${new URL(next.address).host}`,
        hint: "Pages are read from the connection's own address alone.",
      });
    await kept;
    if (number === 0) reading.began(momentOf(answer));
    kept = spool?.add({ state: at, body: body.text, next, at: momentOf(answer) });
    kept?.catch(() => undefined);
    state = next;
    if (!next) end(body, at);
    // The application works on the next page while this one is taken in.
    ahead = next && reading.all ? ask(next.address) : null;
    ahead?.catch(() => undefined);
    yield { number: ++number, address: at.address, records: fresh(own) };
  }
  await kept;
  if (doubled) note(`${doubled} records stood on two pages, and were read once`);
}

/** When an answer was given, by its own header where it has one (RFC 9110, section 6.6.1): to the second, so never later than it was. */
export function momentOf({ headers }: Pick<Answer, "headers">): string {
  const told = Date.parse(headers.date ?? "");
  return new Date(Number.isNaN(told) ? Date.now() : told).toISOString();
}

/** True where what was kept may be gone on from: where pages are counted, the last must still be as it was. */
async function goesOn({ name, from, ask }: Reading, spool: Spool): Promise<boolean> {
  if (!(await spool.lasts())) return false;
  const { state, body, next } = await spool.page(spool.length);
  if (next === null || !(from.page?.number || from.page?.offset)) return true;
  return textOf(name, await ask(state.address)) === body;
}

/** An answer's text. @throws LoadFailure where it is no JSON by its own word */
function textOf(name: string, { headers, body, address }: Answer): string {
  const type = headers["content-type"] ?? "";
  if (/html/i.test(type))
    throw new LoadFailure({
      message: `${name} answers with a page for people (${type.split(";")[0]}) where records are expected`,
      detail: address,
      hint: "Check the path and what the connection signs in with: a sign-in page is often what came.",
    });
  if (!isUtf8(body))
    throw new LoadFailure({ message: `${name} answers with bytes that are no UTF-8`, detail: address });
  return body.toString("utf8").replace(/^\uFEFF/, "");
}

function recordsOf(name: string, body: Body, path: string | undefined, { pages, address }: PageState): string[] {
  try {
    return body.records(path);
  } catch (error) {
    if (!(error instanceof JsonFault)) throw error;
    throw new LoadFailure({
      message: `${name}: the answer of page ${pages + 1} ${error.message}`,
      detail: `${address}\n${body.text.slice(0, 300)}`,
      hint: "Say where the records stand in it: records: data",
    });
  }
}
