import type { Dataset, TimeColumn } from "@undercoat/core/dataset/dataset";
import { typeFamily } from "@undercoat/core/sql/type";

/** The columns of an application's records that could tell what changed, by their types and names: nothing else can be asked. */
export function timesOf({ columns, proposal }: Dataset): TimeColumn[] {
  return columns
    .filter(({ fits = "text" }) => ["moment", "integer"].includes(typeFamily(fits)))
    .map(({ name, fits = "text" }) => ({
      column: name,
      type: fits,
      earliest: null,
      latest: null,
      grain: null,
      nulls: true,
      indexed: true,
      sampled: null,
      suggested: name === proposal?.changes,
      why: name === proposal?.changes ? "its name says that it changes with its record" : "its values could tell",
    }));
}
