import type { ProblemDetails } from "@undercoat/core/api/api";
import { ExpressionError } from "@undercoat/core/expression/parse";
import { ResolveError } from "@undercoat/core/parameter/resolve";
import type { Problem } from "@undercoat/core/pipeline/schema";
import { PlanError } from "@undercoat/core/plan/error";
import { NameError } from "@undercoat/core/sql/identifier";
import { failureOf, LoadFailure, NoTable } from "@undercoat/engine/failure";
import { HTTPException } from "hono/http-exception";
import { RunRefused } from "./jobs/refused.ts";
import { UnknownConnection } from "./store/store.ts";

type Status = 400 | 401 | 403 | 404 | 409 | 413 | 421 | 422 | 429 | 500 | 502 | 503;

/** An answer that says what is wrong, by RFC 9457. */
export class HttpProblem extends Error {
  constructor(
    readonly status: Status,
    readonly title: string,
    readonly more: { detail?: string; hint?: string; problems?: Problem[] } = {},
  ) {
    super(title);
  }
}

export const notFound = (what: string) => new HttpProblem(404, `There is no ${what}`);

/** What is wrong with a load's definition; `above` is the path of the load itself. */
export function problemAt(error: PlanError, above: string[] = []): Problem {
  return {
    path: [...above, ...error.path],
    message: error.message,
    ...(error.position === null ? {} : { position: error.position }),
  };
}

/** Any error as a problem; what is not foreseen says so and nothing of its inside. */
export function problemOf(error: unknown): ProblemDetails {
  const details = (status: Status, title: string, more: HttpProblem["more"] = {}): ProblemDetails => ({
    type: "about:blank",
    title,
    status,
    ...more,
  });
  if (error instanceof HttpProblem) return details(error.status, error.title, error.more);
  if (error instanceof RunRefused || error instanceof UnknownConnection) return details(404, error.message);
  if (error instanceof HTTPException)
    return details(error.status as Status, error.message || "The request was refused");
  if (error instanceof SyntaxError) return details(400, "The request is not JSON");
  if (error instanceof ResolveError)
    return details(422, error.problems[0]?.message ?? "The values don't fit", { problems: error.problems });
  if (error instanceof PlanError) return details(422, error.message, { problems: [problemAt(error)] });
  if (error instanceof ExpressionError || error instanceof NameError) return details(422, error.message);
  const failure = failureOf(error, { name: "The server" });
  if (error instanceof NoTable) return details(404, failure.message, { hint: failure.hint });
  if (error instanceof LoadFailure || (error as { severity?: string }).severity)
    return details(502, failure.message, { detail: failure.detail, hint: failure.hint });
  return details(500, "Something went wrong in Undercoat itself", { hint: "The server's log has the reason." });
}
