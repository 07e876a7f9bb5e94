import type { Role } from "@undercoat/core/api/api";
import { resolvedAll } from "@undercoat/core/parameter/resolve";
import { lineText } from "@undercoat/core/plan/plan";
import { hiddenValue } from "@undercoat/core/run/rejected";
import { personalColumns } from "@undercoat/core/shape/personal";
import { plainName } from "@undercoat/core/sql/identifier";
import { PipelineRow } from "../store/models.ts";

/** What a shape hashes is hidden from viewers; an editor writes expressions and sees the source with them anyway. */
export const maySeePersonal = ({ role }: { role: Role }): boolean => role !== "viewer";

/** The source's columns whose values somebody may not see, by `pipeline/load`. */
export async function hiddenFrom(user: { role: Role }): Promise<Record<string, string[]>> {
  if (maySeePersonal(user)) return {};
  const hidden: Record<string, string[]> = {};
  for (const { name, definition } of await PipelineRow.findAll())
    for (const [load, entry] of Object.entries(definition.loads)) {
      const columns = await personalColumns(entry);
      // A line that is no row is kept as it stands, whatever its fields are.
      if (columns.length)
        hidden[`${name}/${load}`] = [
          ...columns,
          ...(entry.from.files === undefined && entry.from.path === undefined ? [] : [lineText]),
        ];
    }
  return hidden;
}

/** The columns of a source's table that any load from it hides; `table` as `formatTableName` writes it. */
export async function hiddenOf(user: { role: Role }, connection: string, table: string): Promise<string[]> {
  const hidden = await hiddenFrom(user);
  if (Object.keys(hidden).length === 0) return [];
  const all = await PipelineRow.findAll();
  return all.flatMap(({ name, definition }) =>
    resolvedAll(definition, Date.now()).flatMap(({ definition: { loads } }) =>
      Object.entries(loads).flatMap(([load, { from }]) =>
        from.connection === connection &&
        // Which files a pattern fits is known where they lie; what one load hides of any is hidden of all.
        (from.files !== undefined ||
          [from.table ?? [], Object.values(from.tables ?? {})]
            .flat()
            .some((one) => plainName(one) === plainName(table)))
          ? (hidden[`${name}/${load}`] ?? [])
          : [],
      ),
    ),
  );
}

/** A row without the values of hidden columns. */
export function withoutHidden(row: Record<string, string | null>, hidden: readonly string[]): typeof row {
  return {
    ...row,
    ...Object.fromEntries(hidden.filter((name) => Object.hasOwn(row, name)).map((name) => [name, hiddenValue])),
  };
}
