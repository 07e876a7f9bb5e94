import type { ProblemDetails } from "@undercoat/core/api/api";

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

async function ask<T>(method: string, path: string, body?: unknown): Promise<T> {
  let response: Response;
  try {
    response = await fetch(`/api${path}`, {
      method,
      headers: body === undefined ? {} : { "Content-Type": "application/json" },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch {
    throw new ApiProblem({
      type: "about:blank",
      title: "The server does not answer",
      status: 0,
      hint: "Check that it runs; what you typed is still here.",
    });
  }
  const text = await response.text();
  if (response.ok) return (text ? JSON.parse(text) : null) as T;
  if (response.status === 401 && !path.startsWith("/session")) window.dispatchEvent(new Event("signed-out"));
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

export const api = {
  get: <T>(path: string) => ask<T>("GET", path),
  post: <T>(path: string, body: unknown = {}) => ask<T>("POST", path, body),
  put: <T>(path: string, body: unknown) => ask<T>("PUT", path, body),
  patch: <T>(path: string, body: unknown) => ask<T>("PATCH", path, body),
  delete: (path: string) => ask<null>("DELETE", path),
};

/** A path with its query; empty values are left out. */
export function withQuery(path: string, query: Record<string, string | number | undefined | null>): string {
  const given = Object.entries(query).filter(([, value]) => value !== undefined && value !== null && value !== "");
  return given.length ? `${path}?${new URLSearchParams(given.map(([name, value]) => [name, String(value)]))}` : path;
}
