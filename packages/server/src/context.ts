import type { ArrivedView, Role } from "@undercoat/core/api/api";
import { check } from "@undercoat/core/pipeline/schema";
import { type Context, Hono, type MiddlewareHandler } from "hono";
import { validator } from "hono/validator";
import type { Schema } from "joi";
import type { Queue } from "./jobs/queue.ts";
import { HttpProblem } from "./problem.ts";
import type { Settings } from "./settings.ts";
import type { UserRow } from "./store/models.ts";
import type { Store } from "./store/store.ts";

/** What the routes work with. */
export interface House {
  store: Store;
  queue: Queue;
  settings: Settings;
  /** lets an hour of business pass, where the demo runs */
  passHour: (() => Promise<void>) | null;
  /** what the demo's stand-ins for outside services have been given */
  standins: (() => ArrivedView) | null;
}

export type Env = { Variables: { house: House; user: UserRow | null } };

export const routes = () => new Hono<Env>();

/** The cookie that holds a browser's session. */
export const sessionCookie = "undercoat_session";

const rank: Record<Role, number> = { viewer: 0, editor: 1, administrator: 2 };

/** Lets only users of a role, or one above it, through. */
export function requires(role: Role): MiddlewareHandler<Env> {
  return async (c, next) => {
    const user = c.get("user");
    if (!user) throw new HttpProblem(401, "Sign in first");
    if (rank[user.role] < rank[role])
      throw new HttpProblem(403, `This needs the role ${role}; yours is ${user.role}`, {
        hint: "Ask an administrator.",
      });
    await next();
  };
}

/** The signed-in user. */
export function signedIn(c: Context<Env>): UserRow {
  const user = c.get("user");
  if (!user) throw new HttpProblem(401, "Sign in first");
  return user;
}

/** Checks a request's body, which is then `c.req.valid("json")`. @throws HttpProblem 422 with every problem. */
export const takes = <T>(schema: Schema) =>
  validator("json", (given): T => {
    const { value, problems } = check<T>(schema, given);
    if (problems.length) throw new HttpProblem(422, problems[0]?.message ?? "The request is wrong", { problems });
    return value;
  });

/** The texts of a query that a route looks at, which are then `c.req.valid("query")`; an empty one is none. */
export const asks = <K extends string>(...names: K[]) =>
  validator("query", (given): { [name in K]?: string } => {
    const one = (name: K) => [given[name]].flat()[0] || undefined;
    return Object.fromEntries(names.map((name) => [name, one(name)])) as { [name in K]?: string };
  });

/** A whole number of a query, from 0; `otherwise` where it is not given. @throws HttpProblem 422 */
export function numberOf<K extends string>(query: { [name in K]?: string }, name: K, otherwise = 0): number {
  const text = query[name];
  if (text === undefined) return otherwise;
  const value = Number(text);
  if (!/^\d+$/.test(text) || value > 2_147_483_647)
    throw new HttpProblem(422, `${name} is a whole number from 0 to 2147483647`);
  return value;
}
