import type { DeliveryHeading, DeliveryView, MailServerView, MessageView } from "@undercoat/core/api/api";
import { type Delivery, mailText, subjectOf } from "@undercoat/core/message/delivery";
import { type MailServer, type Message, sameReceiver } from "@undercoat/core/message/message";
import { mailServerSchema, messageSchema, slug } from "@undercoat/core/pipeline/schema";
import Joi from "joi";
import { Op } from "sequelize";
import { asks, numberOf, requires, routes, takes } from "../context.ts";
import { keepsPassword, mailServer, setMailServer } from "../messages/mailserver.ts";
import { handOver } from "../messages/postman.ts";
import { keep } from "../messages/tell.ts";
import { HttpProblem, notFound } from "../problem.ts";
import { seal } from "../secret.ts";
import { DeliveryRow, MessageRow, TroubleRow } from "../store/models.ts";

const pageSize = 100;

async function found(name: string): Promise<MessageRow> {
  const row = await MessageRow.findByPk(name);
  if (!row) throw notFound(`message ${name}`);
  return row;
}

const heading = (row: DeliveryRow): DeliveryHeading => ({
  id: row.id,
  message: row.message,
  type: row.body.type,
  subject: subjectOf(row.body),
  status: row.status,
  tries: row.tries,
  createdAt: row.createdAt.toISOString(),
  nextAt: row.nextAt?.toISOString() ?? null,
  error: row.attempts.at(-1)?.error ?? null,
});

const deliveryView = (row: DeliveryRow): DeliveryView => ({
  ...heading(row),
  uid: row.uid,
  body: row.body,
  text: mailText(row.body),
  attempts: row.attempts,
});

async function view(row: MessageRow): Promise<MessageView> {
  const troubles = await TroubleRow.findAll({ where: { message: row.name }, order: ["since"] });
  const last = await DeliveryRow.findOne({ where: { message: row.name }, order: [["id", "DESC"]] });
  return {
    name: row.name,
    definition: row.definition,
    hasSecret: row.secret !== null,
    troubles: troubles.map(({ pipeline, load, line, kind, says, since, runId }) => ({
      pipeline,
      load,
      line,
      kind,
      says,
      since: since.toISOString(),
      run: runId,
    })),
    last: last && heading(last),
    waiting: await DeliveryRow.count({ where: { message: row.name, status: "waiting" } }),
  };
}

type Given = { definition: Message & { secret?: string } };
const given = Joi.object({ definition: messageSchema.required() });

/** A screen types a secret in; naming an environment variable belongs to the project file. @throws HttpProblem 422 */
function typed(secret: unknown, path: string[]): void {
  if (typeof secret === "object" && secret !== null)
    throw new HttpProblem(422, "A secret is typed in here", { problems: [{ path, message: "Type it in" }] });
}

const testBody = (name: string): Delivery => ({
  type: "test",
  timestamp: new Date().toISOString(),
  data: { pipeline: "", title: name, url: "", troubles: [], run: null },
});

/** Who is told of what. */
export const messages = routes()
  .use(requires("viewer"))
  .get("/", async (c) => c.json(await Promise.all((await MessageRow.findAll({ order: ["name"] })).map(view))))
  /** Makes or changes one; an absent secret leaves the stored one. */
  .put("/:name", requires("editor"), takes<Given>(given), async (c) => {
    const { store, settings } = c.get("house");
    const name = c.req.param("name");
    if (slug.validate(name).error)
      throw new HttpProblem(422, "A name may hold letters, digits, - and _, up to 63 of them");
    const { secret, ...definition } = c.req.valid("json").definition;
    typed(secret, ["definition", "secret"]);
    const before = await MessageRow.findByPk(name);
    if (before?.secret && secret === undefined && !sameReceiver(before.definition, definition))
      throw new HttpProblem(422, "Type the secret again: where it goes has changed", {
        problems: [{ path: ["definition", "secret"], message: "Type it again: the address has changed" }],
      });
    const sealed = secret === undefined ? (before?.secret ?? null) : seal(settings.key, secret, `message ${name}`);
    const [row] = await MessageRow.upsert({ name, definition, secret: sealed });
    await store.tell({ kind: "changed", what: "messages" });
    return c.json(await view(row));
  })
  .delete("/:name", requires("editor"), async (c) => {
    await (await found(c.req.param("name"))).destroy();
    await c.get("house").store.tell({ kind: "changed", what: "messages" });
    return c.body(null, 204);
  })
  /** Tells a test at once; what was asked and answered is told back. */
  .post("/:name/test", requires("editor"), async (c) => {
    const { store, settings } = c.get("house");
    const row = await found(c.req.param("name"));
    const delivery = await keep(row.name, testBody(row.name));
    await handOver(store, settings.key, delivery, true);
    return c.json(deliveryView(delivery));
  });

/** What was told, is to be told and could not be told. */
export const deliveries = routes()
  .use(requires("viewer"))
  .get("/", asks("message", "status", "before"), async (c) => {
    const query = c.req.valid("query");
    const before = numberOf(query, "before");
    const rows = await DeliveryRow.findAll({
      where: {
        ...(query.message ? { message: query.message } : {}),
        ...(query.status ? { status: query.status as DeliveryHeading["status"] } : {}),
        ...(before ? { id: { [Op.lt]: before } } : {}),
      },
      order: [["id", "DESC"]],
      limit: pageSize,
    });
    return c.json(rows.map(heading));
  })
  .get("/:id", async (c) => {
    const row = await DeliveryRow.findByPk(Number(c.req.param("id")) || 0);
    if (!row) throw notFound(`delivery ${c.req.param("id")}`);
    return c.json(deliveryView(row));
  })
  /** Hands it over once more, at once, under the id that it had. */
  .post("/:id/again", requires("editor"), async (c) => {
    const { store, settings } = c.get("house");
    const row = await DeliveryRow.findByPk(Number(c.req.param("id")) || 0);
    if (!row) throw notFound(`delivery ${c.req.param("id")}`);
    await row.update({ tries: 0, nextAt: new Date(Date.now() + 60_000), status: "waiting" });
    await handOver(store, settings.key, row);
    return c.json(deliveryView(row));
  });

/** The server that mail is handed to. */
export const mail = routes()
  .use(requires("viewer"))
  .get("/", async (c) => c.json((await mailServer()) satisfies MailServerView))
  .put(
    "/",
    requires("editor"),
    takes<{ settings: (MailServer & { password?: string }) | null }>(
      Joi.object({ settings: mailServerSchema.allow(null).required() }),
    ),
    async (c) => {
      const { store, settings: house } = c.get("house");
      const { settings } = c.req.valid("json");
      const { password, ...rest } = settings ?? {};
      typed(password, ["settings", "password"]);
      const server = settings && (rest as MailServer);
      if (server && password === undefined && (await mailServer()).hasPassword && !(await keepsPassword(server)))
        throw new HttpProblem(422, "Type the password again: where it goes has changed", {
          problems: [{ path: ["settings", "password"], message: "Type it again: host, port, user or TLS has changed" }],
        });
      await setMailServer(house.key, server, password);
      await store.tell({ kind: "changed", what: "messages" });
      return c.json((await mailServer()) satisfies MailServerView);
    },
  );
