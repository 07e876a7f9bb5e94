import type { MailServer } from "@undercoat/core/message/message";
import type { Transaction } from "sequelize";
import { seal, unseal } from "../secret.ts";
import { FactRow } from "../store/models.ts";
import type { MailAccess } from "./send.ts";

const name = "mail";

interface Kept {
  settings: MailServer;
  /** sealed */
  password: string | null;
}

async function kept(transaction?: Transaction): Promise<Kept | null> {
  return ((await FactRow.findByPk(name, { transaction }))?.value as Kept | undefined) ?? null;
}

/** The mail server, without its password. */
export async function mailServer(): Promise<{ settings: MailServer | null; hasPassword: boolean }> {
  const found = await kept();
  return { settings: found?.settings ?? null, hasPassword: found?.password != null };
}

/** The mail server with its password opened; null where none is named. */
export async function mailAccess(key: Buffer): Promise<MailAccess | null> {
  const found = await kept();
  return found && { settings: found.settings, password: found.password && unseal(key, found.password, name) };
}

/** True where the stored password would go where it went before. */
export async function keepsPassword({ host, port, user, tls }: MailServer): Promise<boolean> {
  const before = (await kept())?.settings;
  return before?.host === host && before.port === port && before.user === user && before.tls === tls;
}

/** Names the mail server; an undefined password leaves the stored one, null settings name none any more. */
export async function setMailServer(
  key: Buffer,
  settings: MailServer | null,
  password: string | undefined,
  transaction?: Transaction,
): Promise<void> {
  if (settings === null) {
    await FactRow.destroy({ where: { name }, transaction });
    return;
  }
  const before = await kept(transaction);
  const sealed = password === undefined ? (before?.password ?? null) : seal(key, password, name);
  await FactRow.upsert({ name, value: { settings, password: sealed } satisfies Kept }, { transaction });
}
