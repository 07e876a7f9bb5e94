import { retryWaits } from "@undercoat/core/message/message";
import { Op } from "sequelize";
import { unseal } from "../secret.ts";
import { DeliveryRow, MessageRow } from "../store/models.ts";
import type { Store } from "../store/store.ts";
import { mailAccess } from "./mailserver.ts";
import { send } from "./send.ts";

/** How often is looked for deliveries that are due, in milliseconds. */
const tick = 1000;
/** How many are handed over side by side. */
const atOnce = 10;
/** For how long one that is being handed over is nobody else's, in milliseconds; longer than any receiver may take. */
const held = 60_000;
/** So many attempts are kept. */
const keptAttempts = 20;

/** A message's secret, opened; null where it has none. */
export const secretOf = (key: Buffer, { secret, name }: MessageRow) =>
  secret === null ? null : unseal(key, secret, `message ${name}`);

/** Hands one delivery over, and notes what came of it and when it is tried again; `once` is never. */
export async function handOver(store: Store, key: Buffer, delivery: DeliveryRow, once = false): Promise<void> {
  const message = await MessageRow.findByPk(delivery.message);
  if (!message) return;
  const parcel = {
    uid: delivery.uid,
    message: message.definition,
    secret: secretOf(key, message),
    body: delivery.body,
  };
  const attempt = await send(parcel, await mailAccess(key));
  const wait = once ? undefined : retryWaits[delivery.tries];
  await delivery.update({
    attempts: [...delivery.attempts, attempt].slice(-keptAttempts),
    tries: delivery.tries + 1,
    ...(attempt.error === null
      ? { status: "sent" as const, nextAt: null }
      : wait === undefined
        ? { status: "given up" as const, nextAt: null }
        : { status: "waiting" as const, nextAt: new Date(Date.now() + wait * 1000) }),
  });
  await store.tell({ kind: "changed", what: "messages" });
}

/** Hands over what is due, several side by side; of several processes each takes others. @returns how many */
export async function handOverDue(store: Store, key: Buffer): Promise<number> {
  const due = await store.sequelize.transaction(async (transaction) => {
    const rows = await DeliveryRow.findAll({
      where: { status: "waiting", nextAt: { [Op.lte]: new Date() } },
      order: ["nextAt", "id"],
      limit: atOnce,
      lock: transaction.LOCK.UPDATE,
      skipLocked: true,
      transaction,
    });
    await DeliveryRow.update(
      { nextAt: new Date(Date.now() + held) },
      { where: { id: rows.map(({ id }) => id) }, transaction },
    );
    return rows;
  });
  await Promise.all(due.map((delivery) => handOver(store, key, delivery)));
  return due.length;
}

/** Hands deliveries over until stopped. What a process had in hand when it died is handed over again, under the same id. */
export function startPostman(
  store: Store,
  key: Buffer,
  failed: (error: unknown) => void,
): { stop: () => Promise<void> } {
  let working: Promise<void> | null = null;
  const round = async () => {
    while ((await handOverDue(store, key)) === atOnce);
  };
  const timer = setInterval(() => {
    working ??= round()
      .catch(failed)
      .finally(() => {
        working = null;
      });
  }, tick);
  return {
    async stop() {
      clearInterval(timer);
      await working;
    },
  };
}
