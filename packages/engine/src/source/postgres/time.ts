import type { Dataset, TimeColumn } from "@undercoat/core/dataset/dataset";
import { namedFor } from "@undercoat/core/dataset/naming";
import type { TableName } from "@undercoat/core/sql/identifier";
import { columnEnds, columnGrain } from "@undercoat/core/sql/look";
import { canBeWatermark, typeFamily } from "@undercoat/core/sql/type";
import type { Session } from "../../postgres/session.ts";

/** Rows looked at to tell how fine a column's values are. */
const sample = 10_000;

/** How well a column's name and type say that it moves whenever its row does; higher is better. */
export function watermarkScore(column: Dataset["columns"][number], indexed: boolean): number {
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

/** Which columns could tell what changed, the likeliest first, with their range and grain. */
export async function timeColumns(session: Session, table: TableName, dataset: Dataset): Promise<TimeColumn[]> {
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
    const looked = moment ? await session.one(columnGrain(table, column.name, sample)) : {};
    const ends = indexed ? await session.one(columnEnds(table, column.name)) : looked;
    result.push({
      column: column.name,
      type: column.warehouseType,
      earliest: ends.earliest ?? null,
      latest: ends.latest ?? null,
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
