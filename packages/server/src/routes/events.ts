import type { Event } from "@undercoat/core/api/api";
import { streamSSE } from "hono/streaming";
import { requires, routes } from "../context.ts";

/** Everyone who listens to this process. */
const listeners = new Set<(event: Event) => void>();

export function broadcast(event: Event): void {
  for (const listener of listeners) listener(event);
}

/** What happens, as it happens, from whichever worker it comes. */
export const events = routes()
  .use(requires("viewer"))
  .get("/", (c) =>
    streamSSE(c, async (stream) => {
      const queue: Event[] = [];
      let wake: () => void = () => undefined;
      const listener = (event: Event) => {
        queue.push(event);
        wake();
      };
      listeners.add(listener);
      stream.onAbort(() => {
        listeners.delete(listener);
        wake();
      });
      await stream.writeSSE({ event: "ready", data: "{}" });
      while (!stream.aborted) {
        const event = queue.shift();
        if (event) await stream.writeSSE({ data: JSON.stringify(event) });
        else {
          const beat = setTimeout(() => wake(), 20_000);
          await new Promise<void>((resolve) => {
            wake = resolve;
            if (queue.length) resolve();
          });
          clearTimeout(beat);
          if (!queue.length && !stream.aborted) await stream.writeSSE({ event: "beat", data: "{}" });
        }
      }
      listeners.delete(listener);
    }),
  );
