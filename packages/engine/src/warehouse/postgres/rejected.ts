import type { Readable } from "node:stream";
import type { RejectedList } from "@undercoat/core/api/api";
import * as reject from "@undercoat/core/sql/reject";
import { isFurnished } from "@undercoat/core/sql/warehouse";
import { type Credentials, type Row, Session } from "../../session.ts";

const text = (row: Row, name: string) => row[name] ?? "";

/** Rejected rows that a filter lets through, the latest first, and how many each load has for each reason. */
export async function listRejected(credentials: Credentials, filter: reject.RejectedFilter, limit: number, offset: number): Promise<RejectedList> {
  const session = await Session.open(credentials, { application: "undercoat list", readOnly: true });
  try {
    if ((await session.one(isFurnished)).furnished !== "t") return { rows: [], counts: [] };
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
        gone: row.gone === "t",
      })),
      counts: counts.map((row) => ({ pipeline: text(row, "pipeline"), load: text(row, "load"), target: text(row, "target"), reason: text(row, "reason"), rows: text(row, "rows"), run: Number(row.run) })),
    };
  } finally {
    await session.close();
  }
}

/** The rejected rows of a load as a stream of CSV; its end closes the session. */
export async function exportRejected(credentials: Credentials, filter: reject.RejectedFilter): Promise<Readable> {
  const session = await Session.open(credentials, { application: "undercoat export", readOnly: true });
  const asked = reject.originalColumns(filter);
  const columns = (await session.query(asked.sql, asked.values)).map((row) => row.name ?? "");
  const stream = session.copyOut(reject.exportRejected(filter, columns));
  stream.once("close", () => session.close());
  return stream;
}
