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

/**
 * What the change of each column should do, by its name and type: contacts and remarks are corrected rather than
 * remembered, dates of a beginning don't change, times of being touched say nothing; the rest opens a version.
 * @param columns of the warehouse, without the key's
 */
export function suggestChanges(columns: readonly { name: string; type: string }[]): Record<string, ChangeSuggestion> {
  return Object.fromEntries(columns.map((column) => [column.name, suggestChange(column)]));
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
