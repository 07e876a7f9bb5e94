import type { Role, TokenSummary, User } from "@undercoat/core/api/api";
import Joi from "joi";
import { UniqueConstraintError } from "sequelize";
import { endPassesOf, issuePass } from "../account/passes.ts";
import { hashPassword } from "../account/password.ts";
import { requires, routes, signedIn, takes } from "../context.ts";
import { HttpProblem, notFound } from "../problem.ts";
import { PassRow, UserRow } from "../store/models.ts";
import { closeStreams } from "./events.ts";

export const accountSchema = {
  login: Joi.string()
    .pattern(/^[a-z0-9._@-]{2,64}$/)
    .required()
    .messages({ "string.pattern.base": "The sign-in name may hold small letters, digits and . _ @ -" }),
  name: Joi.string().min(1).max(80).required(),
  password: Joi.string().min(10).max(1024).messages({ "string.min": "The password needs at least 10 characters" }),
};
const role = Joi.string().valid("viewer", "editor", "administrator");

export const userView = (row: UserRow): User => ({
  id: row.id,
  name: row.name,
  login: row.login,
  role: row.role,
  active: row.active,
});

async function found(id: string): Promise<UserRow> {
  const user = await UserRow.findByPk(Number(id) || 0);
  if (!user) throw notFound("such user");
  return user;
}

export const users = routes()
  .use(requires("administrator"))
  .get("/", async (c) => c.json((await UserRow.findAll({ order: ["name"] })).map(userView)))
  .post(
    "/",
    takes<{ login: string; name: string; role: Role; password: string }>(
      Joi.object({ ...accountSchema, password: accountSchema.password.required(), role: role.required() }),
    ),
    async (c) => {
      const { password, ...account } = c.req.valid("json");
      const user = await UserRow.create({ ...account, password: await hashPassword(password), active: true }).catch(
        (error: unknown) => {
          throw error instanceof UniqueConstraintError
            ? new HttpProblem(409, `${account.login} is taken`, {
                problems: [{ path: ["login"], message: "This name is taken" }],
              })
            : error;
        },
      );
      return c.json(userView(user), 201);
    },
  )
  .patch(
    "/:id",
    takes<{ name?: string; role?: Role; active?: boolean; password?: string }>(
      Joi.object({
        name: accountSchema.name.optional(),
        role,
        active: Joi.boolean(),
        password: accountSchema.password,
      }),
    ),
    async (c) => {
      const user = await found(c.req.param("id"));
      const { password, ...change } = c.req.valid("json");
      const hashed = password ? { password: await hashPassword(password) } : {};
      const { sequelize } = c.get("house").store;
      await sequelize.transaction(async (transaction) => {
        // One change of roles at a time: at least one active administrator must remain.
        await sequelize.query("LOCK TABLE users IN EXCLUSIVE MODE", { transaction });
        await user.update({ ...change, ...hashed }, { transaction });
        if ((await UserRow.count({ where: { role: "administrator", active: true }, transaction })) === 0)
          throw new HttpProblem(409, `${user.name} is the only administrator`, {
            hint: "Make somebody else an administrator first.",
          });
      });
      if (change.active === false || password) {
        await endPassesOf(user.id);
        closeStreams((stream) => stream.user === user.id);
      }
      return c.json(userView(user));
    },
  );

/** Days that a token lasts where its maker does not say. */
const usualDays = 365;

/** Tokens for the command line: a user's own; an administrator sees and ends everybody's. */
export const tokens = routes()
  .use(requires("viewer"))
  .get("/", async (c) => {
    const user = signedIn(c);
    const everybody = user.role === "administrator";
    const rows = await PassRow.findAll({
      where: { kind: "token", ...(everybody ? {} : { userId: user.id }) },
      order: ["id"],
    });
    const names = new Map((await UserRow.findAll()).map((row) => [row.id, row.name]));
    const iso = (date: Date | null) => date?.toISOString() ?? null;
    const list: TokenSummary[] = rows.map((row) => ({
      id: row.id,
      name: row.name ?? "",
      user: names.get(row.userId ?? 0) ?? "",
      createdAt: row.createdAt.toISOString(),
      lastUsedAt: iso(row.lastUsedAt),
      expiresAt: iso(row.expiresAt),
    }));
    return c.json(list);
  })
  .post(
    "/",
    takes<{ name: string; days?: number }>(
      Joi.object({ name: Joi.string().min(1).max(80).required(), days: Joi.number().integer().min(1).max(3650) }),
    ),
    async (c) => {
      const { name, days } = c.req.valid("json");
      return c.json({ token: await issuePass(signedIn(c).id, "token", name, days ?? usualDays) }, 201);
    },
  )
  .delete("/:id", async (c) => {
    const user = signedIn(c);
    const ended = await PassRow.destroy({
      where: {
        id: Number(c.req.param("id")) || 0,
        kind: "token",
        ...(user.role === "administrator" ? {} : { userId: user.id }),
      },
    });
    if (!ended) throw notFound("such token");
    return c.body(null, 204);
  });
