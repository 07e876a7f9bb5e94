import { createHash, randomBytes } from "node:crypto";
import type { ConnectionSettings, OAuth } from "@undercoat/core/pipeline/pipeline";
import type { WebCredentials } from "@undercoat/engine/connection/credentials";
import { redeem } from "@undercoat/engine/http/token";
import { Op } from "sequelize";
import { HttpProblem } from "../problem.ts";
import { seal, unseal } from "../secret.ts";
import { type ConnectionRow, ConsentRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";

/** How long somebody may take to consent, in milliseconds. */
const patience = 15 * 60_000;

const oauthOf = (settings: ConnectionSettings): OAuth | null => ("auth" in settings && settings.auth?.oauth) || null;

/** Nobody has consented: it was not asked for here, or somebody said no. */
export class NotConsented extends Error {
  constructor(readonly why: "unasked" | "denied") {
    super(why);
  }
}

/** True for an application that is read in the name of somebody who must consent. */
export const asksConsent = (settings: ConnectionSettings): boolean => oauthOf(settings)?.grant === "authorization_code";

const hashed = (state: string) => createHash("sha256").update(state).digest("base64url");
const about = (state: string) => `verifier ${state}`;

/** Where a user is sent to consent (RFC 6749, section 4.1.1, with PKCE, RFC 7636). Only the same user's return counts. */
export async function askConsent(key: Buffer, row: ConnectionRow, userId: number, redirect: string): Promise<string> {
  const oauth = oauthOf(row.settings);
  if (!oauth?.authorize || !asksConsent(row.settings))
    throw new HttpProblem(422, `${row.name} is read in its own name: nobody needs to consent`);
  const [state, verifier] = [randomBytes(32).toString("base64url"), randomBytes(48).toString("base64url")];
  await ConsentRow.destroy({ where: { expiresAt: { [Op.lt]: new Date() } } });
  await ConsentRow.create({
    state: hashed(state),
    connection: row.name,
    userId,
    verifier: seal(key, verifier, about(hashed(state))),
    redirect,
    expiresAt: new Date(Date.now() + patience),
  });
  const to = new URL(oauth.authorize);
  const asked = {
    response_type: "code",
    client_id: oauth.client,
    redirect_uri: redirect,
    state,
    code_challenge: createHash("sha256").update(verifier).digest("base64url"),
    code_challenge_method: "S256",
    ...(oauth.scopes?.length ? { scope: oauth.scopes.join(" ") } : {}),
  };
  for (const [name, value] of Object.entries(asked)) to.searchParams.set(name, value);
  return to.href;
}

/**
 * Takes what somebody brings back who was sent to consent; the connection that was consented to.
 * @throws NotConsented where they were not sent from here, or did not consent; LoadFailure where no token is given
 */
export async function takeConsent(
  store: Store,
  key: Buffer,
  userId: number,
  { state = "", code, error }: { state?: string; code?: string; error?: string },
): Promise<string> {
  const row = await ConsentRow.findByPk(hashed(state));
  // Whatever comes of it, it is good for once.
  await row?.destroy();
  if (!row || row.userId !== userId || row.expiresAt < new Date()) throw new NotConsented("unasked");
  if (code === undefined || error !== undefined) throw new NotConsented("denied");
  const credentials = (await store.credentials(row.connection)) as WebCredentials;
  const refresh = await redeem(credentials, {
    code,
    verifier: unseal(key, row.verifier, about(row.state)),
    redirect: row.redirect,
  });
  await store.keepConsent(row.connection, refresh);
  await store.tell({ kind: "changed", what: "connections" });
  return row.connection;
}
