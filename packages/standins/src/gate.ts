import { createHash, randomBytes } from "node:crypto";
import { createServer, type IncomingMessage, type ServerResponse } from "node:http";
import { gzipSync } from "node:zlib";
import { openApi } from "./gate-api.ts";
import { Scans } from "./gate-books.ts";
import { listen, withBody } from "./listen.ts";
import { type Trouble, Troubles } from "./trouble.ts";

export interface Gate {
  port: number;
  /** the address below which records are asked for */
  url: string;
  client: string;
  secret: string;
  /** an hour of business: scans come, some are put right, some are struck out; how many of each */
  passHour(): { added: number; changed: number; deleted: number };
  trouble(next: Trouble): void;
  /** requests that were answered, by path without parameters */
  counts(): Record<string, number>;
  /** ends every token at once */
  endTokens(): void;
  /** comments that were sent, and what of: `scans/17` */
  comments(): { of: string; text: string }[];
  close(): Promise<void>;
}

/** How it is set up. */
export interface GateOptions {
  port?: number;
  scans?: number;
  secret?: string;
  /** how long a token lasts, in seconds */
  lasting?: number;
  /** where it keeps what it has written down, so that it is the same after another start */
  file?: string;
}

const mostPerPage = 1000;
/** So many scans stand in a part of an export. */
const perPart = 50_000;

interface Grant {
  scopes: string[];
  ends: number;
}

/**
 * The Gate service: scans and incidents of the ports' gates over HTTP, signed in to by OAuth 2 in the client's own name or with
 * somebody's consent (RFC 6749, RFC 7636), described by OpenAPI 3. On loopback; `port` 0 is any.
 */
