import type { Me } from "@undercoat/core/api/api";
import type { Context } from "hono";
import { deleteCookie, getCookie, setCookie } from "hono/cookie";
import Joi from "joi";
import { forgetFailures, noteFailure, waitBefore } from "../account/attempts.ts";
import { endPass, issuePass, userOfPass } from "../account/passes.ts";
import { hashPassword, verifyPassword } from "../account/password.ts";
import { body, type Env, routes } from "../context.ts";
import { HttpProblem } from "../problem.ts";
import { UserRow } from "../store/models.ts";
import { accountSchema, userView } from "./users.ts";

export const sessionCookie = "undercoat_session";

async function signIn(c: Context<Env>, user: UserRow): Promise<void> {
  const token = await issuePass(user.id, "session");
  setCookie(c, sessionCookie, token, { httpOnly: true, sameSite: "Lax", path: "/", maxAge: 14 * 86_400, secure: new URL(c.req.url).protocol === "https:" });
}

async function me(c: Context<Env>, user: UserRow | null): Promise<Me> {
  return { user: user && userView(user), needsSetup: (await UserRow.count()) === 0, demo: c.get("house").passHour !== null };
}

/** Signing in and out; the only routes an unsigned visitor may use, with the health check. */
export const session = routes()
  .get("/", async (c) => c.json(await me(c, c.get("user"))))
  .post("/", async (c) => {
    const { login, password } = await body<{ login: string; password: string }>(c, Joi.object({ login: Joi.string().required(), password: Joi.string().max(1024).required() }));
    const name = login.trim().toLowerCase();
    const wait = waitBefore(name);
    if (wait) throw new HttpProblem(429, `Too many tries for ${name}`, { hint: `Try again in ${Math.ceil(wait / 60)} min.` });
    const user = await UserRow.findOne({ where: { login: name } });
    if (!(await verifyPassword(password, user?.active ? user.password : null)) || !user) {
      noteFailure(name);
      throw new HttpProblem(401, "No account has this name and password", { hint: "Check both; capitals count in the password." });
    }
    forgetFailures(name);
    await signIn(c, user);
    return c.json(await me(c, user));
  })
  .post("/link", async (c) => {
    const { token } = await body<{ token: string }>(c, Joi.object({ token: Joi.string().required() }));
    const user = await userOfPass(token, ["link"]);
    if (!user) throw new HttpProblem(401, "This link has been used or is too old", { hint: "Start the product again for a new one, or sign in with your password." });
    await signIn(c, user);
    return c.json(await me(c, user));
  })
  .post("/setup", async (c) => {
    if ((await UserRow.count()) > 0) throw new HttpProblem(409, "An administrator exists already", { hint: "Sign in, or ask for an account." });
    const { login, name, password } = await body<{ login: string; name: string; password: string }>(c, Joi.object({ ...accountSchema, password: accountSchema.password.required() }));
    const user = await UserRow.create({ login, name, role: "administrator", password: await hashPassword(password), active: true });
    await signIn(c, user);
    return c.json(await me(c, user));
  })
  .delete("/", async (c) => {
    const token = getCookie(c, sessionCookie);
    if (token) await endPass(token);
    deleteCookie(c, sessionCookie, { path: "/" });
    return c.body(null, 204);
  });
