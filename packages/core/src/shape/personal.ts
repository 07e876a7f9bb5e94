import { admit } from "../expression/parse.ts";
import { computedColumn, type Load } from "../pipeline/pipeline.ts";

/** The source's columns that a load lets into the warehouse as a digest only: personal values, by what its shape says. */
export async function personalColumns({ columns = {} }: Load): Promise<string[]> {
  const digested = new Set<string>();
  const plain = new Set<string>();
  for (const entry of Object.values(columns)) {
    const { as } = computedColumn(entry);
    // A column taken as it is may have a name that is no expression.
    plain.add(as);
    const read = await admit(as, "column").catch(() => null);
    for (const column of read?.reads ?? []) (read?.digested.includes(column) ? digested : plain).add(column);
  }
  return [...digested].filter((column) => !plain.has(column));
}