export async function openGate({
  port = 0,
  scans = 300_000,
  secret = "gate",
  lasting = 300,
  file,
}: GateOptions = {}): Promise<Gate> {
  const books = new Scans(scans, file ?? null);
  const client = "undercoat";
  const tokens = new Map<string, Grant>();
  const codes = new Map<string, { challenge: string; redirect: string; scopes: string[] }>();
  const refreshes = new Map<string, string[]>();
  const comments: { of: string; text: string; key: string | null }[] = [];
  const exports = new Map<string, number>();
  const counts: Record<string, number> = {};
  const troubles = new Troubles();

  const give = (response: ServerResponse, status: number, body: string, headers: Record<string, string> = {}) => {
    response.writeHead(status, { "content-type": "application/json", ...headers }).end(body);
  };
  const problem = (response: ServerResponse, status: number, title: string, headers: Record<string, string> = {}) =>
    give(response, status, JSON.stringify({ title, status }), {
      "content-type": "application/problem+json",
      ...headers,
    });

  const tokenFor = (scopes: string[], refreshing: boolean) => {
    const token = randomBytes(24).toString("base64url");
    tokens.set(token, { scopes, ends: Date.now() + lasting * 1000 });
    const refresh = refreshing ? randomBytes(24).toString("base64url") : null;
    if (refresh) refreshes.set(refresh, scopes);
    return JSON.stringify({
      access_token: token,
      token_type: "Bearer",
      expires_in: lasting,
      scope: scopes.join(" "),
      ...(refresh ? { refresh_token: refresh } : {}),
    });
  };

  const token = (request: IncomingMessage, response: ServerResponse, form: URLSearchParams) => {
    const [, basic] = /^Basic (.*)$/.exec(request.headers.authorization ?? "") ?? [];
    const [id, given] = basic
      ? Buffer.from(basic, "base64").toString("utf8").split(":").map(decodeURIComponent)
      : [form.get("client_id"), form.get("client_secret")];
    const refuse = (error: string, status = 400) => give(response, status, JSON.stringify({ error }));
    if (id !== client || given !== secret) return refuse("invalid_client", 401);
    const wanted = (form.get("scope") ?? "scans.read").split(" ").filter(Boolean);
    switch (form.get("grant_type")) {
      case "client_credentials":
        if (wanted.some((scope) => !/^(scans|incidents)\.(read|write)$/.test(scope))) return refuse("invalid_scope");
        return give(response, 200, tokenFor(wanted, false));
      case "authorization_code": {
        const code = codes.get(form.get("code") ?? "");
        codes.delete(form.get("code") ?? "");
        const challenge = createHash("sha256")
          .update(form.get("code_verifier") ?? "")
          .digest("base64url");
        if (!code || code.challenge !== challenge || code.redirect !== form.get("redirect_uri"))
          return refuse("invalid_grant");
        return give(response, 200, tokenFor(code.scopes, true));
      }
      case "refresh_token": {
        const scopes = refreshes.get(form.get("refresh_token") ?? "");
        // Each is good for once.
        refreshes.delete(form.get("refresh_token") ?? "");
        return scopes ? give(response, 200, tokenFor(scopes, true)) : refuse("invalid_grant");
      }
      default:
        return refuse("unsupported_grant_type");
    }
  };

  /** The page on which somebody consents; agreeing leads back with a code. */
  const consent = (url: URL, response: ServerResponse) => {
    const back = url.searchParams.get("redirect_uri") ?? "";
    const fits =
      url.searchParams.get("client_id") === client &&
      url.searchParams.get("response_type") === "code" &&
      url.searchParams.get("code_challenge_method") === "S256" &&
      /^http:\/\/(127\.0\.0\.1|localhost)(:\d+)?\//.test(back);
    if (!fits) return problem(response, 400, "The request for consent is not as it should be");
    const to = new URL(back);
    to.searchParams.set("state", url.searchParams.get("state") ?? "");
    if (url.searchParams.has("agreed")) {
      const code = randomBytes(18).toString("base64url");
      codes.set(code, {
        challenge: url.searchParams.get("code_challenge") ?? "",
        redirect: back,
        scopes: (url.searchParams.get("scope") ?? "scans.read").split(" ").filter(Boolean),
      });
      to.searchParams.set("code", code);
      response.writeHead(302, { location: to.href }).end();
      return;
    }
    to.searchParams.set("error", "access_denied");
    const agreed = new URL(url.href);
    agreed.searchParams.set("agreed", "yes");
    const written = (text: string) => text.replace(/[&<>"]/g, (sign) => `&#${sign.charCodeAt(0)};`);
    response
      .writeHead(200, { "content-type": "text/html; charset=utf-8" })
      .end(
        `<!doctype html><title>Gate service</title><body style="font:16px sans-serif;max-width:32em;margin:4em auto"><h1>Gate service</h1><p>Undercoat asks to read for you: <b>${written(url.searchParams.get("scope") ?? "scans.read")}</b>.</p><p><a href="${written(agreed.pathname + agreed.search)}">Allow it</a> &nbsp; <a href="${written(to.href)}">Don't</a></p>`,
      );
  };

  const page = (
    url: URL,
    response: ServerResponse,
    rows: { of(after: string, most: number): string[]; keyOf(record: string): string },
  ) => {
    const most = Math.min(Number(url.searchParams.get("limit") ?? 200) || 200, mostPerPage);
    const after = Buffer.from(url.searchParams.get("after") ?? "", "base64url").toString("utf8");
    const found = rows.of(after, most + 1);
    const given = found.slice(0, most);
    const last = given.at(-1);
    const next = found.length > most && last !== undefined ? Buffer.from(rows.keyOf(last)).toString("base64url") : null;
    give(response, 200, `{"data":[${given.join(",")}],"next":${JSON.stringify(next)}}`);
  };

  const records = async (url: URL, request: IncomingMessage, response: ServerResponse, body: string) => {
    const path = url.pathname.replace(/^\/api/, "");
    const [, bearer] = /^Bearer (.*)$/.exec(request.headers.authorization ?? "") ?? [];
    const grant = tokens.get(bearer ?? "");
    if (!grant || grant.ends < Date.now())
      return problem(response, 401, "The token has ended, or is none", {
        "www-authenticate": 'Bearer error="invalid_token"',
      });
    const may = (scope: string) => {
      if (grant.scopes.includes(scope)) return true;
      problem(response, 403, `The scope ${scope} is needed`, {
        "www-authenticate": `Bearer error="insufficient_scope", scope="${scope}"`,
      });
      return false;
    };
    const since = url.searchParams.get("updated_after");
    if (path === "/scans")
      return may("scans.read") && page(url, response, books.page(since, troubles.now.fields ?? null));
    if (path === "/exports" && request.method === "POST") {
      if (!may("scans.read")) return;
      const id = String(exports.size + 1);
      exports.set(id, 0);
      return give(response, 202, JSON.stringify({ id, state: "waiting" }));
    }
    const [, exported, part] = /^\/exports\/(\d+)(?:\/(\d+)\.csv\.gz)?$/.exec(path) ?? [];
    if (exported && exports.has(exported)) {
      if (!may("scans.read")) return;
      if (part) {
        response
          .writeHead(200, { "content-type": "application/gzip" })
          .end(gzipSync(books.csv(Number(part), perPart), { level: 1 }));
        return;
      }
      // It is done the third time that somebody asks.
      const asks = (exports.get(exported) ?? 0) + 1;
      exports.set(exported, asks);
      const parts = Array.from(
        { length: Math.ceil(books.size / perPart) },
        (_, at) => `/api/exports/${exported}/${at}.csv.gz`,
      );
      const state =
        asks < 3
          ? { state: "running", records: Math.floor((books.size * asks) / 3) }
          : { state: "done", records: books.size, parts };
      return give(response, 200, JSON.stringify(state));
    }
    if (path === "/scans/deleted")
      return may("scans.read") && page(url, response, books.deletedPage(url.searchParams.get("deleted_since")));
    if (path === "/incidents") return may("incidents.read") && page(url, response, books.incidentPage());
    const [, of, kind] = /^\/((scans|incidents)\/\d+)\/comments$/.exec(path) ?? [];
    if (of && request.method === "POST") {
      if (!may(`${kind}.write`)) return;
      const { text } = JSON.parse(body || "{}") as { text?: unknown };
      if (typeof text !== "string" || text.length > 500)
        return problem(response, 422, "A comment is a text of up to 500 signs");
      // Who says the same twice under one key has said it once.
      const key = [request.headers["idempotency-key"] ?? []].flat()[0] ?? null;
      if (key === null || !comments.some((one) => one.key === key)) comments.push({ of, text, key });
      return give(response, 201, "{}");
    }
    return problem(response, 404, `There is nothing at ${path}`);
  };

  const server = createServer((request, response) => {
    const url = new URL(request.url ?? "/", `http://${request.headers.host ?? "127.0.0.1"}`);
    withBody(request, async (body) => {
      counts[url.pathname] = (counts[url.pathname] ?? 0) + 1;
      if (troubles.takes(request, response, url.pathname, body)) return;
      if (url.pathname === "/api/openapi.json")
        return give(response, 200, JSON.stringify(openApi(`http://${request.headers.host}`)));
      if (url.pathname === "/oauth/authorize") return consent(url, response);
      if (url.pathname === "/oauth/token" && request.method === "POST")
        return token(request, response, new URLSearchParams(body));
      if (!url.pathname.startsWith("/api/")) return problem(response, 404, `There is nothing at ${url.pathname}`);
      if (await troubles.meets(response)) return;
      await records(url, request, response, body);
    });
  });
  const { port: bound, close } = await listen(server, port);
  return {
    port: bound,
    url: `http://127.0.0.1:${bound}/api`,
    client,
    secret,
    passHour: () => books.passHour(),
    trouble: (next) => troubles.set(next),
    counts: () => ({ ...counts }),
    endTokens: () => tokens.clear(),
    comments: () => comments.map(({ of, text }) => ({ of, text })),
    close,
  };
}
