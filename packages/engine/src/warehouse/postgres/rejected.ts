import type { Readable } from "node:stream";
import type { RejectedChoice, RejectedList } from "@undercoat/core/run/rejected";
import * as reject from "@undercoat/core/sql/reject";
import type { Row, ServerCredentials } from "../../connection/credentials.ts";
import { Session } from "../../postgres/session.ts";
import { houseVersion } from "./house.ts";

const text = (row: Row, name: string) => row[name] ?? "";

/** Rejected rows that a filter lets through, the latest first, and how many each load has for each reason. */
export async function listRejected(
  credentials: ServerCredentials,
  filter: reject.RejectedFilter,
  limit: number,
  offset: number,
): Promise<RejectedList> {
  const session = await Session.open(credentials, { application: "undercoat list", readOnly: true });
  try {
    if ((await houseVersion(session)) === 0) return { rows: [], counts: [] };
    const [list, count] = [reject.listRejected(filter, limit, offset), reject.countRejected(filter)];
    const rows = await session.query(list.sql, list.values);
    const counts = await session.query(count.sql, count.values);
    return {
      rows: rows.map((row) => ({
        id: text(row, "id"),
        run: Number(row.number),
        pipeline: text(row, "pipeline"),
        load: text(row, "load"),
        target: text(row, "target"),
        code: text(row, "code"),
        column: row.col ?? null,
        reason: text(row, "reason"),
        message: text(row, "message"),
        key: JSON.parse(row.key ?? "null"),
        original: JSON.parse(row.original ?? "null"),
        at: text(row, "at"),
        told: JSON.parse(row.told ?? "null"),
        gone: row.gone === "t",
      })),
      counts: counts.map((row) => ({
        pipeline: text(row, "pipeline"),
        load: text(row, "load"),
        target: text(row, "target"),
        reason: text(row, "reason"),
        rows: text(row, "rows"),
        run: Number(row.run),
      })),
    };
  } finally {
    await session.close();
  }
}

/** The rejected rows that a filter lets through, by pipeline and run. */
export async function rejectedChoices(
  credentials: ServerCredentials,
  filter: reject.RejectedFilter,
  most: number,
): Promise<RejectedChoice[]> {
  const session = await Session.open(credentials, { application: "undercoat list", readOnly: true });
  try {
    if ((await houseVersion(session)) === 0) return [];
    const asked = reject.rejectedIds(filter, most);
    const choices = new Map<string, RejectedChoice>();
    for (const row of await session.query(asked.sql, asked.values)) {
      const [pipeline, load] = [text(row, "pipeline"), text(row, "load")];
      const run = Number(row.run);
      const name = JSON.stringify([pipeline, run]);
      const choice = choices.get(name) ?? { pipeline, run, loads: [], ids: [] };
      if (!choice.loads.includes(load)) choice.loads.push(load);
      choice.ids.push(text(row, "id"));
      choices.set(name, choice);
    }
    return [...choices.values()];
  } finally {
    await session.close();
  }
}

/** The rejected rows of a load as a stream of CSV; its end closes the session. */
export async function exportRejected(credentials: ServerCredentials, filter: reject.RejectedFilter): Promise<Readable> {
  const session = await Session.open(credentials, { application: "undercoat export", readOnly: true });
  try {
    const asked = reject.originalColumns(filter);
    const columns = (await session.query(asked.sql, asked.values)).map((row) => row.name ?? "");
    const stream = await session.copyOut(reject.exportRejected(filter, columns));
    stream.once("close", () => session.close());
    return stream;
  } catch (error) {
    await session.close();
    throw error;
  }
}
