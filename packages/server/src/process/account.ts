import { existsSync, readFileSync } from "node:fs";
import { join } from "node:path";
import type { Role } from "@undercoat/core/api/api";
import { check } from "@undercoat/core/pipeline/schema";
import Joi from "joi";
import { issuePass } from "../account/passes.ts";
import { hashPassword } from "../account/password.ts";
import { accountSchema } from "../routes/users.ts";
import { SettingError, type Settings } from "../settings.ts";
import { PassRow, UserRow } from "../store/models.ts";
import { Store } from "../store/store.ts";
import { openDatabase } from "./database.ts";
import { otherServer } from "./serve.ts";
import { leaveToken } from "./token.ts";

export interface AccountRequest {
  login: string;
  name?: string;
  role?: Role;
  /** null where none was given */
  password: string | null;
}

/** What came of it, and a link that signs the account in once. */
export interface AccountMade {
  made: boolean;
  role: Role;
  link: string;
}

/**
 * Makes an account on this machine, or lets an existing one in again; the first is an administrator. The command line's
 * token is left in the data folder.
 * @throws SettingError when the account can't be had.
 */
export async function account(
  settings: Settings,
  { login: given, name, role, password }: AccountRequest,
): Promise<AccountMade> {
  const login = given.trim().toLowerCase();
  const { problems } = check(Joi.object({ ...accountSchema, name: accountSchema.name.optional() }), {
    login,
    ...(name === undefined ? {} : { name }),
    ...(password === null ? {} : { password }),
  });
  if (problems[0]) throw new SettingError(`${problems[0].message}.`);
  const running = otherServer(settings) !== null;
  const database = await openDatabase(settings);
  try {
    const store = await Store.open(database.url, settings.key);
    try {
      const hashed = password === null ? {} : { password: await hashPassword(password) };
      const { user, made } = await store.sequelize.transaction(async (transaction) => {
        await store.sequelize.query("LOCK TABLE users IN EXCLUSIVE MODE", { transaction });
        const found = await UserRow.findOne({ where: { login }, transaction });
        if (found && !found.active)
          throw new SettingError(`${login} was deactivated; an administrator can let it in again.`);
        if (found) return { user: await found.update(hashed, { transaction }), made: false };
        const first = (await UserRow.count({ transaction })) === 0;
        if (first && role !== undefined && role !== "administrator")
          throw new SettingError("The first account is an administrator's.");
        await PassRow.destroy({ where: { kind: "setup" }, transaction });
        return {
          user: await UserRow.create(
            {
              login,
              name: name ?? login,
              role: first ? "administrator" : (role ?? "viewer"),
              password: null,
              active: true,
              ...hashed,
            },
            { transaction },
          ),
          made: true,
        };
      });
      await leaveToken(settings);
      const address = join(settings.data, "address");
      const base = existsSync(address) ? readFileSync(address, "utf8") : `http://${settings.host}:${settings.port}`;
      return { made, role: user.role, link: `${base}/link#${await issuePass(user.id, "link")}` };
    } finally {
      await store.close();
    }
  } finally {
    if (!running) await database.cluster?.stop();
  }
}
