import type { Mark } from "@undercoat/core/mark/mark";

/** What became of a mark: it arrived; it surely did not; or nobody knows. */
export type Arrival = { state: "sent" } | { state: "refused" | "unsure"; why: string };

/** Who tells a source of rows that were turned away. Each mark is sent once. */
export interface Teller {
  /** @param key names the row for good, so that who hears of it twice can know */
  send(mark: Mark, key: string): Promise<Arrival>;
  close(): Promise<void>;
}

/** True where a statement that was to change rows changed none, of a kind that names them. */
export const changesNone = (sql: string, rows: number): boolean => rows === 0 && /^\s*(update|delete)\b/i.test(sql);
