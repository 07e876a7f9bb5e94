import { randomBytes } from "node:crypto";
import { existsSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { serveStatic } from "@hono/node-server/serve-static";
import { Hono } from "hono";
import { bodyLimit } from "hono/body-limit";
import { compress } from "hono/compress";
import { getCookie } from "hono/cookie";
import type { Logger } from "pino";
import { userOfPass } from "./account/passes.ts";
import { api } from "./api.ts";
import { type Env, type House, sessionCookie } from "./context.ts";
import { HttpProblem, problemOf } from "./problem.ts";
import { checkout } from "./settings.ts";
import { answersTo } from "./visitor.ts";

const largestBody = 8 * 1024 * 1024;
/** Before anybody has signed in, a request is a name and a password. */
const largestBodyBefore = 8 * 1024;
const pages = join(checkout, "packages/web/dist");

function contentPolicy(nonce: string): string {
  return `default-src 'none'; script-src 'self'; style-src 'self' 'nonce-${nonce}'; style-src-attr 'unsafe-inline'; img-src 'self' data:; font-src 'self'; connect-src 'self'; manifest-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'`;
}

/** The whole HTTP side: the API and the pages. */
export function makeApp(house: House, log: Logger): Hono<Env> {
  const app = new Hono<Env>();
  app.onError((error, c) => {
    const problem = problemOf(error);
    if (problem.status >= 500 && problem.status !== 502)
      log.error({ path: c.req.path, error: error.message, stack: error.stack }, "unforeseen");
    return c.body(JSON.stringify(problem), problem.status as 500, { "Content-Type": "application/problem+json" });
  });
  app.notFound((c) =>
    c.body(JSON.stringify(problemOf(new HttpProblem(404, "There is nothing here"))), 404, {
      "Content-Type": "application/problem+json",
    }),
  );

  app.use(async (c, next) => {
    await next();
    const header = (name: string, value: string) => c.res.headers.set(name, value);
    header("X-Content-Type-Options", "nosniff");
    header("Referrer-Policy", "no-referrer");
    header("X-Frame-Options", "DENY");
    header("Cross-Origin-Opener-Policy", "same-origin");
    header("Cross-Origin-Resource-Policy", "same-origin");
    header("Permissions-Policy", "camera=(), geolocation=(), microphone=()");
    if (!c.res.headers.has("Content-Security-Policy"))
      header("Content-Security-Policy", "default-src 'none'; frame-ancestors 'none'");
  });
  app.use(async (c, next) => {
    if (!answersTo(c.req.header("Host") ?? new URL(c.req.url).host, house.settings))
      throw new HttpProblem(421, "This server does not answer to that name", {
        hint: "Set UNDERCOAT_HOSTS to the names by which it is reached.",
      });
    await next();
  });
  app.get("/api/health", async (c) => {
    if (!(await house.store.answers()))
      throw new HttpProblem(503, "The product's database does not answer", { hint: "It is being tried again." });
    return c.json({ healthy: true });
  });
  const bounded = (maxSize: number) =>
    bodyLimit({
      maxSize,
      onError: () => {
        throw new HttpProblem(413, "The request is too large");
      },
    });
  const [small, large] = [bounded(largestBodyBefore), bounded(largestBody)];
  app.use("/api/*", async (c, next) => {
    c.set("house", house);
    c.header("Cache-Control", "no-store");
    const bearer = /^Bearer (.+)$/.exec(c.req.header("Authorization") ?? "")?.[1];
    const cookie = getCookie(c, sessionCookie);
    const user = bearer ? await userOfPass(bearer, ["token"]) : cookie ? await userOfPass(cookie, ["session"]) : null;
    c.set("user", user);
    // A browser names the page a write comes from; only this origin's pages may write with its cookie.
    if (!bearer && c.req.method !== "GET" && c.req.method !== "HEAD") {
      const origin = c.req.header("Origin");
      const site = c.req.header("Sec-Fetch-Site");
      const own = origin !== undefined && URL.canParse(origin) && new URL(origin).host === c.req.header("Host");
      if (!own || (site !== undefined && site !== "same-origin"))
        throw new HttpProblem(403, "This request comes from another site");
    }
    await next();
  });
  app.use("/api/*", async (c, next) => {
    const open =
      c.req.path === "/api/session" || c.req.path === "/api/session/link" || c.req.path === "/api/session/setup";
    if (!open && !c.get("user")) throw new HttpProblem(401, "Sign in first");
    // A file comes as a stream that is never held whole, and has a limit of its own.
    if (c.req.method === "PUT" && /^\/api\/connections\/[^/]+\/files$/.test(c.req.path)) await next();
    else await (open ? small : large)(c, next);
  });
  app.use("/api/*", async (c, next) =>
    c.req.path === "/api/events" || /\/(check|scan)$/.test(c.req.path) ? next() : compress()(c, next),
  );
  app.route("/api", api);

  app.use("/assets/*", compress());
  app.use(
    "/assets/*",
    serveStatic({
      root: pages,
      onFound: (_path, c) => c.header("Cache-Control", "public, max-age=31536000, immutable"),
    }),
  );
  app.get("/mark.svg", serveStatic({ root: pages }));
  app.get("*", (c) => {
    if (c.req.path.startsWith("/api/") || c.req.path.startsWith("/assets/")) return c.notFound();
    const page = join(pages, "index.html");
    if (!existsSync(page))
      throw new HttpProblem(503, "The pages are not built", { hint: "Start the product with ./undercoat." });
    const nonce = randomBytes(16).toString("base64");
    c.header("Content-Security-Policy", contentPolicy(nonce));
    c.header("Cache-Control", "no-cache");
    return c.html(readFileSync(page, "utf8").replaceAll("__NONCE__", nonce));
  });
  return app;
}
