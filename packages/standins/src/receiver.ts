import { createServer } from "node:http";
import { Webhook } from "standardwebhooks";
import { listen } from "./listen.ts";

/** A request that has arrived. */
export interface ArrivedRequest {
  at: string;
  headers: Record<string, string>;
  body: string;
  /** whether the signature is right; null where it has none */
  signed: boolean | null;
  /** what was answered */
  status: number;
}

export interface Receiver {
  port: number;
  url: string;
  /** the latest first */
  requests(): ArrivedRequest[];
  /** answers the next so many requests with a status of its own */
  answer(status: number, times: number): void;
  close(): Promise<void>;
}

/** So many are kept. */
const kept = 200;
/** What is longer is refused, in bytes. */
const longest = 1_000_000;

/** Takes webhooks at `/in` on loopback, checks their signatures as the Standard Webhooks specification says, and shows them. `port` 0 is any. */
export async function openReceiver(secret: string, port = 0): Promise<Receiver> {
  const requests: ArrivedRequest[] = [];
  let next = { status: 204, times: 0 };
  const webhook = new Webhook(secret, { format: "raw" });
  const verify = (body: string, headers: Record<string, string>): boolean | null => {
    if (!headers["webhook-signature"]) return null;
    try {
      webhook.verify(body, headers);
      return true;
    } catch {
      return false;
    }
  };
  const server = createServer((request, response) => {
    const parts: Buffer[] = [];
    let size = 0;
    request.on("data", (part: Buffer) => {
      size += part.length;
      if (size <= longest) parts.push(part);
    });
    request.on("end", () => {
      if (request.url !== "/in" || request.method !== "POST" || size > longest) {
        response.writeHead(size > longest ? 413 : 404).end();
        return;
      }
      const body = Buffer.concat(parts).toString("utf8");
      const headers = Object.fromEntries(
        Object.entries(request.headers).map(([name, value]) => [name, [value].flat().join(", ")]),
      );
      const signed = verify(body, headers);
      const status = next.times > 0 ? next.status : signed === false ? 401 : 204;
      next = { ...next, times: Math.max(0, next.times - 1) };
      requests.unshift({ at: new Date().toISOString(), headers, body, signed, status });
      requests.length = Math.min(requests.length, kept);
      response
        .writeHead(status, status >= 300 && status < 400 ? { Location: "/in" } : {})
        .end(status === 204 ? undefined : "Not now");
    });
  });
  const { port: bound, close } = await listen(server, port);
  return {
    port: bound,
    url: `http://127.0.0.1:${bound}/in`,
    requests: () => [...requests],
    answer: (status, times) => {
      next = { status, times };
    },
    close,
  };
}
