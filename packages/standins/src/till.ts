import { createServer, type ServerResponse } from "node:http";
import { listen, withBody } from "./listen.ts";
import { type Trouble, Troubles } from "./trouble.ts";

/** An account of the Till reports: a region's tills, and the key that reads them. */
export interface TillAccount {
  name: string;
  key: string;
}

export interface Till {
  port: number;
  url: string;
  accounts: TillAccount[];
  /** an hour of business: today's takings grow, and a late count changes yesterday's of one till, and takes another's away */
  passHour(): { changed: number };
  trouble(next: Trouble): void;
  /** how often a path was asked for, and with which parameters the last time */
  counts(): Record<string, number>;
  close(): Promise<void>;
}

/** What a report counts for one till and product on one day, in øre. */
interface Taking {
  sales: number;
  amount: number;
}

const tills: Record<string, readonly string[]> = {
  north: ["KIL-1", "KIL-2", "SKV-1", "HOL-1"],
  south: ["LUN-1", "LUN-2", "GRA-1"],
};
const products = ["coffee", "meals", "maps", "car wash"];
export const dimensions = ["till", "product"] as const;
export const measures = ["sales", "amount", "average"] as const;
/** Days that one report may be about. */
const mostDays = 31;
/** Requests that a key may make in an hour. */
const mostRequests = 5000;
const [day, hour] = [86_400_000, 3_600_000];

const dayOf = (text: string | null) =>
  /^\d{4}-\d\d-\d\d$/.test(text ?? "") ? Date.parse(`${text}T00:00:00Z`) : Number.NaN;
const money = (cents: number) => `${Math.floor(cents / 100)}.${String(cents % 100).padStart(2, "0")}`;

/** What the Till reports say of themselves. */
const describes = (origin: string) => ({
  openapi: "3.0.3",
  info: { title: "Till reports", version: "2" },
  servers: [{ url: `${origin}/api` }],
  paths: {
    "/takings": {
      get: {
        summary: "Takings by day, till and product",
        parameters: [
          { name: "from", in: "query", required: true, schema: { type: "string", format: "date" } },
          {
            name: "to",
            in: "query",
            required: true,
            description: "the last day that counts",
            schema: { type: "string", format: "date" },
          },
          ...[
            ["dimensions", dimensions],
            ["measures", measures],
          ].map(([name, of]) => ({
            name,
            in: "query",
            style: "form",
            explode: false,
            schema: { type: "array", items: { type: "string", enum: of } },
          })),
        ],
        responses: {
          200: {
            description: "the takings",
            content: {
              "application/json": {
                schema: {
                  type: "object",
                  properties: {
                    rows: {
                      type: "array",
                      items: {
                        type: "object",
                        properties: {
                          till: { type: "string" },
                          product: { type: "string" },
                          sales: { type: "integer", format: "int32" },
                          amount: { type: "number" },
                          average: { type: "number" },
                        },
                      },
                    },
                  },
                },
              },
            },
          },
        },
      },
    },
  },
  components: { securitySchemes: { key: { type: "apiKey", in: "header", name: "X-Api-Key" } } },
});

/**
 * The Till reports: takings of two accounts by date, for a key of each that may only read. A report is about 31 days at most,
 * says nothing of single days within it, and counts its last day. On loopback; `port` 0 is any.
 */
