import { useQuery } from "@tanstack/react-query";
import type { BothColumns } from "@undercoat/core/api/api";
import { type ComputedColumn, computedColumn, type Load } from "@undercoat/core/pipeline/pipeline";
import { queries } from "../api/queries.ts";
import { useChosen } from "../values/chosen.ts";

/** One warehouse column of a load as the editors change it. */
export interface ShapeColumn extends ComputedColumn {
  name: string;
}

/** A load's warehouse columns in order; those of the source where the load does not say. */
export function shapeColumns(load: Load, source: BothColumns["source"]): ShapeColumn[] {
  if (!load.columns) return source.map(({ name }) => ({ name, as: name }));
  return Object.entries(load.columns).map(([name, entry]) => ({ name, ...computedColumn(entry) }));
}

/** The load with other columns; where they are just the source's own, nothing is said of them, unless `named` asks for it. */
export function withColumns(
  load: Load,
  columns: readonly ShapeColumn[],
  source: BothColumns["source"],
  named = false,
): Load {
  const { columns: _, ...rest } = load;
  const plain =
    columns.length === source.length &&
    columns.every((column, at) => column.name === column.as && !column.type && source[at]?.name === column.name);
  return plain && !named
    ? rest
    : { ...rest, columns: Object.fromEntries(columns.map(({ name, as, type }) => [name, type ? { as, type } : as])) };
}

/** True for a text that looks like a column's name and is none of the source's. */
export function isMissing({ as }: ShapeColumn, source: BothColumns["source"]): boolean {
  return /^[\p{L}_][\p{L}\p{N}_ ]*$/u.test(as) && !source.some((column) => column.name === as);
}

/** The columns of both sides as they are now. */
export function useBothColumns(load: Load, warehouse: string) {
  const { declared, given } = useChosen();
  return useQuery(queries.columns({ from: load.from, warehouse, table: load.into.table, declared, given }));
}
