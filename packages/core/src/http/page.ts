import type { PageForm } from "../pipeline/pipeline.ts";
import type { Body } from "./body.ts";
import { linksOf } from "./link.ts";

/** Where reading stands: the address of the next page, and what has been passed. */
export interface PageState {
  address: string;
  /** pages before it, and records before its first */
  pages: number;
  records: number;
  /** true where its first record is the last of the page before, so that it shows when records have moved */
  overlaps?: true;
}

/** An answer, as far as the next page is told by it. */
export interface PageAnswer {
  headers: Readonly<Record<string, string | undefined>>;
  body: Body;
  /** how many records it held */
  records: number;
}

const withParameters = (address: string, parameters: Record<string, string>): string => {
  const url = new URL(address);
  for (const [name, value] of Object.entries(parameters)) url.searchParams.set(name, value);
  return url.href;
};

const sizeOf = ({ size, sizeAs }: PageForm) => (size && sizeAs ? { [sizeAs]: String(size) } : {});

/** The address of the first page. */
export function firstPage(address: string, page: PageForm | undefined): PageState {
  const start = !page
    ? {}
    : {
        ...sizeOf(page),
        ...(page.number ? { [page.number]: String(page.first ?? 1) } : {}),
        ...(page.offset ? { [page.offset]: "0" } : {}),
      };
  return { address: withParameters(address, start), pages: 0, records: 0 };
}

/**
 * Where reading goes on after a page; null where it was the last.
 * @throws RangeError where the answer leads back to the page itself
 */
export function nextPage(state: PageState, page: PageForm | undefined, answer: PageAnswer): PageState | null {
  const passed = { pages: state.pages + 1, records: state.records + answer.records };
  const own = answer.records - (state.overlaps ? 1 : 0);
  const to = (address: string): PageState => {
    if (address === state.address) throw new RangeError("The answer leads back to the page that it is");
    return { address, ...passed };
  };
  if (!page) return null;
  if (page.link) {
    const next = linksOf(answer.headers.link ?? "").get("next");
    return next === undefined ? null : to(new URL(next, state.address).href);
  }
  if (page.next) {
    const next = answer.body.value(page.next)?.text;
    return next ? to(new URL(next, state.address).href) : null;
  }
  if (page.cursor) {
    const cursor = answer.body.value(page.cursor)?.text;
    return cursor ? to(withParameters(state.address, { [page.as ?? page.cursor]: cursor })) : null;
  }
  // Where pages are counted, one that is not full is the last.
  if (own <= 0 || (page.size !== undefined && answer.records < page.size)) return null;
  if (page.number)
    return to(withParameters(state.address, { [page.number]: String((page.first ?? 1) + passed.pages) }));
  const back = passed.records - 1;
  return {
    ...to(withParameters(state.address, { [page.offset ?? ""]: String(back) })),
    records: back,
    overlaps: true,
  };
}