export async function openTill({ port = 0, keys = { north: "north-key", south: "south-key" } } = {}): Promise<Till> {
  const accounts = Object.entries(keys).map(([name, key]) => ({ name, key }));
  /** what late counts have changed, by account, day, till and product; null where the till was not open after all */
  const counted = new Map<string, Taking | null>();
  const counts: Record<string, number> = {};
  const troubles = new Troubles();
  let hours = 0;
  /** when each key's requests of the last hour came */
  const lately = new Map<string, number[]>();

  const takingOf = (account: string, at: number, till: number, product: number): Taking | null => {
    const today = Math.floor(Date.now() / day) * day;
    if (at > today) return null;
    const late = counted.get(`${account} ${at} ${till} ${product}`);
    if (late !== undefined) return late;
    const seed = (at / day) * 7919 + till * 104_729 + product * 1_299_709 + account.length * 15_485_863;
    // A till stands still on some days.
    if (seed % 11 === 0) return null;
    const sales = 3 + (seed % 60) + (at === today ? hours : 0);
    return { sales, amount: sales * (2500 + (seed % 4000)) };
  };

  /** The rows of some days, by the dimensions that are asked for. */
  const report = (account: string, from: number, to: number, by: string[]): Map<string, Taking> => {
    const rows = new Map<string, Taking>();
    for (let at = from; at <= to; at += day)
      for (const [till, name] of (tills[account] ?? []).entries())
        for (const [product, label] of products.entries()) {
          const taking = takingOf(account, at, till, product);
          if (!taking) continue;
          const values: Record<string, string> = { till: name, product: label };
          const key = JSON.stringify(by.map((dimension) => [dimension, values[dimension]]));
          const { sales, amount } = rows.get(key) ?? { sales: 0, amount: 0 };
          rows.set(key, { sales: sales + taking.sales, amount: amount + taking.amount });
        }
    return rows;
  };

  const answer = (account: string, asked: URLSearchParams, response: ServerResponse) => {
    const refuse = (message: string) =>
      response.writeHead(400, { "content-type": "application/json" }).end(JSON.stringify({ message }));
    const [from, to] = [dayOf(asked.get("from")), dayOf(asked.get("to"))];
    if (Number.isNaN(from) || Number.isNaN(to)) return refuse("from and to are days, as 2026-01-31");
    if (to < from) return refuse("to lies before from");
    if ((to - from) / day >= mostDays) return refuse(`A report is about ${mostDays} days at most`);
    const by = asked.get("dimensions")?.split(",").filter(Boolean) ?? [...dimensions];
    const of = asked.get("measures")?.split(",").filter(Boolean) ?? [...measures];
    const unknown = [
      ...by.filter((one) => !dimensions.some((name) => name === one)),
      ...of.filter((one) => !measures.some((name) => name === one)),
    ];
    if (unknown.length) return refuse(`There is no ${unknown.join(", ")}`);
    const { fields } = troubles.now;
    const rows = [...report(account, from, to, by)].map(([key, { sales, amount }]) => {
      const values: Record<string, string> = {
        sales: String(sales),
        amount: money(amount),
        average: money(Math.round(amount / sales)),
      };
      const told = (JSON.parse(key) as [string, string][]).map(([name, value]) => `"${name}":${JSON.stringify(value)}`);
      const shown = fields === "fewer" ? of.slice(1) : of;
      return `{${[...told, ...shown.map((name) => `"${name}":${values[name]}`), ...(fields === "more" ? ['"currency":"NOK"'] : [])].join(",")}}`;
    });
    return response.writeHead(200, { "content-type": "application/json" }).end(`{"rows":[${rows.join(",")}]}`);
  };

  const server = createServer((request, response) => {
    const url = new URL(request.url ?? "/", `http://${request.headers.host ?? "127.0.0.1"}`);
    withBody(request, async (body) => {
      counts[url.pathname] = (counts[url.pathname] ?? 0) + 1;
      if (troubles.takes(request, response, url.pathname, body)) return;
      const json = { "content-type": "application/json" };
      if (url.pathname.endsWith("/openapi.json"))
        return response.writeHead(200, json).end(JSON.stringify(describes(url.origin)));
      const account = accounts.find(({ key }) => key === request.headers["x-api-key"]);
      if (!account) return response.writeHead(401, json).end('{"message":"The key is not known"}');
      if (request.method !== "GET")
        return response.writeHead(403, json).end('{"message":"The key may read reports and nothing else"}');
      if (url.pathname !== "/api/takings")
        return response.writeHead(404, json).end('{"message":"There is no such report"}');
      const now = Date.now();
      const within = (lately.get(account.key) ?? []).filter((at) => at > now - hour);
      const resets = Math.ceil(((within[0] ?? now) + hour - now) / 1000);
      response.setHeader("ratelimit-remaining", String(Math.max(0, mostRequests - within.length - 1)));
      response.setHeader("ratelimit-reset", String(resets));
      lately.set(account.key, within);
      if (within.length >= mostRequests)
        return response.writeHead(429, { ...json, "retry-after": String(resets) }).end();
      within.push(now);
      if (await troubles.meets(response)) return;
      return answer(account.name, url.searchParams, response);
    });
  });
  const { port: bound, close } = await listen(server, port);
  return {
    port: bound,
    url: `http://127.0.0.1:${bound}/api`,
    accounts,
    passHour: () => {
      hours++;
      const yesterday = Math.floor(Date.now() / day) * day - day;
      for (const { name } of accounts) {
        counted.set(`${name} ${yesterday} 0 0`, { sales: 40 + hours, amount: 123_450 + hours * 995 });
        counted.set(`${name} ${yesterday} 1 ${hours % products.length}`, null);
      }
      return { changed: accounts.length * 2 };
    },
    trouble: (next) => troubles.set(next),
    counts: () => ({ ...counts }),
    close,
  };
}
