import { type Dataset, type DatasetColumn, identifyingKey } from "../dataset/dataset.ts";
import { namedFor } from "../dataset/naming.ts";
import { periodsOf } from "../http/periods.ts";
import { formatFigure } from "../proof/figure.ts";
import { formatTableName, type TableName } from "../sql/identifier.ts";
import { canBeWatermark, typeFamily } from "../sql/type.ts";
import type { From, Load, SliceUnit } from "./pipeline.ts";

/** The type in which a column's values stand: of texts, the one that they fit. */
const standingType = (column: DatasetColumn) => column.fits ?? column.warehouseType;

const money = /(amount|fare|price|total|cost|fee|sum|balance|paid|value)/i;

/** The time column that moves whenever a row does, else null. */
export function suggestWatermark(
  dataset: Dataset,
  { since }: Pick<From, "since"> = {},
): { column: string; tells: "changes" | "arrivals" } | null {
  // Which files are new is known by the files; an application must be able to be asked for what changed.
  if (dataset.lines) {
    if (dataset.proposal?.tracked) return null;
    const changes = since || dataset.proposal?.asksChanges ? dataset.proposal?.changes : null;
    return changes ? { column: changes, tells: "changes" } : null;
  }
  const moments = dataset.columns.filter(
    (column) =>
      typeFamily(column.warehouseType) === "moment" &&
      column.warehouseType !== "date" &&
      canBeWatermark(column.warehouseType),
  );
  const changing = moments.find((column) => namedFor(column.name) === "changes");
  if (changing) return { column: changing.name, tells: "changes" };
  const [only, ...more] = moments;
  const arriving = more.length === 0 && (namedFor(only?.name ?? "") || only?.name.endsWith("_at")) ? only : undefined;
  return arriving ? { column: arriving.name, tells: "arrivals" } : null;
}

/** Slices follow the time a row is about rather than the time it was last touched. */
function suggestSlices(dataset: Dataset, origin: string | undefined): { column: string; slice: SliceUnit } | null {
  // Of files each is proved by itself.
  if (dataset.lines && origin) return { column: origin, slice: "origin" };
  const moments = dataset.columns.filter((column) => typeFamily(standingType(column)) === "moment");
  const lasting = moments.filter((column) => namedFor(column.name) !== "changes");
  const dates = lasting.filter((column) => standingType(column) === "date");
  const best = dates.find((column) => column.notNull) ?? dates[0] ?? lasting.find((column) => column.notNull);
  return best ? { column: best.name, slice: "day" } : null;
}

/**
 * A first load for a table, from its key, types and names; every part can be changed.
 * @returns the load and, in a sentence, why it is so
 */
export function suggestLoad(from: From, into: TableName, dataset: Dataset): { load: Load; why: string } {
  // What identifies a row within a report is not told by a few of its rows.
  const key = periodsOf(from)
    ? null
    : (identifyingKey(dataset) ?? (dataset.proposal?.key.length ? dataset.proposal.key : null));
  const periods = periodsOf(from);
  const watermark = periods ? null : suggestWatermark(dataset, from);
  const slices = periods ? { column: periods.column, slice: periods.unit } : suggestSlices(dataset, from.origin);
  const numbers = dataset.columns.filter(
    (column) =>
      ["numeric", "integer"].includes(typeFamily(standingType(column))) &&
      money.test(column.name) &&
      !key?.includes(column.name),
  );
  const figures = [
    "rows",
    ...numbers.slice(0, 2).map((column) => formatFigure("sum", column.name)),
    ...(watermark ? [formatFigure("max", watermark.column)] : []),
  ];
  // Without a key, a row that changes would be appended once more.
  const mode = key ? "upsert" : watermark?.tells === "arrivals" ? "append" : "replace";
  const load: Load = {
    from,
    ...(watermark && mode !== "replace" ? { watermark: { column: watermark.column, lookBack: "PT10M" } } : {}),
    into: { table: formatTableName(into), mode, ...(key ? { key } : {}) },
    proof: { ...(slices ? { by: slices } : {}), figures },
  };
  const identified = key
    ? `${key.join(", ")} identif${key.length > 1 ? "y" : "ies"} a row`
    : "no key tells its rows apart";
  const read =
    dataset.proposal?.tracked && mode !== "replace"
      ? "the application itself tells what changed and what was deleted"
      : dataset.lines && !watermark
        ? "every run reads all of it"
        : !watermark
          ? "no column tells what changed, so every run reads the whole table"
          : mode === "replace"
            ? "a changed row could not be matched with its earlier self, so every run reads the whole table"
            : watermark.tells === "changes"
              ? `${watermark.column} tells what changed`
              : `${watermark.column} tells of new rows, but not of changed ones`;
  return {
    load,
    why: periods ? `each ${periods.unit} of the report takes the place of its own rows` : `${identified}; ${read}`,
  };
}
