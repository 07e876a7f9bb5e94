import type { Dataset, TimeColumn } from "@undercoat/core/dataset/dataset";
import type { TableName } from "@undercoat/core/sql/identifier";
import { columnEnds, columnGrain } from "@undercoat/core/sql/look";
import { typeFamily } from "@undercoat/core/sql/type";
import type { Session } from "../../postgres/session.ts";
import { rankTimes } from "../time.ts";

/** Rows looked at to tell how fine a column's values are. */
const sample = 10_000;

/** Which columns could tell what changed, the likeliest first, with their range and grain. */
export function timeColumns(session: Session, table: TableName, dataset: Dataset): Promise<TimeColumn[]> {
  const types = new Map(dataset.columns.map((column) => [column.name, column.warehouseType]));
  return rankTimes(dataset, async (column, indexed) => {
    const moment = typeFamily(types.get(column) ?? "") === "moment";
    const looked = moment ? await session.one(columnGrain(table, column, sample)) : {};
    return { ...looked, ...(indexed ? await session.one(columnEnds(table, column)) : {}) };
  });
}
