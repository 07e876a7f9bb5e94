import type { OAuth } from "@undercoat/core/pipeline/pipeline";
import { request } from "undici";
import type { WebCredentials } from "../connection/credentials.ts";
import { LoadFailure } from "../failure.ts";
import { agent, destination, reach } from "./reach.ts";

/** What an application gives in exchange for a grant (RFC 6749, section 5.1). */
interface Given {
  token: string;
  /** when it ends, in milliseconds since 1970 */
  ends: number;
  refresh: string | null;
}

/** Tokens of this process, by the connection and what it signs in with. */
const tokens = new Map<string, Given>();
const asking = new Map<string, Promise<string>>();

const keyOf = ({ name, settings, password }: WebCredentials) => JSON.stringify([name, settings.auth, password]);

/** A token that ends within so many milliseconds is renewed before it is used. */
const early = 30_000;
/** How long a token is used of which it is not said when it ends, in milliseconds. */
const usual = 300_000;

/** Forgets a token that an application no longer takes. */
export function dropToken(credentials: WebCredentials): void {
  tokens.delete(keyOf(credentials));
}

/** A token by which requests are signed in; a new one where there is none that lasts. @throws LoadFailure where none is given */
export async function bearerOf(credentials: WebCredentials): Promise<string> {
  const key = keyOf(credentials);
  const known = tokens.get(key);
  if (known && known.ends > Date.now() + early) return known.token;
  const under = asking.get(key) ?? renewed(credentials, key).finally(() => asking.delete(key));
  asking.set(key, under);
  return under;
}

async function renewed(credentials: WebCredentials, key: string): Promise<string> {
  const { name, settings, consent } = credentials;
  const oauth = settings.auth?.oauth;
  if (!oauth) throw new Error("Tokens are given to those who sign in by OAuth");
  const scope: Record<string, string> = oauth.scopes?.length ? { scope: oauth.scopes.join(" ") } : {};
  let given: Given;
  if (oauth.grant === "client_credentials")
    given = await exchange(credentials, oauth, { grant_type: "client_credentials", ...scope });
  else {
    if (!consent)
      throw new LoadFailure({
        message: `Nobody has consented yet that ${name} is read`,
        hint: "Open the connection's page and press Sign in and consent.",
      });
    given = await consent.renew(async (refresh) => {
      const got = await exchange(credentials, oauth, { grant_type: "refresh_token", refresh_token: refresh });
      return { refresh: got.refresh ?? refresh, got };
    });
  }
  tokens.set(key, given);
  return given.token;
}

/** Exchanges the code that a consent gave for tokens; the refresh token. @throws LoadFailure where none is given */
export async function redeem(
  credentials: WebCredentials,
  { code, verifier, redirect }: { code: string; verifier: string; redirect: string },
): Promise<string> {
  const oauth = credentials.settings.auth?.oauth;
  if (!oauth) throw new Error("Only OAuth asks for consent");
  const form = { grant_type: "authorization_code", code, code_verifier: verifier, redirect_uri: redirect };
  const given = await exchange(credentials, oauth, form);
  tokens.set(keyOf(credentials), given);
  if (given.refresh === null)
    throw new LoadFailure({
      message: `${credentials.name} gives no refresh token, so it could be read for a short while only`,
      hint: "Some applications give one for a scope of its own, such as offline_access.",
    });
  return given.refresh;
}

/** How much of an answer is read for a token, in bytes. */
const longest = 100_000;

/** Asks for a token; the client says who it is by HTTP Basic, and where that is refused in the form (RFC 6749, section 2.3.1). */
async function exchange(
  { name, password }: WebCredentials,
  oauth: OAuth,
  form: Record<string, string>,
): Promise<Given> {
  const coded = (text: string) => encodeURIComponent(text).replaceAll("%20", "+");
  const ways: { headers: Record<string, string>; form: Record<string, string> }[] = [
    {
      headers: {
        authorization: `Basic ${Buffer.from(`${coded(oauth.client)}:${coded(password)}`).toString("base64")}`,
      },
      form: {},
    },
    { headers: {}, form: { client_id: oauth.client, client_secret: password } },
  ];
  let failure: LoadFailure | null = null;
  for (const way of ways) {
    const { status, told } = await post(name, oauth.token, way.headers, new URLSearchParams({ ...form, ...way.form }));
    if (status < 200 || status >= 300) {
      const { error = "", error_description: description } = told as { error?: string; error_description?: string };
      failure = new LoadFailure({
        message: `${name} gives no token: it answered ${status}${error ? `, ${String(error).slice(0, 100)}` : ""}`,
        ...(description ? { detail: String(description).slice(0, 500) } : {}),
        hint:
          error === "invalid_grant"
            ? "The consent has ended or was withdrawn: sign in and consent again on the connection's page."
            : error === "invalid_scope"
              ? `Check the scopes: ${oauth.scopes?.join(", ")}.`
              : "Check the client, its secret and the token's address.",
      });
      if (error === "invalid_client" || status === 401) continue;
      throw failure;
    }
    const { access_token: token, expires_in: seconds, refresh_token: refresh, scope, token_type: type } = told;
    if (typeof token !== "string" || (typeof type === "string" && !/^bearer$/i.test(type)))
      throw new LoadFailure({ message: `${name} answers with no bearer token` });
    const granted = typeof scope === "string" ? scope.split(/\s+/) : null;
    const lacking = granted ? (oauth.scopes ?? []).filter((one) => !granted.includes(one)) : [];
    if (lacking.length)
      throw new LoadFailure({
        message: `${name} did not grant ${lacking.join(" and ")}`,
        hint: "Grant it there to this client, or leave the scope out of the connection.",
      });
    const lasts = Number(seconds);
    return {
      token,
      ends: Date.now() + (Number.isFinite(lasts) && lasts > 0 ? lasts * 1000 : usual),
      refresh: typeof refresh === "string" ? refresh : null,
    };
  }
  throw failure ?? new LoadFailure({ message: `${name} gives no token` });
}

async function post(
  name: string,
  address: string,
  headers: Record<string, string>,
  form: URLSearchParams,
): Promise<{ status: number; told: Record<string, unknown> }> {
  const at = new URL(address);
  await reach(destination(at));
  const { statusCode, body } = await request(at, {
    dispatcher: agent,
    method: "POST",
    headers: { accept: "application/json", "content-type": "application/x-www-form-urlencoded", ...headers },
    body: form.toString(),
  });
  let text = "";
  for await (const part of body) {
    text += part;
    if (text.length > longest) throw new LoadFailure({ message: `${name} answers with too much to be a token` });
  }
  try {
    const told = JSON.parse(text);
    return { status: statusCode, told: typeof told === "object" && told !== null ? told : {} };
  } catch {
    return { status: statusCode, told: {} };
  }
}
