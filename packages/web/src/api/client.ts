import type { ProblemDetails } from "@undercoat/core/api/api";
// biome-ignore lint/style/noRestrictedImports: the type alone: every path with what it takes and answers
import type { Api } from "@undercoat/server/api";
import { hc } from "hono/client";

export { answer, path } from "@undercoat/core/api/client";

/** A refusal in the server's own words. */
export class ApiProblem extends Error {
  constructor(readonly problem: ProblemDetails) {
    super(problem.title);
  }

  /** What is wrong at a path of what was sent, if anything. */
  at(...path: string[]): string | undefined {
    return this.problem.problems?.find((entry) => entry.path.join(".").startsWith(path.join(".")))?.message;
  }
}

/** Asks as `fetch` does. @throws ApiProblem in the server's own words where it refuses, or that it does not answer */
export async function ask(input: RequestInfo | URL, init?: RequestInit): Promise<Response> {
  let response: Response;
  try {
    response = await fetch(input, init);
  } catch (error) {
    if (init?.signal?.aborted) throw error;
    throw new ApiProblem({
      type: "about:blank",
      title: "The server does not answer",
      status: 0,
      hint: "Check that it runs; what you typed is still here.",
    });
  }
  if (response.ok) return response;
  const text = await response.text();
  if (response.status === 401 && !String(input).startsWith("/api/session"))
    window.dispatchEvent(new Event("signed-out"));
  let problem: ProblemDetails = {
    type: "about:blank",
    title: `The server answered ${response.status}`,
    status: response.status,
  };
  try {
    problem = JSON.parse(text);
  } catch {
    // A proxy's page, not the server's words.
  }
  throw new ApiProblem(problem);
}

/** The server: each of its paths is a property, typed by its routes. */
export const server = hc<Api>("/api", { fetch: ask });

/** A number of a query. */
export const numeral = (value: number | null | undefined) =>
  value === null || value === undefined ? undefined : String(value);
