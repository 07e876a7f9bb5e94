/** A row of any table, every value as text. */
export type Row = Record<string, string | null>;
