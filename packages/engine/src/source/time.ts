import type { Dataset, TimeColumn } from "@undercoat/core/dataset/dataset";
import { namedFor } from "@undercoat/core/dataset/naming";
import { canBeWatermark, typeFamily } from "@undercoat/core/sql/type";
import type { Row } from "../connection/credentials.ts";

/** How well a column's name and type say that it moves whenever its row does; higher is better. */
function watermarkScore(column: Dataset["columns"][number], indexed: boolean): number {
  const moment = typeFamily(column.warehouseType) === "moment";
  if (!moment) return 0;
  const name = { changes: 60, arrivals: 25, none: 0 }[namedFor(column.name) ?? "none"];
  const fine = column.warehouseType === "date" ? 0 : 15;
  return name + (name ? fine + (indexed ? 10 : 0) + (column.notNull ? 10 : 0) : 0);
}

function why(column: Dataset["columns"][number], indexed: boolean): string {
  if (typeFamily(column.warehouseType) === "integer") return "grows with new rows, but does not tell of changed ones";
  const named = {
    changes: "named for changes",
    arrivals: "tells of new rows, not of changed ones",
    none: "a time, but not named for changes",
  }[namedFor(column.name) ?? "none"];
  return `${named}${indexed ? "" : "; no index starts with it, so every run reads the whole table"}`;
}

/**
 * Which columns of a dataset could tell what changed, the likeliest first.
 * @param look a column's `earliest`, `latest`, `grain` and how many rows that was `sampled` from; its ends come from an index where it is indexed
 */
export async function rankTimes(
  dataset: Dataset,
  look: (column: string, indexed: boolean) => Promise<Row>,
): Promise<TimeColumn[]> {
  const leading = new Set(dataset.indexes.map((index) => index.columns[0]));
  const unique = new Set(
    dataset.indexes.filter((index) => index.unique && index.columns.length === 1).map((index) => index.columns[0]),
  );
  const candidates = dataset.columns
    .filter(
      (column) =>
        canBeWatermark(column.warehouseType) &&
        (typeFamily(column.warehouseType) === "moment" || unique.has(column.name)),
    )
    .map((column) => ({ column, score: watermarkScore(column, leading.has(column.name)) }))
    .sort((a, b) => b.score - a.score);
  const result: TimeColumn[] = [];
  for (const { column, score } of candidates) {
    const indexed = leading.has(column.name);
    const moment = typeFamily(column.warehouseType) === "moment";
    const looked = moment || indexed ? await look(column.name, indexed) : {};
    result.push({
      column: column.name,
      type: column.warehouseType,
      earliest: looked.earliest ?? null,
      latest: looked.latest ?? null,
      grain: moment ? ((looked.grain as TimeColumn["grain"]) ?? null) : "whole number",
      nulls: !column.notNull,
      indexed,
      sampled: indexed ? null : (looked.sampled ?? null),
      suggested: result.length === 0 && score >= 60,
      why: why(column, indexed),
    });
  }
  return result;
}
