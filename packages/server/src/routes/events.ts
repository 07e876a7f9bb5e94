import type { Event } from "@undercoat/core/api/api";
import { getCookie } from "hono/cookie";
import { streamSSE } from "hono/streaming";
import { userOfPass } from "../account/passes.ts";
import { requires, routes, sessionCookie, signedIn } from "../context.ts";

/** Somebody who listens to this process. */
interface Stream {
  user: number;
  /** the session's token, or the command line's */
  token: string;
  hear(event: Event): void;
  close(): void;
}

const streams = new Set<Stream>();

export function broadcast(event: Event): void {
  for (const stream of streams) stream.hear(event);
}

/** Ends the streams of somebody who may no longer listen. */
export function closeStreams(whose: (stream: Pick<Stream, "user" | "token">) => boolean): void {
  for (const stream of [...streams]) if (whose(stream)) stream.close();
}

/** Events that wait for one reader; one that is slower is dropped, and comes back by itself. */
const mostWaiting = 2000;
const beat = 5000;
/** For so long a reader's pass is believed without asking again, in milliseconds. */
const believed = 2000;

/** What happens, as it happens, from whichever worker it comes. */
export const events = routes()
  .use(requires("viewer"))
  .get("/", (c) =>
    streamSSE(c, async (out) => {
      const bearer = /^Bearer (.+)$/.exec(c.req.header("Authorization") ?? "")?.[1];
      const token = bearer ?? getCookie(c, sessionCookie) ?? "";
      const queue: Event[] = [];
      let ended = false;
      let wake: () => void = () => undefined;
      const stream: Stream = {
        user: signedIn(c).id,
        token,
        hear(event) {
          queue.push(event);
          if (queue.length > mostWaiting) stream.close();
          wake();
        },
        close() {
          ended = true;
          wake();
        },
      };
      streams.add(stream);
      out.onAbort(() => stream.close());
      let asked = Date.now();
      const welcome = async () => {
        if (Date.now() - asked < believed) return true;
        asked = Date.now();
        return (await userOfPass(token, [bearer ? "token" : "session"])) !== null;
      };
      const idle = async () => {
        const timer = setTimeout(() => wake(), beat);
        await new Promise<void>((resolve) => {
          wake = resolve;
          if (queue.length || ended) resolve();
        });
        clearTimeout(timer);
        if (!queue.length && !ended && !out.aborted) await out.writeSSE({ event: "beat", data: "{}" });
      };
      try {
        await out.writeSSE({ event: "ready", data: "{}" });
        while (!ended && !out.aborted && (await welcome())) {
          const event = queue.shift();
          if (event) await out.writeSSE({ data: JSON.stringify(event) });
          else await idle();
        }
      } finally {
        streams.delete(stream);
      }
    }),
  );
