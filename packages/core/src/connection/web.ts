import Joi from "joi";
import type { HttpAuth, WebSettings } from "../pipeline/pipeline.ts";
import type { GivenSecret } from "../pipeline/project.ts";
import { parallel } from "./settings.ts";

/** What connections to applications have in common, which are asked by HTTP. */

const address = Joi.string()
  .uri({ scheme: ["http", "https"] })
  .pattern(/^[a-z]+:\/\/[^@/]*@/i, { invert: true })
  .max(2000)
  .messages({ "string.pattern.invert.base": "{{#label}} holds a user or a password; they belong into auth" });
const scopes = Joi.array()
  .items(Joi.string().pattern(/^[\x21\x23-\x5b\x5d-\x7e]+$/))
  .max(100)
  .unique();
const grant = Joi.string().valid("client_credentials", "authorization_code");
/** A secret where a project file writes it. */
const secret = Joi.alternatives(Joi.string().allow("").max(8192), Joi.object({ env: Joi.string().required() }));
const headerName = Joi.string()
  .pattern(/^[A-Za-z0-9!#$%&'*+.^_`|~-]{1,100}$/)
  .pattern(/^(host|connection|content-.*|transfer-encoding|cookie)$/i, { invert: true });

export const webSettings = {
  url: address.required(),
  auth: Joi.object({
    basic: Joi.object({ user: Joi.string().min(1).max(255).required(), password: secret }),
    key: Joi.object({ header: headerName.required(), value: secret }),
    bearer: Joi.alternatives(Joi.boolean().valid(true), secret),
    oauth: Joi.object({
      grant: grant.required(),
      authorize: address.when("grant", { is: "client_credentials", otherwise: Joi.required() }),
      token: address.required(),
      client: Joi.string().min(1).max(500).required(),
      secret,
      scopes,
    }),
  }).xor("basic", "key", "bearer", "oauth"),
  limits: Joi.object({
    minute: Joi.number().integer().min(1).max(1_000_000),
    hour: Joi.number().integer().min(1).max(10_000_000),
  }),
  parallel,
};

/** Where in `auth` each way of signing in holds what is secret of it. */
const secretIn = { basic: "password", key: "value", oauth: "secret" } as const;

/**
 * Settings without what is secret of them, and that. Wherever a file or a form says it, it is kept apart from then on.
 * @param given settings that the kind's schema admits, which may hold a secret within `auth`
 */
export function apart<Settings extends { auth?: HttpAuth }>(
  given: Settings & { password?: GivenSecret },
): { settings: Settings; password: GivenSecret | undefined } {
  const { password: beside, ...settings } = given as Settings & { password?: GivenSecret };
  const auth = settings.auth as Record<string, unknown> | undefined;
  if (!auth) return { settings: settings as unknown as Settings, password: beside };
  if (auth.bearer !== undefined)
    return {
      settings: { ...settings, auth: { bearer: true } } as unknown as Settings,
      password: auth.bearer === true ? beside : (auth.bearer as GivenSecret),
    };
  for (const [way, name] of Object.entries(secretIn)) {
    const told = auth[way] as Record<string, unknown> | undefined;
    if (!told) continue;
    const { [name]: secretOf, ...rest } = told;
    return {
      settings: { ...settings, auth: { [way]: rest } } as unknown as Settings,
      password: (secretOf as GivenSecret | undefined) ?? beside,
    };
  }
  return { settings: settings as unknown as Settings, password: beside };
}

/** What leads elsewhere when it changes: the secret goes to the host, and to where tokens are given. */
export const webAddress = ({ url, auth }: WebSettings) => [url, JSON.stringify(auth ?? {})];

export function webManner({ auth }: WebSettings): string | null {
  if (!auth) return "not signed in";
  if (auth.basic) return `${auth.basic.user}, by password`;
  if (auth.key) return `by a key in ${auth.key.header}`;
  if (auth.oauth)
    return auth.oauth.grant === "client_credentials"
      ? `${auth.oauth.client}, by OAuth in its own name`
      : `${auth.oauth.client}, by OAuth with somebody's consent`;
  return "by a bearer token";
}

export const webWritten = ({ url, auth, limits, parallel: many }: WebSettings) => ({
  url,
  ...(auth ? { auth } : {}),
  ...(limits ? { limits } : {}),
  ...(many ? { parallel: many } : {}),
});
