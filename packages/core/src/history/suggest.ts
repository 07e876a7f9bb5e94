import type { ColumnChange } from "../pipeline/pipeline.ts";
import { typeFamily } from "../sql/type.ts";

/** What a column's change should do, and why. */
export interface ChangeSuggestion {
  change: ColumnChange;
  why: string;
}

const contact = /(phone|mobile|fax|e?_?mail|website|url|contact)/i;
const remark = /(note|remark|comment|description|memo)/i;
const born = /(^|_)(born|birth|built|launched|founded|created|registered|inserted|opened|joined|first)(_|$)/i;
const touched = /(updated|modified|changed|synced|seen|login|last_)/i;

/** Two readings of one key's row, the earlier and the later, by column. */
export type Reading = readonly [Record<string, string | null>, Record<string, string | null>];

/** So many changed rows at least say something about how often a column changes. */
const fewestChanged = 8;

/**
 * What the change of each column should do. By its name and type: contacts and remarks are corrected rather than
 * remembered, dates of a beginning don't change, times of being touched say nothing; the rest opens a version. What two
 * readings show comes first: a column that differs nearly whenever anything does would open a version at every read.
 * @param columns of the warehouse, without the key's
 * @param readings of rows that were read before and again
 */
export function suggestChanges(
  columns: readonly { name: string; type: string }[],
  readings: readonly Reading[] = [],
): Record<string, ChangeSuggestion> {
  const telling = (name: string) => touched.test(name);
  const differs = (name: string) => (reading: Reading) => reading[0][name] !== reading[1][name];
  const changed = readings.filter((reading) =>
    columns.some(({ name }) => Object.hasOwn(reading[0], name) && !telling(name) && differs(name)(reading)),
  );
  return Object.fromEntries(
    columns.map((column) => {
      const suggestion = suggestChange(column);
      const often = changed.filter(differs(column.name)).length;
      const seen = changed.length >= fewestChanged && often * 10 >= changed.length * 9;
      return [
        column.name,
        seen && suggestion.change === "version" && columns.length > 1
          ? {
              change: "overwrite",
              why: `${column.name} differs in ${often} of ${changed.length} rows that changed since the last load; it would open a version at nearly every read`,
            }
          : suggestion,
      ];
    }),
  );
}

/**
 * The readings that live rows hold: each beside the warehouse's row of its key, and rows of one key beside each other, as a
 * source that keeps a log gives them.
 */
export function readingsOf(
  rows: readonly {
    values: Record<string, string | null>;
    held: Record<string, string | null> | null;
    rejected: string | null;
  }[],
  key: readonly string[],
): Reading[] {
  const taken = rows.filter((row) => row.rejected === null);
  const last = new Map<string, Record<string, string | null>>();
  return taken.flatMap(({ values, held }) => {
    const name = JSON.stringify(key.map((column) => values[column]));
    const before = last.get(name) ?? held;
    last.set(name, values);
    return before ? [[before, values] as const] : [];
  });
}

function suggestChange({ name, type }: { name: string; type: string }): ChangeSuggestion {
  if (touched.test(name) && typeFamily(type) === "moment")
    return { change: "overwrite", why: `${name} tells when a row was touched, which is no change of what it says` };
  if (born.test(name)) return { change: "keep", why: `${name} tells of a beginning, which stays what it was` };
  if (contact.test(name))
    return { change: "overwrite", why: `${name} is how to reach somebody; an old one is of no use` };
  if (remark.test(name)) return { change: "overwrite", why: `${name} is a remark; the latest counts` };
  if (["json", "jsonb"].includes(type))
    return { change: "overwrite", why: `${name} is a document; its every change would open a version` };
  return { change: "version", why: `figures by ${name} must stay what they were` };
}
