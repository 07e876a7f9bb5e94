import { existsSync, readFileSync } from "node:fs";
import { join, resolve } from "node:path";
import type { ProblemDetails } from "@undercoat/core/api/api";
import { hc } from "hono/client";
import type { Api } from "../api.ts";
import { checkout } from "../settings.ts";

/** A command that can't be carried out: what to print, and the exit status. */
export class CommandError extends Error {
  constructor(
    message: string,
    readonly status = 1,
    readonly problem: ProblemDetails | null = null,
  ) {
    super(message);
  }
}

/** The running server, as whoever the token stands for: each of its paths is a property, typed by its routes. */
export type Client = ReturnType<typeof clientOf>;

/** @throws CommandError with the server's own words where it refuses */
function clientOf(address: string, token: string) {
  const ask = async (input: RequestInfo | URL, init?: RequestInit) => {
    const response = await fetch(input, init).catch(() => {
      throw new CommandError(`Nothing answers at ${address}. Start the server with ./undercoat start.`);
    });
    if (response.ok) return response;
    let problem: ProblemDetails | null = null;
    try {
      problem = (await response.json()) as ProblemDetails;
    } catch {
      // Not this server's words.
    }
    if (response.status === 401)
      throw new CommandError(
        "The server does not know this token. Set UNDERCOAT_TOKEN, or restart the server on this machine.",
        1,
        problem,
      );
    throw new CommandError(
      [problem?.title ?? `The server answered ${response.status}`, problem?.detail, problem?.hint]
        .filter(Boolean)
        .join(". "),
      1,
      problem,
    );
  };
  return hc<Api>(`${address}/api`, { headers: { Authorization: `Bearer ${token}` }, fetch: ask });
}

/** Takes address and token from the environment, else from the data folder of a server on this machine. */
export function clientFromEnvironment(): Client {
  const data = resolve(process.env.UNDERCOAT_DATA ?? join(checkout, ".data"));
  const left = (name: string) =>
    existsSync(join(data, name)) ? readFileSync(join(data, name), "utf8").trim() : undefined;
  const address = process.env.UNDERCOAT_URL ?? left("address");
  const token = process.env.UNDERCOAT_TOKEN ?? left("token");
  if (!address)
    throw new CommandError(
      "No server is known. Start one with ./undercoat start, or set UNDERCOAT_URL and UNDERCOAT_TOKEN.",
    );
  if (!token)
    throw new CommandError(
      "No token is known. Make the first account at the server, restart it, or set UNDERCOAT_TOKEN to a token of yours.",
    );
  return clientOf(address.replace(/\/$/, ""), token);
}
