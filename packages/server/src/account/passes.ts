import { Op } from "sequelize";
import { hashToken, newToken } from "../secret.ts";
import { PassRow, UserRow } from "../store/models.ts";

const day = 86_400_000;
const lifetimes = { session: 14 * day, link: 3_600_000, token: null };

/** Makes a pass and returns the token, which is not kept. `days`: how long it lasts, where that is not the kind's usual time. */
export async function issuePass(
  userId: number,
  kind: keyof typeof lifetimes,
  name: string | null = null,
  days: number | null = null,
): Promise<string> {
  const token = newToken();
  const life = days === null ? lifetimes[kind] : days * day;
  await PassRow.create({
    kind,
    hash: hashToken(token),
    userId,
    name,
    createdAt: new Date(),
    expiresAt: life === null ? null : new Date(Date.now() + life),
  });
  return token;
}

/** The active user a pass stands for, or null. A link is spent by this. */
export async function userOfPass(token: string, kinds: PassRow["kind"][]): Promise<UserRow | null> {
  const pass = await PassRow.findOne({
    where: { hash: hashToken(token), kind: kinds, expiresAt: { [Op.or]: [null, { [Op.gt]: new Date() }] } },
  });
  if (!pass) return null;
  if (pass.kind === "link" && (await PassRow.destroy({ where: { id: pass.id } })) !== 1) return null;
  const stale = !pass.lastUsedAt || Date.now() - pass.lastUsedAt.getTime() > 60_000;
  if (pass.kind !== "link" && stale) await pass.update({ lastUsedAt: new Date() });
  const user = pass.userId === null ? null : await UserRow.findByPk(pass.userId);
  return user?.active ? user : null;
}

export const endPass = (token: string) => PassRow.destroy({ where: { hash: hashToken(token) } });

/** Ends everything that signs a user in, but for the pass of the token that is kept. */
export const endPassesOf = (userId: number, keep: string | null = null) =>
  PassRow.destroy({ where: { userId, ...(keep === null ? {} : { hash: { [Op.ne]: hashToken(keep) } }) } });
