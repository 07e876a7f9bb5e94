import type { Proposal } from "@undercoat/core/dataset/dataset";
import { JsonFault } from "@undercoat/core/file/json";
import { Body } from "@undercoat/core/http/body";
import { guessAnswer, guessFields, sinceNames } from "@undercoat/core/http/guess";
import { type ApiResource, sinceOf } from "@undercoat/core/http/openapi";
import { firstPage, nextPage } from "@undercoat/core/http/page";
import { cutPeriods, declaredDays, forPeriod, lateDays, periodsOf } from "@undercoat/core/http/periods";
import type { From, PageForm } from "@undercoat/core/pipeline/pipeline";
import { LoadFailure } from "../../failure.ts";
import type { Answer, HttpClient } from "../../http/client.ts";

/** How a way to the next page is told to people. */
function pageWords(page: PageForm): string {
  if (page.link) return "a link header names the next page";
  if (page.next) return `${page.next} holds the next page's address`;
  if (page.cursor) return `${page.cursor} holds a cursor that ${page.as} sends back`;
  return page.number ? `${page.number} counts pages` : `${page.offset} says how many records to pass over`;
}

/**
 * Looks at an answer for where its records are, how pages follow each other and how to ask for what changed, and finds out
 * by asking what of it holds. Of what a description says nothing is guessed.
 * @throws LoadFailure where the answer is no JSON that holds records
 */
export async function propose(
  client: HttpClient,
  from: From,
  described: ApiResource | null,
  signal: AbortSignal,
): Promise<Proposal> {
  const url = new URL(client.addressOf(from));
  const ask = (address: string) => client.ask({ address, signal });
  const textOf = ({ body }: Answer) => body.toString("utf8");
  const first = await ask(url.href);
  const tried: Proposal["tried"] = [];
  let guess: ReturnType<typeof guessAnswer>;
  try {
    guess = guessAnswer(url.href, first.headers, textOf(first));
  } catch (error) {
    if (!(error instanceof JsonFault)) throw error;
    throw new LoadFailure({
      message: `The answer ${error.message}`,
      detail: textOf(first).slice(0, 300),
      hint: "Check the path, and what the connection signs in with.",
    });
  }
  const records = from.records ?? described?.records ?? guess.records ?? undefined;
  const held = (answer: Answer): string[] => {
    try {
      return new Body(textOf(answer), records).records(records);
    } catch {
      return [];
    }
  };
  const own = held(first);
  tried.push({
    words: `${records ?? "the answer itself"} holds ${own.length} record${own.length === 1 ? "" : "s"}`,
    holds: own.length > 0,
  });
  const { key, changes } = described ?? guessFields(own.slice(0, 200));
  let page: PageForm | undefined;
  const size = (way: PageForm): PageForm => {
    // What was asked for by hand goes before what the description says.
    const own = way.sizeAs ? Number(from.parameters?.[way.sizeAs]) : 0;
    return own > 0 ? { ...way, size: own } : way;
  };
  for (const way of (described?.page ? [described.page] : guess.pages).map(size)) {
    const start = firstPage(url.href, way);
    const one = start.address === url.href ? first : await ask(start.address).catch(() => null);
    const leads = one && nextOf(start, way, one, held(one).length);
    const two = leads ? await ask(leads.address).catch(() => null) : null;
    const [earlier, later] = [one ? held(one) : [], two ? held(two) : []];
    // A page that gives the same again is none.
    const rest = later.slice(leads?.overlaps ? 1 : 0);
    const holds =
      rest.length > 0 &&
      rest.every((record) => !earlier.includes(record)) &&
      (!leads?.overlaps || later[0] === earlier.at(-1));
    if (described?.page && one && !leads && earlier.length > 0) {
      tried.push({ words: `${pageWords(way)}, as the description says; there is no second page now`, holds: true });
      page = way;
      break;
    }
    tried.push({ words: `${pageWords(way)}${holds ? ": a second page was read" : ""}`, holds });
    if (holds) {
      page = way;
      break;
    }
  }
  if (!page && own.length > 0) tried.push({ words: "there is one page only, as far as was found out", holds: true });
  let since = from.since ?? described?.since ?? undefined;
  if (!since && changes)
    for (const parameter of sinceNames(changes)) {
      const later = new URL(url.href);
      later.searchParams.set(parameter, new Date(Date.now() + 86_400_000).toISOString());
      const answer = await ask(later.href).catch(() => null);
      // Of what changed after tomorrow there is nothing, where the parameter is heard.
      if (answer && own.length > 0 && held(answer).length === 0) {
        since = sinceOf(parameter);
        tried.push({ words: `${parameter} asks for what changed only: after tomorrow there is nothing`, holds: true });
        break;
      }
    }
  return {
    from: {
      ...from,
      ...(records === undefined ? {} : { records }),
      ...(page ? { page } : {}),
      ...(since ? { since } : {}),
    },
    key,
    changes,
    tried,
  };
}

function nextOf(start: ReturnType<typeof firstPage>, way: PageForm, answer: Answer, records: number) {
  try {
    return nextPage(start, way, { headers: answer.headers, body: new Body(answer.body.toString("utf8")), records });
  } catch {
    return null;
  }
}

/**
 * Finds out whether the last day that a report is asked for counts, by asking from a day to itself. Null of what is no report,
 * or where that is said, or can't be told from its latest days.
 */
export async function lastDayCounts(
  client: HttpClient,
  from: From,
  signal: AbortSignal,
): Promise<{ from: From; words: string; holds: boolean } | null> {
  const periods = periodsOf(from);
  if (!periods || from.period?.ends) return null;
  const { to } = lateDays(declaredDays(periods, Date.now(), "UTC"), periods.unit);
  const late = cutPeriods(lateDays({ from: null, to }, "day"), "day").toReversed();
  const held = async (first: string, last: string) => {
    const { parameters } = forPeriod(from, { from: first, to: last });
    const answer = await client.ask({ address: client.addressOf({ ...from, parameters }), signal }).catch(() => null);
    try {
      return answer === null ? null : new Body(answer.body.toString("utf8")).records(from.records).length;
    } catch {
      return null;
    }
  };
  for (const { from: first, to: next } of late) {
    if (!(await held(first, next))) continue;
    const alone = await held(first, first);
    const included = alone !== null && alone > 0;
    return {
      from: { ...from, period: { ...from.period, ends: included ? "included" : "excluded" } },
      words: `${periods.to.parameter} is ${included ? "the last day that counts" : "the first day that does not count"}: from ${first} to ${first} there ${alone === 1 ? "is 1 record" : `are ${alone ?? 0} records`}`,
      holds: true,
    };
  }
  return null;
}
