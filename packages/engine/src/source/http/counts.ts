import type { LoadPlan } from "@undercoat/core/plan/plan";
import { sliceBounds } from "@undercoat/core/proof/bounds";
import { Refused } from "../../http/client.ts";
import type { OwnCounts } from "../source.ts";

/** How an application that counts what it is asked for is asked for counts, by parameters. */
export interface Counting {
  /** for the count alone */
  alone: Record<string, string>;
  /** for the records of a slice by one of its members; bounds are null for those without a value */
  slice(member: string, bounds: { from: string; to: string } | null): Record<string, string>;
}

/**
 * How many records an application says there are, in all and in some slices; null where it does not say.
 * @param count asks for a count with more parameters; null where none came
 * @param fits the type of each member of a record
 */
export async function countsOf(
  count: (parameters: Record<string, string>) => Promise<string | null>,
  counting: Counting | undefined,
  { prove: { slicing }, read }: LoadPlan,
  fits: ReadonlyMap<string, string>,
  slices: readonly (string | null)[],
): Promise<Omit<OwnCounts, "moved"> | null> {
  const total = await count({ ...counting?.alone });
  if (total === null) return null;
  const found = new Map<string | null, string>();
  const source = read.columns.find(({ name }) => name === slicing?.column)?.source ?? null;
  // What is computed, or cast to another type, is nothing that the application could be asked for.
  if (!slicing || !counting || source === null || fits.get(source) !== slicing.type) return { total, slices: found };
  for (const slice of slices) {
    const bounds = slice === null ? null : sliceBounds(slicing, slice);
    if (slice !== null && !bounds) continue;
    const records = await count({ ...counting.alone, ...counting.slice(source, bounds) }).catch((error: unknown) => {
      if (error instanceof Refused) return null;
      throw error;
    });
    // What it does not filter by it does not for other slices either.
    if (records === null) break;
    found.set(slice, records);
  }
  return { total, slices: found };
}
