import type { Me } from "@undercoat/core/api/api";
import type { Context } from "hono";
import { deleteCookie, getCookie, setCookie } from "hono/cookie";
import Joi from "joi";
import { beginTry, passTry } from "../account/attempts.ts";
import { FirstAccountRefused, isSetup, makeFirst } from "../account/first.ts";
import { endPass, endPassesOf, issuePass, userOfPass } from "../account/passes.ts";
import { hashPassword, verifyPassword } from "../account/password.ts";
import { type Env, routes, sessionCookie, signedIn, takes } from "../context.ts";
import { HttpProblem } from "../problem.ts";
import { leaveToken } from "../process/token.ts";
import { UserRow } from "../store/models.ts";
import { addressOf, isSecure } from "../visitor.ts";
import { closeStreams } from "./events.ts";
import { accountSchema, userView } from "./users.ts";

async function signIn(c: Context<Env>, user: UserRow): Promise<void> {
  const token = await issuePass(user.id, "session");
  setCookie(c, sessionCookie, token, {
    httpOnly: true,
    sameSite: "Lax",
    path: "/",
    maxAge: 14 * 86_400,
    secure: isSecure(c, c.get("house").settings),
  });
}

async function me(c: Context<Env>, user: UserRow | null): Promise<Me> {
  return {
    user: user && userView(user),
    needsSetup: (await UserRow.count()) === 0,
    demo: c.get("house").passHour !== null,
  };
}

const oneTime = Joi.string().max(200).required();

/** Takes a try at an account from an address, or refuses it. */
function tryFor(c: Context<Env>, account: string): { address: string } {
  const address = addressOf(c, c.get("house").settings);
  const wait = beginTry(account, address);
  if (wait)
    throw new HttpProblem(429, "Too many tries", {
      hint: wait > 90 ? `Try again in ${Math.ceil(wait / 60)} min.` : `Try again in ${wait} s.`,
    });
  return { address };
}

/** Signing in and out; what an unsigned visitor may use, with the health check. */
export const session = routes()
  .get("/", async (c) => c.json(await me(c, c.get("user"))))
  .post(
    "/",
    takes<{ login: string; password: string }>(
      Joi.object({ login: Joi.string().max(64).required(), password: Joi.string().max(1024).required() }),
    ),
    async (c) => {
      const { login, password } = c.req.valid("json");
      const name = login.trim().toLowerCase();
      const { address } = tryFor(c, name);
      const user = await UserRow.findOne({ where: { login: name } });
      if (!(await verifyPassword(password, user?.active ? user.password : null)) || !user)
        throw new HttpProblem(401, "No account has this name and password", {
          hint: "Check both; capitals count in the password.",
        });
      passTry(name, address);
      await signIn(c, user);
      return c.json(await me(c, user));
    },
  )
  .post("/link", takes<{ token: string }>(Joi.object({ token: oneTime })), async (c) => {
    const { token } = c.req.valid("json");
    const { address } = tryFor(c, "by link");
    const setup = await isSetup(token);
    const user = setup ? null : await userOfPass(token, ["link"]);
    if (!setup && !user)
      throw new HttpProblem(401, "This link has been used or is too old", {
        hint: "Ask for a new one with undercoat account, or sign in with your password.",
      });
    passTry("by link", address);
    if (user) await signIn(c, user);
    return c.json({ ...(await me(c, user)), setup });
  })
  .post(
    "/setup",
    takes<{
      token: string;
      login: string;
      name: string;
      password: string;
    }>(Joi.object({ ...accountSchema, password: accountSchema.password.required(), token: oneTime })),
    async (c) => {
      const { token, login, name, password } = c.req.valid("json");
      tryFor(c, "first account");
      const { store, settings } = c.get("house");
      const user = await makeFirst(store, token, { login, name, password: await hashPassword(password) }).catch(
        (error: unknown) => {
          throw error instanceof FirstAccountRefused
            ? new HttpProblem(409, error.message, { hint: "Sign in, or print a new link with undercoat account." })
            : error;
        },
      );
      // The command line works from here on, without a restart.
      await leaveToken(settings);
      await signIn(c, user);
      return c.json(await me(c, user));
    },
  )
  .post(
    "/password",
    takes<{ current: string; next: string }>(
      Joi.object({ current: Joi.string().allow("").max(1024).required(), next: accountSchema.password.required() }),
    ),
    async (c) => {
      const user = signedIn(c);
      const { current, next } = c.req.valid("json");
      const { address } = tryFor(c, user.login);
      // Somebody who came by a one-time link has no password yet.
      if (user.password !== null && !(await verifyPassword(current, user.password)))
        throw new HttpProblem(422, "This is not your password", {
          problems: [{ path: ["current"], message: "This is not your password" }],
        });
      passTry(user.login, address);
      await user.update({ password: await hashPassword(next) });
      const kept = getCookie(c, sessionCookie) ?? null;
      await endPassesOf(user.id, kept);
      closeStreams((stream) => stream.user === user.id && stream.token !== kept);
      await leaveToken(c.get("house").settings);
      return c.body(null, 204);
    },
  )
  .delete("/", async (c) => {
    const token = getCookie(c, sessionCookie);
    if (token) {
      await endPass(token);
      closeStreams((stream) => stream.token === token);
    }
    deleteCookie(c, sessionCookie, { path: "/" });
    return c.body(null, 204);
  });
