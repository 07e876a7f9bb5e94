import type { CredentialsOf } from "../connection/credentials.ts";
import { failureOf, LoadFailure } from "../failure.ts";
import { HttpClient, Unanswered } from "../http/client.ts";
import type { Arrival, Teller } from "./teller.ts";

/** Tells an application by requests, each with a key of its own (the header Idempotency-Key). */
export function httpTeller(credentials: CredentialsOf<"http"> | CredentialsOf<"odata">, signal?: AbortSignal): Teller {
  const client = new HttpClient(credentials);
  return {
    async send(mark, key): Promise<Arrival> {
      if (!("path" in mark)) return { state: "refused", why: `${credentials.name} is an application and takes no SQL` };
      try {
        await client.ask({
          address: client.address(mark.path),
          method: mark.method as "POST",
          headers: { "idempotency-key": key },
          ...(mark.body === null ? {} : { json: mark.body }),
          accept: "*/*",
          once: true,
          signal,
        });
        return { state: "sent" };
      } catch (error) {
        const { message, detail } = error instanceof LoadFailure ? error.failure : failureOf(error);
        return {
          state: error instanceof Unanswered ? "unsure" : "refused",
          why: detail ? `${message}: ${detail.slice(0, 200)}` : message,
        };
      }
    },
    close: async () => undefined,
  };
}
