import { deltaLink, readChange } from "@undercoat/core/http/delta";
import { nextLink } from "@undercoat/core/http/odata";
import type { PlannedColumn } from "@undercoat/core/plan/plan";
import { Refused } from "../../http/client.ts";
import { jsonRecord } from "../members.ts";
import { pagesOf, type Reading, unheard } from "./pages.ts";

/** What a set's changes are read by. */
interface ChangesOptions extends Pick<Reading, "name" | "ask"> {
  /** the application's own address */
  base: string;
  note?: (words: string) => void;
}

/** What changed in a set, as the application tells it from one reading to the next. */
export class Changes {
  /** what changed since the last reading, once it is taken in */
  delta: Delta | null = null;
  /** where changes will be told */
  private link: string | null = null;

  constructor(private readonly options: ChangesOptions) {}

  /**
   * Takes in what changed since a position; false where all must be read.
   * @param gone true where what is gone from the set is taken away
   */
  async take(
    since: string,
    gone: boolean,
    key: readonly PlannedColumn[],
    members: readonly string[],
  ): Promise<boolean> {
    const known = readTracked(since);
    // What was deleted while nobody wanted to know is not told again.
    if (!known || (gone && !known.gone)) return false;
    const delta = await deltaOf(this.options, known.link, key, members);
    if (typeof delta === "string") {
      this.options.note?.(`${delta}, so all of it is read`);
      return false;
    }
    this.delta = delta;
    this.keep(delta.link);
    return true;
  }

  /** Keeps where changes will be told, where that is at the application itself. */
  keep(link: string | null): void {
    const { name, base, note } = this.options;
    const own = link === null || new URL(link).origin === new URL(base).origin;
    if (!own) note?.(`${name} would tell what changes at another host, ${new URL(link).host}, which is not asked`);
    this.link = own ? link : null;
  }

  /** Where reading stands; null where the application does not tell what changes. */
  position(gone: boolean): string | null {
    return this.link === null ? null : writeTracked({ link: this.link, gone });
  }

  /** True where something has changed since the set was read. */
  async moved(key: readonly PlannedColumn[], members: readonly string[]): Promise<boolean> {
    if (this.link === null) return false;
    const delta = await deltaOf(this.options, this.link, key, members);
    return typeof delta === "string" || delta.records.length + delta.gone.length > 0;
  }
}

/** Most changes that are taken one by one; where there are more, all is read. */
const mostChanges = 100_000;

/** What changed in a set since a link was given: the latest word of each key. */
export interface Delta {
  records: string[];
  /** keys of what is gone, in the order of the load's key */
  gone: string[][];
  /** where the next changes are told; null where the service does not say */
  link: string | null;
}

/** Where reading a set ended whose changes the service tells. What was asked for is the load's: where that is another, no position counts. */
export interface Tracked {
  link: string;
  /** true where what is gone was taken away at the warehouse too */
  gone: boolean;
}

const writeTracked = ({ link, gone }: Tracked) => JSON.stringify({ link, gone });

/** @returns null for what is no such position */
export function readTracked(text: string): Tracked | null {
  try {
    const { link, gone } = JSON.parse(text) as Partial<Tracked>;
    return typeof link === "string" ? { link, gone: gone === true } : null;
  } catch {
    return null;
  }
}

/** A key as one text that is the same for each way to write it. */
const nameOf = (key: readonly string[], columns: readonly PlannedColumn[]) =>
  JSON.stringify(key.map((value, at) => (columns[at]?.type === "uuid" ? value.toLowerCase() : value)));

/**
 * Reads what changed since a link was given, or says why all must be read instead.
 * @param key the columns of the load's key, each with the member that it takes
 * @param asked the members that were asked for
 */
async function deltaOf(
  { name, ask }: Pick<Reading, "name" | "ask">,
  link: string,
  key: readonly PlannedColumn[],
  asked: readonly string[],
): Promise<Delta | string> {
  const members = key.map(({ source }) => source ?? "");
  const latest = new Map<string, { text: string } | { gone: string[] }>();
  let next: string | null = null;
  const ended = (value: string | null) => {
    next = value;
  };
  const from = { records: "value", page: { next: nextLink }, ends: deltaLink };
  try {
    for await (const { records } of pagesOf({ name, from, ask, spool: null, all: true, ...unheard, ended }, link))
      for (const [at, text] of records.entries()) {
        const record = jsonRecord(text, at + 1, false);
        const change = "fault" in record ? ({ kind: "partial" } as const) : readChange(record.values, members, asked);
        if (change.kind === "link") continue;
        if (change.kind === "partial") return `${name} tells what changed in part only`;
        const told = nameOf(change.key, key);
        latest.set(told, change.kind === "gone" ? { gone: change.key } : { text });
        if (latest.size > mostChanges) return `${name} tells of more than ${mostChanges} changes`;
      }
  } catch (error) {
    // Links are kept for a while only, and what they lead to is the service's own affair.
    if (error instanceof Refused && [400, 404, 410].includes(error.status))
      return `${name} no longer knows what changed since then (${error.status})`;
    throw error;
  }
  const told = [...latest.values()];
  return {
    records: told.flatMap((one) => ("text" in one ? one.text : [])),
    gone: told.flatMap((one) => ("gone" in one ? [one.gone] : [])),
    link: next,
  };
}
