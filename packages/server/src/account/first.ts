import type { CreationAttributes } from "sequelize";
import { hashToken, newToken } from "../secret.ts";
import { PassRow, UserRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";

/** Somebody came first, or the link is not the one that was printed. */
export class FirstAccountRefused extends Error {}

/** A link that makes the first account, once and within the day; earlier ones are void. Null where there are accounts. */
export async function issueSetup(): Promise<string | null> {
  if ((await UserRow.count()) > 0) return null;
  const token = newToken();
  await PassRow.destroy({ where: { kind: "setup" } });
  await PassRow.create({
    kind: "setup",
    hash: hashToken(token),
    userId: null,
    name: null,
    createdAt: new Date(),
    expiresAt: new Date(Date.now() + 24 * 3_600_000),
  });
  return token;
}

/** True for the token of a link that makes the first account. */
export async function isSetup(token: string): Promise<boolean> {
  return (
    (await PassRow.count({ where: { kind: "setup", hash: hashToken(token) } })) === 1 && (await UserRow.count()) === 0
  );
}

/** Makes the first account, an administrator's, in one transaction with the end of the link; of several at once one succeeds. @throws FirstAccountRefused */
export async function makeFirst(
  store: Store,
  token: string,
  account: Omit<CreationAttributes<UserRow>, "role" | "active">,
): Promise<UserRow> {
  return store.sequelize.transaction(async (transaction) => {
    await store.sequelize.query("LOCK TABLE users IN EXCLUSIVE MODE", { transaction });
    const spent = await PassRow.destroy({ where: { kind: "setup", hash: hashToken(token) }, transaction });
    if (spent !== 1) throw new FirstAccountRefused("This link has been used, or is not the one that was printed");
    if ((await UserRow.count({ transaction })) > 0) throw new FirstAccountRefused("An administrator exists already");
    return UserRow.create({ ...account, role: "administrator", active: true }, { transaction });
  });
}
