import { type Dataset, identifyingKey } from "../dataset/dataset.ts";
import { formatFigure } from "../proof/figure.ts";
import { formatTableName, type TableName } from "../sql/identifier.ts";
import { canBeWatermark, typeFamily } from "../sql/type.ts";
import type { Load, SliceUnit } from "./pipeline.ts";

const changes = /(updated|modified|changed)/i;
const arrivals = /(created|inserted|added|recorded|scanned|occurred|logged|_at$)/i;
const money = /(amount|fare|price|total|cost|fee|sum|balance|paid|value)/i;

/** A name that can stand in an address and on a command line. */
export function slugOf(text: string): string {
  const plain = text
    .normalize("NFKD")
    .replace(/[\u0300-\u036f]/g, "")
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-|-$/g, "");
  return plain.slice(0, 63) || "load";
}

/** True where a name matches a pattern in which `*` stands for any characters. */
export function matchesPattern(name: string, pattern: string): boolean {
  const parts = pattern.split("*").map((part) => part.replace(/[.+?^${}()|[\]\\]/g, "\\$&"));
  return new RegExp(`^${parts.join(".*")}$`, "su").test(name);
}

/** The time column that moves whenever a row does, else null. */
export function suggestWatermark(dataset: Dataset): { column: string; tells: "changes" | "arrivals" } | null {
  const moments = dataset.columns.filter(
    (column) =>
      typeFamily(column.warehouseType) === "moment" &&
      column.warehouseType !== "date" &&
      canBeWatermark(column.warehouseType),
  );
  const changing = moments.find((column) => changes.test(column.name));
  if (changing) return { column: changing.name, tells: "changes" };
  const arriving = moments.length === 1 ? moments.find((column) => arrivals.test(column.name)) : undefined;
  return arriving ? { column: arriving.name, tells: "arrivals" } : null;
}

/** Slices follow the time a row is about rather than the time it was last touched. */
function suggestSlices(dataset: Dataset): { column: string; slice: SliceUnit } | null {
  const moments = dataset.columns.filter((column) => typeFamily(column.warehouseType) === "moment");
  const lasting = moments.filter((column) => !changes.test(column.name) && column.notNull);
  const best = lasting.find((column) => column.warehouseType === "date") ?? lasting[0];
  return best ? { column: best.name, slice: "day" } : null;
}

/**
 * A first load for a table, from its key, types and names; every part can be changed.
 * @returns the load and, in a sentence, why it is so
 */
export function suggestLoad(
  connection: string,
  table: TableName,
  targetSchema: string,
  dataset: Dataset,
): { load: Load; why: string } {
  const key = identifyingKey(dataset);
  const watermark = suggestWatermark(dataset);
  const slices = suggestSlices(dataset);
  const numbers = dataset.columns.filter(
    (column) =>
      ["numeric", "integer"].includes(typeFamily(column.warehouseType)) &&
      money.test(column.name) &&
      !key?.includes(column.name),
  );
  const figures = [
    "rows",
    ...numbers.slice(0, 2).map((column) => formatFigure("sum", column.name)),
    ...(watermark ? [formatFigure("max", watermark.column)] : []),
  ];
  const mode = key ? "upsert" : watermark ? "append" : "replace";
  const load: Load = {
    from: { connection, table: formatTableName(table) },
    ...(watermark && mode !== "replace" ? { watermark: { column: watermark.column, lookBack: "PT10M" } } : {}),
    into: { table: formatTableName({ schema: targetSchema, table: table.table }), mode, ...(key ? { key } : {}) },
    proof: { ...(slices ? { by: slices } : {}), figures },
  };
  const identified = key
    ? `${key.join(", ")} identif${key.length > 1 ? "y" : "ies"} a row`
    : "no key tells its rows apart";
  const read = !watermark
    ? "no column tells what changed, so every run reads the whole table"
    : watermark.tells === "changes"
      ? `${watermark.column} tells what changed`
      : `${watermark.column} tells of new rows, but not of changed ones`;
  return { load, why: `${identified}; ${read}` };
}
