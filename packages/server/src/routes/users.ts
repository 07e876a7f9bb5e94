import type { Role, TokenSummary, User } from "@undercoat/core/api/api";
import Joi from "joi";
import { endPassesOf, issuePass } from "../account/passes.ts";
import { hashPassword } from "../account/password.ts";
import { body, requires, routes, signedIn } from "../context.ts";
import { HttpProblem, notFound } from "../problem.ts";
import { PassRow, UserRow } from "../store/models.ts";

export const accountSchema = {
  login: Joi.string().pattern(/^[a-z0-9._@-]{2,64}$/).required().messages({ "string.pattern.base": "The sign-in name may hold small letters, digits and . _ @ -" }),
  name: Joi.string().min(1).max(80).required(),
  password: Joi.string().min(10).max(1024).messages({ "string.min": "The password needs at least 10 characters" }),
};
const role = Joi.string().valid("viewer", "editor", "administrator");

export const userView = (row: UserRow): User => ({ id: row.id, name: row.name, login: row.login, role: row.role, active: row.active });

/** At least one active administrator must remain. */
async function keepAnAdministrator(user: UserRow): Promise<void> {
  const others = await UserRow.count({ where: { role: "administrator", active: true } });
  if (user.role === "administrator" && user.active && others <= 1) throw new HttpProblem(409, `${user.name} is the only administrator`, { hint: "Make somebody else an administrator first." });
}

async function found(id: string): Promise<UserRow> {
  const user = await UserRow.findByPk(Number(id) || 0);
  if (!user) throw notFound("such user");
  return user;
}

export const users = routes()
  .use(requires("administrator"))
  .get("/", async (c) => c.json((await UserRow.findAll({ order: ["name"] })).map(userView)))
  .post("/", async (c) => {
    const { password, ...account } = await body<{ login: string; name: string; role: Role; password: string }>(c, Joi.object({ ...accountSchema, password: accountSchema.password.required(), role: role.required() }));
    if (await UserRow.findOne({ where: { login: account.login } })) throw new HttpProblem(409, `${account.login} is taken`, { problems: [{ path: ["login"], message: "This name is taken" }] });
    return c.json(userView(await UserRow.create({ ...account, password: await hashPassword(password), active: true })), 201);
  })
  .patch("/:id", async (c) => {
    const user = await found(c.req.param("id"));
    const { password, ...change } = await body<{ name?: string; role?: Role; active?: boolean; password?: string }>(
      c,
      Joi.object({ name: accountSchema.name.optional(), role, active: Joi.boolean(), password: accountSchema.password }),
    );
    if ((change.role && change.role !== "administrator") || change.active === false) await keepAnAdministrator(user);
    await user.update({ ...change, ...(password ? { password: await hashPassword(password) } : {}) });
    if (change.active === false || password) await endPassesOf(user.id);
    return c.json(userView(user));
  });

/** A user's own tokens for the command line. */
export const tokens = routes()
  .use(requires("viewer"))
  .get("/", async (c) => {
    const rows = await PassRow.findAll({ where: { userId: signedIn(c).id, kind: "token" }, order: ["id"] });
    const list: TokenSummary[] = rows.map((row) => ({ id: row.id, name: row.name ?? "", createdAt: row.createdAt.toISOString(), lastUsedAt: row.lastUsedAt?.toISOString() ?? null }));
    return c.json(list);
  })
  .post("/", async (c) => {
    const { name } = await body<{ name: string }>(c, Joi.object({ name: Joi.string().min(1).max(80).required() }));
    return c.json({ token: await issuePass(signedIn(c).id, "token", name) }, 201);
  })
  .delete("/:id", async (c) => {
    const ended = await PassRow.destroy({ where: { id: Number(c.req.param("id")) || 0, userId: signedIn(c).id, kind: "token" } });
    if (!ended) throw notFound("such token");
    return c.body(null, 204);
  });
